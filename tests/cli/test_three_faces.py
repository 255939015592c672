# SPDX-License-Identifier: GPL-3.0-or-later
"""The window's session, the command line and the Python face do the same to the same recording, sample for sample."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest
import soundfile
from tests.conftest import voice_in_noise

from pulizia import api
from pulizia.audio.source import read_padded
from pulizia.cli.main import main
from pulizia.delivery.deliverable import Deliverable
from pulizia.media.open import open_media
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.file import save_project
from pulizia.project.model import Project, Recording
from pulizia.score.recipe_library import find_recipe
from pulizia.score.recipes import recipe_text
from pulizia.score.steps import make_step
from pulizia.session.orders import Order, Stage
from pulizia.session.session import Session
from pulizia.session.sound_out import SimulatedOut

RATE = 48_000
UNUSUAL = [
    make_step("level", {"way": "gain", "gain_db": 6.0}), make_step("noise", {"reduction_db": 9.0}),
    make_step("equaliser", {"bands": [{"kind": "high-pass", "hz": 80.0, "slope_db_per_octave": 12}]}),
    make_step("clicks"), make_step("level", {"way": "gain", "gain_db": -4.0}), make_step("leveller", enabled=False),
]  # fmt: skip


@pytest.fixture
def take(wav: Callable[..., Path]) -> Path:
    """Two channels of a voice in noise with hum, of unequal level."""
    sound = voice_in_noise(5.0)
    hum = 0.01 * np.sin(2 * np.pi * 50.0 * np.arange(sound.shape[1]) / RATE)
    return wav((np.concatenate([sound, 0.5 * sound]) + hum).astype(np.float32), "take.wav")


@pytest.fixture
def session(take: Path) -> Iterator[Session]:
    made = Session(SimulatedOut())
    made.document.add_media(open_media(take))
    yield made
    made.close()
    assert made.pool.unexpected == []


@pytest.fixture(params=["unusual", "uneven-talkers"])
def recipe(request: pytest.FixtureRequest, tmp_path: Path) -> str:
    """A recipe as it is named on the command line; one in an order that no tool recommends."""
    if request.param != "unusual":
        return str(request.param)
    path = tmp_path / "unusual.json"
    path.write_text(recipe_text("Unusual", UNUSUAL, RATE, "In an order of its own."), encoding="utf-8")
    return str(path)


def sound_of(path: Path) -> np.ndarray:
    return soundfile.read(path, dtype="float32", always_2d=True)[0].T


def test_a_recipe_gives_the_same_samples(session: Session, take: Path, recipe: str, tmp_path: Path) -> None:
    session.document.apply_recipe({session.current_id: find_recipe(recipe)}, "replace")
    window = read_padded(session.chain.after, 0, session.chain.after.frames)
    python = api.open(take).with_steps(api.recipe(recipe)).read()
    assert main(["repair", str(take), "--recipe", recipe, "-o", str(tmp_path / "out.wav"), "--bits", "float"]) == 0
    assert np.array_equal(window, python)
    assert np.array_equal(window, sound_of(tmp_path / "out.wav"))
    assert not np.array_equal(window, sound_of(take))


@pytest.mark.slow
@pytest.mark.parametrize("target", ["ebu-r128", "atsc-a85"])
def test_a_delivery_gives_the_same_samples(session: Session, take: Path, target: str, tmp_path: Path) -> None:
    recipe = find_recipe("interview-on-location")
    session.document.apply_recipe({session.current_id: recipe}, "replace")
    files = [tmp_path / f"{name}.wav" for name in ("window", "line", "python")]
    order = Order(
        subject_id=session.current_id, name="take", path=files[0], wanted=Deliverable(), target=session.targets[target],
        way="limit", dual_mono=False, with_report=False, overwrite=False,
    )  # fmt: skip
    session.queue.add([order])
    line = ["deliver", str(take), "--recipe", "interview-on-location", "--target", target, "-o", str(files[1])]
    assert main(line) == 0
    api.open(take).with_steps(api.recipe("interview-on-location")).deliver(files[2], target)
    end = time.monotonic() + 60
    while order.stage in (Stage.WAITING, Stage.WORKING):
        assert time.monotonic() < end
        time.sleep(0.02)
    assert order.stage is Stage.DONE, order.message
    window, on_the_line, python = map(sound_of, files)
    assert np.array_equal(window, on_the_line)
    assert np.array_equal(window, python)


@pytest.mark.slow
def test_treating_what_is_found_gives_the_same_steps(session: Session, take: Path, tmp_path: Path) -> None:
    done: list[int] = []
    session.events.findings.connect(lambda *_: done.append(1))
    session.inspection.run()
    end = time.monotonic() + 120
    while not session.inspection.is_current:
        assert time.monotonic() < end
        time.sleep(0.02)
    session.inspection.treat_all()
    while session.inspection.is_treating:
        assert time.monotonic() < end
        time.sleep(0.02)
    score = session.recording.score
    assert {"hum", "noise"} <= {step.tool_id for step in score}
    assert main(["repair", str(take), "--treat", "-o", str(tmp_path / "out.wav"), "--bits", "float"]) == 0
    worked = session.chain.after
    assert np.array_equal(read_padded(worked, 0, worked.frames), sound_of(tmp_path / "out.wav"))


def test_a_programme_gives_the_same_samples(take: Path, wav: Callable[..., Path], tmp_path: Path) -> None:
    """Clips of two rates, one with a gain; steps of a recording, a lane and the programme."""
    first = Recording.of_media(open_media(take)).with_step(make_step("hum"))
    second = Recording.of_media(open_media(wav(voice_in_noise(4.0), "bert.wav", rate=44_100)))
    talk = Lane(name="Talk", gain_db=-2.0, steps=(make_step("leveller"),)).with_clips([
        Clip(recording_id=first.id, start=0, inner=RATE // 3, frames=2 * RATE, gain_db=1.5),
        Clip(recording_id=second.id, start=2 * RATE + 777, inner=RATE // 2, frames=2 * RATE),
    ])  # fmt: skip
    programme = Programme(name="Reel", rate=RATE, lanes=(talk,), steps=(make_step("limiter"),))
    job = tmp_path / "job.pulizia"
    save_project(Project(recordings=(first, second)).with_programme(programme), job)
    made = Session(SimulatedOut())
    try:
        made.files.open_project(job)
        end = time.monotonic() + 60
        while len(made.document.media) < 2:
            assert time.monotonic() < end
            time.sleep(0.02)
        made.assembly.choose_programme(programme.id)
        worked = made.assembly.sound.after
        window = read_padded(worked, 0, worked.frames)
    finally:
        made.close()
    line = ["render", str(job), "--programme", "Reel", "-o", str(tmp_path / "reel.wav"), "--bits", "float"]
    assert main(line) == 0
    assert np.array_equal(window, sound_of(tmp_path / "reel.wav"))
    assert float(np.abs(window).max()) > 0.05
