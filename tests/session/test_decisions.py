# SPDX-License-Identifier: GPL-3.0-or-later
"""Small decisions of the session that nobody would miss at once: places in a row, ends of a walk, what is refused."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from pulizia.audio.spans import Span
from pulizia.media.open import open_media
from pulizia.session.heard import Listening
from pulizia.session.phrase_service import pauses_between
from pulizia.session.session import Session
from pulizia.session.sound_out import SimulatedOut
from pulizia.tools.finding import Finding, Mark


@pytest.fixture
def session(voice_file: Path) -> Iterator[Session]:
    """A session with one recording of six seconds, and what it says."""
    made = Session(SimulatedOut())
    made.document.add_media(open_media(voice_file))
    made.told = []
    made.events.message.connect(lambda text, _bad: made.told.append(text))
    yield made
    made.close()
    assert made.pool.unexpected == []


def tools_of(session: Session) -> list[str]:
    return [step.tool_id for step in session.recording.score]


@pytest.mark.parametrize(
    ("dragged", "row", "order"),
    [
        (0, 0, "abcd"), (0, 1, "abcd"), (0, 2, "bacd"), (0, 4, "bcda"), (3, 0, "dabc"), (3, 3, "abcd"), (3, 4, "abcd"), (1, 3, "acbd"), (2, 1, "acbd"),
    ],
)  # fmt: skip
def test_a_step_is_dropped_before_the_one_that_stood_at_the_row(
    session: Session, dragged: int, row: int, order: str
) -> None:
    names = {"a": "hum", "b": "level", "c": "fade", "d": "limiter"}
    for tool in names.values():
        session.document.add_step(session.current_id, tool, {})
    for place, tool in enumerate(names.values()):  # new steps are put where they belong: this is the order of the test
        step = next(s for s in session.recording.score if s.tool_id == tool)
        session.document.move_step(session.current_id, step.id, place)
    assert tools_of(session) == list(names.values())
    session.steps.drop(session.recording.score[dragged].id, row)
    assert tools_of(session) == [names[letter] for letter in order]


def test_the_same_file_is_added_once_and_its_copy_as_another(
    session: Session, voice_file: Path, tmp_path: Path
) -> None:
    first = session.current_id
    assert session.document.add_media(open_media(voice_file)) == first
    copy = tmp_path / "copy.wav"
    copy.write_bytes(voice_file.read_bytes())
    assert session.document.add_media(open_media(copy)) != first
    assert len(session.document.project.recordings) == 2


def test_the_places_of_a_finding_go_round_in_both_directions(session: Session) -> None:
    rate = session.recording.rate
    marks = tuple(Mark(round(s * rate), round(s * rate) + 100, "") for s in (1.0, 2.5, 4.0))
    finding = Finding("clicks", "Clicks.", 30.0, "a minute", 1.0, 0.8, "clicks", marks=marks)
    led = [round(s * rate) for s in (0.5, 2.0, 3.5)]  # half a second before each
    session.seek(0)
    for direction, expected in (
        (1, led[0]),
        (1, led[1]),
        (1, led[2]),
        (1, led[0]),
        (-1, led[2]),
        (-1, led[1]),
        (-1, led[0]),
        (-1, led[2]),
    ):
        places: list[int] = []
        session.events.shown.connect(lambda start, _stop, places=places: places.append(start))
        session.inspection.visit(finding, direction)
        session.transport.stop()
        session.seek(places[0])
        assert places[0] == expected


def test_trimming_wants_a_selection_and_says_so(session: Session) -> None:
    session.repairs.trim_to_selection()
    assert session.told == ["Select what to keep first."]
    assert session.recording.trim is None
    session.select(48_000, 96_000)
    session.repairs.trim_to_selection()
    assert session.recording.trim == Span(48_000, 96_000)
    assert session.selection is None


def test_restoring_where_no_step_acts_says_so(session: Session) -> None:
    session.repairs.give_back()
    session.select(48_000, 96_000)
    session.repairs.give_back()
    assert session.told == [
        "Select the words to restore first.", "No step applies to the selection: it is already the original.",
    ]  # fmt: skip
    session.document.add_step(
        session.current_id, "level", {"way": "gain", "gain_db": -6.0}
    )  # loudness stays everywhere
    session.document.add_step(session.current_id, "polarity", {"invert": "all"})
    session.repairs.give_back()
    assert {s.tool_id: s.holes for s in session.recording.score} == {"polarity": (Span(48_000, 96_000),), "level": ()}


def test_a_programme_is_heard_after_before_removed_and_by_step_of_what_is_in_view(
    session: Session, wav: Callable[..., Path]
) -> None:
    assembly, document = session.assembly, session.document
    assembly.add_recording(session.recording)
    programme = assembly.programme
    lane = next(lane for lane in programme.lanes if lane.clips)
    document.add_step(lane.id, "level", {"way": "gain", "gain_db": -6.0})
    document.add_step(programme.id, "level", {"way": "gain", "gain_db": -12.0})
    sound = assembly.sound
    dry = sound.after.read(96_000, 97_000) * 10 ** (18 / 20)
    assert np.abs(dry).max() > 0.01

    def heard(listening: Listening) -> np.ndarray:
        session.listening = listening
        return assembly.source.read(96_000, 97_000)

    expected = {
        "programme": {Listening.BEFORE: 10 ** (-6 / 20), Listening.REMOVED: 10 ** (-6 / 20) - 10 ** (-18 / 20)},
        "lane": {Listening.BEFORE: 10 ** (-12 / 20), Listening.REMOVED: 1 - 10 ** (-6 / 20)},
    }
    for scope, gains in expected.items():
        assembly.scope = scope
        assert np.allclose(heard(Listening.AFTER), dry * 10 ** (-18 / 20), atol=1e-6)
        for listening, gain in gains.items():
            assert np.allclose(heard(listening), dry * gain, atol=1e-5), (scope, listening)
    session.listening = Listening.AFTER


@given(st.lists(st.integers(0, 1000), min_size=0, max_size=8, unique=True).map(sorted), st.integers(1000, 1500))
def test_phrases_and_pauses_fill_a_recording(edges: list[int], frames: int) -> None:
    phrases = [Span(a, b) for a, b in zip(edges[::2], edges[1::2], strict=False)]
    pauses = pauses_between(phrases, frames)
    assert all(p.frames > 0 for p in pauses)
    covered = sorted([*phrases, *pauses], key=lambda s: s.start)
    assert covered[0].start == 0
    assert covered[-1].stop == frames
    assert all(a.stop == b.start for a, b in itertools.pairwise(covered))
