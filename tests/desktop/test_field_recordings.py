# SPDX-License-Identifier: GPL-3.0-or-later
"""Field recordings in the place of camera sound: start times of recorders and cameras decide where takes sound alike."""

from __future__ import annotations

import json
import shutil
import subprocess
from pathlib import Path

import numpy as np
import pytest
from tests.desktop.conftest import Person
from tests.measure.test_line_up import speech

from pulizia.audio.source import ArraySource
from pulizia.cli.main import main
from pulizia.delivery.deliver import write_source
from pulizia.delivery.deliverable import Deliverable
from pulizia.delivery.metadata import Metadata
from pulizia.media.broadcast import Broadcast, Loudness
from pulizia.project.file import load_project

RATE = 48_000
NOON = 12 * 3600
EVENT = "001  CAM  A  C  12:00:05:00 12:00:25:00 10:00:00:00 10:00:20:00\n"


def recorded(path: Path, sound: np.ndarray, start_s: float) -> Path:
    """A recorder's file with its start time."""
    metadata = Metadata(broadcast=Broadcast(frames_since_midnight=round(start_s * RATE)))
    write_source(
        ArraySource(sound[None], RATE), path, Deliverable(), lambda _s: None, metadata=metadata, loudness=Loudness()
    )
    return path


@pytest.fixture
def day(tmp_path: Path) -> Path:
    """A camera's file that began at noon, with the timecode in its video, and two recorders that heard the same words twice each."""
    if shutil.which("ffmpeg") is None:
        pytest.skip("FFmpeg is not installed")
    text = speech(16.0, seed=12)
    rng = np.random.default_rng(4)
    talk = np.concatenate([text, np.zeros(RATE), text, np.zeros(RATE)]).astype(np.float32)  # the same words once more
    (tmp_path / "sound").mkdir()
    recorded(tmp_path / "sound" / "right.wav", talk, NOON - 3.3)
    recorded(tmp_path / "sound" / "wrong.wav", np.roll(talk, 3 * RATE), NOON - 3600)
    heard = (0.5 * talk + rng.normal(0, 0.01, len(talk)))[round(3.3 * RATE) : round(31.3 * RATE)]
    recorded(tmp_path / "sound.wav", heard.astype(np.float32), 0.0)
    subprocess.run(
        ["ffmpeg", "-y", "-v", "error", "-f", "lavfi", "-i", "color=gray:size=32x32:rate=25:duration=28", "-i", "sound.wav",
         "-c:v", "mpeg4", "-c:a", "pcm_s16le", "-timecode", "12:00:00:02", "CAM.mov"], cwd=tmp_path, check=True,
    )  # fmt: skip
    (tmp_path / "sound.wav").unlink()
    return tmp_path


@pytest.mark.slow
def test_the_timecode_of_a_camera_decides_between_takes_of_the_same_words(person: Person, day: Path) -> None:
    person.open(day / "CAM.mov")
    session = person.window.session
    person.window.assembly.add_all()
    person.settle()
    person.open(day / "sound" / "wrong.wav")
    person.open(day / "sound" / "right.wav")
    session.assembly.select_all()
    session.field_recordings.use()
    person.until(lambda: "1 clip hears" in person.said, 60)
    (clip,) = session.assembly.programme.lanes[0].clips
    names = {r.id: r.name for r in session.document.project.recordings}
    assert names[clip.recording_id] == "right"
    assert clip.heard_at(clip.start) == pytest.approx(3.3 * RATE, abs=2.0)
    session.document.undo()
    camera = next(r for r in session.document.project.recordings if r.name == "CAM")
    session.assembly.change_programme("Set the start", start_frame=(NOON - 10) * 25)
    session.assembly.add_at_timecode(camera)
    starts = [c.start for lane in session.assembly.programme.lanes for c in lane.clips]
    assert max(starts) == (10 * 25 + 2) * RATE // 25  # two pictures after noon


def test_a_list_of_camera_clips_says_which_field_recordings_lie_there(day: Path, capsys) -> None:
    (day / "cut.edl").write_text("TITLE: CUT\nFCM: NON-DROP FRAME\n" + EVENT)
    words = ["assemble", str(day / "cut.edl"), "--media", str(day), "--json", "-o"]
    assert main([*words, str(day / "camera.pulizia")]) == 0
    json.loads(capsys.readouterr().out)
    (programme,) = load_project(day / "camera.pulizia").programmes
    there = "a field recording of the same moment is there: right.wav."
    assert [line for line in programme.received.report if there in line] == [f"CAM: {there}"]
    assert main([*words, str(day / "field.pulizia"), "--field-recordings"]) == 0
    json.loads(capsys.readouterr().out)
    project = load_project(day / "field.pulizia")
    assert [r.name for r in project.recordings] == ["right"]
    assert not any(there in line for line in project.programmes[0].received.report)
