# SPDX-License-Identifier: GPL-3.0-or-later
"""Media of a list: looked for in the given folders alone, and told apart where names are not enough."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from pulizia.cli.main import main
from pulizia.media.broadcast import Broadcast, Loudness
from pulizia.media.facts import media_facts
from pulizia.project.file import load_project

RATE = 48_000


def stamped(
    path: Path,
    seconds: float,
    start_s: float,
    *,
    channels: int = 1,
    scene: str = "",
    take: str = "",
    tape: str = "",
    names: tuple[str, ...] = (),
) -> None:
    """A field recording with a start time and iXML."""
    from pulizia.audio.source import ArraySource
    from pulizia.delivery.deliver import write_source
    from pulizia.delivery.deliverable import Deliverable
    from pulizia.delivery.metadata import Metadata

    rng = np.random.default_rng(int(start_s))
    samples = rng.normal(0, 0.05, (channels, round(seconds * RATE))).astype(np.float32)
    said = Broadcast(
        frames_since_midnight=round(start_s * RATE), scene=scene, take=take, tape=tape, channel_names=names
    )
    write_source(
        ArraySource(samples, RATE),
        path,
        Deliverable(),
        lambda _share: None,
        metadata=Metadata(broadcast=said),
        loudness=Loudness(),
    )


def test_media_are_found_by_name_take_reel_and_timecode_in_the_given_folders_alone(tmp_path: Path, capsys) -> None:
    day = tmp_path / "day1" / "sound"
    day.mkdir(parents=True)
    stamped(day / "T001.WAV", 20, 3600, scene="4A", take="2", tape="REEL1", channels=2)
    stamped(day / "T002.WAV", 20, 7200, tape="REEL2")
    stamped(tmp_path / "secret.wav", 20, 9000)
    assert media_facts(day / "T001.WAV").start == 3600
    text = (
        "FCM: NON-DROP FRAME\n"
        "001  REEL1    A     C        01:00:05:00 01:00:08:00 10:00:00:00 10:00:03:00\n"
        "002  REEL2    A     C        02:00:05:00 02:00:08:00 10:00:03:00 10:00:06:00\n"
        "003  NOREEL   A     C        02:00:10:00 02:00:12:00 10:00:06:00 10:00:08:00\n"
        "004  secret   A     C        02:30:01:00 02:30:02:00 10:00:08:00 10:00:09:00\n"
    )
    (tmp_path / "cut.edl").write_text(text)
    out = tmp_path / "cut.pulizia"
    assert (
        main(["assemble", str(tmp_path / "cut.edl"), "--media", str(tmp_path / "day1"), "-o", str(out), "--json"]) == 0
    )
    told = json.loads(capsys.readouterr().out)
    assert [(m["name"], m["found"]) for m in told["media"]] == [
        ("REEL1", "reel"),
        ("REEL2", "reel"),
        ("NOREEL", "timecode"),
        ("secret", ""),
    ]
    assert told["missing"] == ["secret"]
    (programme,) = load_project(out).programmes
    assert [c.inner / RATE for c in programme.lanes[0].clips[:3]] == [5, 5, 10]
    assert any("Missing: secret" in line for line in programme.received.report)
    assert (
        main(["render", str(out), "--programme", programme.name, "-o", str(tmp_path / "x.wav")]) == 0
    )  # silent there, and told
    assert "secret" in capsys.readouterr().out


def test_two_files_of_one_name_are_told_apart_by_what_the_list_plays_and_named(tmp_path: Path, capsys) -> None:
    for n, start in enumerate((3600, 7200)):
        folder = tmp_path / "m" / f"card{n}"
        folder.mkdir(parents=True)
        stamped(folder / "take.wav", 20, start)
    (tmp_path / "cut.edl").write_text("001 take A C 02:00:05:00 02:00:08:00 00:00:00:00 00:00:03:00\n")
    main(["assemble", str(tmp_path / "cut.edl"), "--media", str(tmp_path / "m"), "-o", str(tmp_path / "cut"), "--json"])
    (row,) = json.loads(capsys.readouterr().out)["media"]
    assert row["path"].endswith("card1/take.wav")
    assert any("card0" in remark for remark in row["remarks"])


@pytest.mark.parametrize(("names", "lanes"), [(("Anna", "Bert"), 2), ((), 1), (("L", "R"), 1)])
def test_microphones_of_a_recorder_stay_on_their_lanes_and_a_stereo_pair_is_one_clip(
    tmp_path: Path, names: tuple[str, ...], lanes: int
) -> None:
    stamped(tmp_path / "T001.WAV", 20, 3600, channels=2, tape="REEL1", names=names)
    (tmp_path / "cut.edl").write_text(
        "FCM: NON-DROP FRAME\n001  REEL1    AA    C        01:00:05:00 01:00:08:00 10:00:00:00 10:00:03:00\n"
    )
    out = tmp_path / "cut.pulizia"
    assert main(["assemble", str(tmp_path / "cut.edl"), "--media", str(tmp_path), "-o", str(out)]) == 0
    found = [[c.channel for c in lane.clips] for lane in load_project(out).programmes[0].lanes]
    assert found == ([[0], [1]] if lanes == 2 else [[None]])
