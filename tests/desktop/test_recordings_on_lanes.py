# SPDX-License-Identifier: GPL-3.0-or-later
"""Recordings of one moment become a programme with a lane for each, lined up, by one button of the empty place."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtWidgets import QAbstractButton
from tests.desktop.conftest import Person
from tests.desktop.test_field_recordings import NOON, RATE, recorded
from tests.measure.test_line_up import speech

from pulizia.session import line_up_service

LATER_S = 2.5


def _press(person: Person) -> None:
    buttons = person.window.assembly.findChildren(QAbstractButton)
    next(b for b in buttons if b.text() == "Line up recordings of one moment").click()
    person.settle()


def _sounds() -> tuple[np.ndarray, np.ndarray]:
    """What two recorders heard of one moment, the second one from LATER_S on."""
    text, rng = speech(20.0, seed=12).astype(np.float32), np.random.default_rng(4)
    other = 0.5 * text[round(LATER_S * RATE) :] + rng.normal(0, 0.01, len(text) - round(LATER_S * RATE))
    return text, other.astype(np.float32)


@pytest.mark.slow
def test_recordings_of_one_moment_get_a_lane_each_and_are_lined_up_by_sound(
    person: Person, wav: Callable[..., Path]
) -> None:
    first, second = _sounds()
    person.open(wav(first[None], "boom.wav"))
    session = person.window.session
    person.window.go_to(1)
    _press(person)
    assert session.assembly.programme is None  # one recording is not lined up with anything
    person.open(wav(second[None], "lavalier.wav"))
    person.window.go_to(1)
    _press(person)
    person.until(lambda: session.assembly.programme is not None)
    person.settle()
    programme = session.assembly.programme
    assert [lane.name for lane in programme.lanes] == ["boom", "lavalier", "Atmosphere"]
    clips = [lane.clips[0] for lane in programme.lanes[:2]]
    assert (clips[0].start, clips[0].inner) == (0, 0)
    assert abs(clips[1].start - clips[1].inner - LATER_S * RATE) <= 2
    assert session.assembly.clip_ids == {clip.id for clip in clips}
    while session.document.history.labels[0]:
        session.document.undo()
        if session.assembly.programme is None:
            break
    assert session.assembly.programme is None


def test_too_many_recordings_for_one_moment_are_refused_in_a_sentence(
    person: Person, wav: Callable[..., Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(line_up_service, "MOST_OF_ONE_MOMENT", 1)
    sound = 0.1 * speech(2.0, seed=3).astype(np.float32)[None]
    person.open(wav(sound, "a.wav"), wav(sound, "b.wav"))
    person.window.go_to(1)
    _press(person)
    assert person.window.session.assembly.programme is None
    assert "2 recordings are open, too many for one moment." in person.said


def test_start_times_say_where_recordings_lie_that_hear_nothing_of_each_other(person: Person, tmp_path: Path) -> None:
    recorded(tmp_path / "one.wav", speech(8.0, seed=1).astype(np.float32), NOON + 4.0)
    recorded(tmp_path / "two.wav", speech(8.0, seed=2).astype(np.float32), NOON)
    person.open(tmp_path / "one.wav", tmp_path / "two.wav")
    person.window.go_to(1)
    _press(person)
    person.until(lambda: person.window.session.assembly.programme is not None)
    person.settle()
    programme = person.window.session.assembly.programme
    assert [round(lane.clips[0].start / RATE, 3) for lane in programme.lanes[:2]] == [4.0, 0.0]


def test_a_recording_that_goes_while_start_times_are_read_ends_it_in_a_sentence(
    person: Person, wav: Callable[..., Path]
) -> None:
    sound = 0.1 * speech(2.0, seed=3).astype(np.float32)[None]
    person.open(wav(sound, "a.wav"), wav(sound, "b.wav"))
    session = person.window.session
    session.line_ups.lay_on_lanes()
    session.document.remove_recording(session.document.project.recordings[1].id)
    person.until(lambda: "changed meanwhile" in person.said)
    assert session.assembly.programme is None
