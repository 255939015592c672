# SPDX-License-Identifier: GPL-3.0-or-later
"""Steps in the assembly: of a clip's recording, of a lane, of the programme; what each changes can be heard alone."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from tests.conftest import voice_in_noise
from tests.desktop.conftest import Person
from tests.desktop.test_assembly_place import at

from pulizia.audio.timeline import TimelineSource
from pulizia.desktop.bench.time_axis import GUTTER
from pulizia.session.heard import Listening

RATE = 48_000
K, M = Qt.Key, Qt.KeyboardModifier
HERE = (5 * RATE, 5 * RATE + 4800)


@pytest.fixture
def place(person: Person, wav: Callable[..., Path]) -> Person:
    """Two recordings of four and six seconds laid one after the other, the second on the lane of its own."""
    person.open(wav(voice_in_noise(4.0), "anna.wav"))
    person.open(wav(voice_in_noise(6.0), "bert.wav"))
    person.key(K.Key_F3)
    person.window.assembly.add_all()
    person.settle()
    return person


def heard(person: Person, listening: Listening, where: tuple[int, int] = HERE) -> np.ndarray:
    session = person.window.session
    session.set_listening(listening)
    return session.heard_source.read(*where).copy()


def level_of(person: Person, scope: int, gain_db: float) -> None:
    """Choose whose steps are shown with the mouse, and give it a Level step."""
    pane = person.window.assembly.steps
    edges = np.cumsum([0.0, *pane.scope._widths()])
    person.bot.mouseClick(
        pane.scope, Qt.MouseButton.LeftButton, pos=QPoint(round((edges[scope] + edges[scope + 1]) / 2), 14)
    )
    person.window.session.repairs.add_tool("level", on_selection=False)
    person.settle()
    person.window.assembly.step_sheet.body._change("way", "gain")
    person.window.assembly.step_sheet.body._change("gain_db", gain_db)
    person.settle()


@pytest.mark.slow
def test_steps_of_recording_lane_and_programme_are_heard_in_turn_and_alone(place: Person) -> None:
    session, service = place.window.session, place.window.session.assembly
    plain = heard(place, Listening.AFTER)
    place.bot.mouseClick(place.window.assembly.lanes, Qt.MouseButton.LeftButton, pos=at(place, 5.0))
    assert service.owner.name == "bert"  # a selected clip shows the steps of its recording
    level_of(place, 0, -6.0)
    level_of(place, 1, -3.0)
    level_of(place, 2, -1.0)
    assert [len(service.programme.steps), len(service.programme.lanes[0].steps)] == [1, 1]
    assert [len(r.score) for r in session.document.project.recordings] == [0, 1]
    assert np.allclose(heard(place, Listening.AFTER), plain * 10 ** (-10 / 20), atol=1e-6)
    first = (RATE, RATE + 4800)  # the other recording has no step of its own
    whole = heard(place, Listening.BEFORE, first)
    assert np.allclose(heard(place, Listening.AFTER, first), whole * 10 ** (-1 / 20), atol=1e-6)
    for scope, own_db, others_db in ((0, -6.0, -4.0), (1, -3.0, -7.0), (2, -1.0, -9.0)):
        service.select([service.programme.lanes[0].clips[1].id])
        service.choose_scope(("recording", "lane", "programme")[scope])
        assert np.allclose(heard(place, Listening.BEFORE), plain * 10 ** (others_db / 20), atol=1e-6)
        upstream = {0: 0.0, 1: -6.0, 2: -9.0}[scope]  # what is removed is not changed by what comes behind
        removed = plain * 10 ** (upstream / 20) * (1 - 10 ** (own_db / 20))
        assert np.allclose(heard(place, Listening.REMOVED), removed, atol=1e-6)
        assert np.allclose(heard(place, Listening.STEP), removed, atol=1e-6)
    service.select([service.programme.lanes[0].clips[1].id])
    assert not heard(place, Listening.REMOVED, first).any()  # of the other recording nothing was removed


def test_strips_lie_under_their_clip_and_are_switched_moved_and_limited(place: Person) -> None:
    window, session, service = place.window, place.window.session, place.window.session.assembly
    view = window.assembly.steps.steps
    place.bot.mouseClick(window.assembly.lanes, Qt.MouseButton.LeftButton, pos=at(place, 5.0))
    session.repairs.add_tool("hum", on_selection=False)
    place.settle()
    box = view.plan.strip_box(0, view.plan.spans(0)[0])
    lanes = window.assembly.axis
    assert box.left() == pytest.approx(GUTTER + lanes.x_at(4 * RATE), abs=1.0)
    assert box.right() == pytest.approx(GUTTER + lanes.x_at(10 * RATE), abs=1.0)
    dot = view.plan.dot_place(0)
    place.bot.mouseClick(view, Qt.MouseButton.LeftButton, pos=dot.toPoint())
    assert [s.enabled for s in service.owner.steps] == [False]
    assert window.assembly.step_sheet.isVisible()  # the step's settings took the place of the clip's
    place.key(K.Key_E, M.ShiftModifier)
    assert [s.enabled for s in service.owner.steps] == [True]
    # a section of the ruler over the clip limits the step there, on the recording's own clock
    service.select_span(6 * RATE, 7 * RATE)
    service.choose_scope("recording")
    session.repairs.add_tool("noise", on_selection=True)
    place.settle()
    noise = next(s for s in service.owner.steps if s.tool_id == "noise")
    assert [(s.start, s.stop) for s in noise.spans] == [(2 * RATE, 3 * RATE)]
    place.key(K.Key_G, M.ShiftModifier)  # the untouched take there again, as one edit
    assert all(any(h.start == 2 * RATE for h in s.holes) for s in service.owner.steps)
    session.document.undo()
    assert not any(s.holes for s in service.owner.steps)
    # a clip behind the end of its recording, as a shorter file leaves it, has no original to give back
    (last,) = service.programme.lanes[0].clips[1:2]
    far = service.programme.with_all_changed({last.id}, lambda c: replace(c, inner=10**7))
    session.document.edit_programme(far, "far")
    service.select([last.id])
    session.programme_steps.restore_original()
    assert "Select clips" in place.said
    service.choose_lane(service.programme.lanes[1].id)
    session.repairs.add_tool("hum", on_selection=False)
    session.programme_steps.paste_on_lanes()
    assert "no other lane" in place.said
    service.change_lane(service.programme.lanes[0].id, "kind", kind="atmosphere")
    session.programme_steps.paste_on_lanes()
    assert [[s.tool_id for s in lane.steps] for lane in service.programme.lanes] == [["hum"], ["hum"]]


def test_the_bench_keeps_its_step_and_is_up_to_date_on_return(place: Person) -> None:
    window, session = place.window, place.window.session
    place.key(K.Key_F2)
    session.repairs.add_tool("hum", on_selection=False)
    place.settle()
    kept = session.step_id
    place.key(K.Key_F3)
    session.assembly.choose_lane(session.assembly.programme.lanes[0].id)
    assert session.step is None
    place.key(K.Key_F2)
    assert session.step_id == kept
    assert window.bench.sheet.body.tool.id == "hum"


def test_the_last_whole_picture_stays_paler_until_the_new_one_is_there(place: Person) -> None:
    window, session = place.window, place.window.session
    pictures = window.bench.pictures
    recording = session.document.project.recordings[0].id
    before = pictures.of_chain(session.document.chain(recording))
    place.until(lambda: pictures.of_chain(session.document.chain(recording)).is_complete)
    known = before.columns(0, 512, 300)
    session.document.add_step(recording, "level", {"way": "gain", "gain_db": -6.0})
    picture = pictures.of_chain(session.document.chain(recording))
    at_once = picture.columns(0, 512, 300)
    assert at_once.older is not None
    assert at_once.older.all()
    assert np.array_equal(at_once.high, known.high)
    place.until(lambda: pictures.of_chain(session.document.chain(recording)).is_complete)
    made = pictures.of_chain(session.document.chain(recording)).columns(0, 512, 300)
    assert made.older is None
    assert np.allclose(made.high, known.high * 10 ** (-6 / 20), atol=2e-3)


def test_the_window_never_goes_through_all_clips_to_name_a_programme(
    place: Person, monkeypatch: pytest.MonkeyPatch
) -> None:
    """With thousands of clips that took half a second after every edit; workers do it, and measures come all the same."""
    session, named = place.window.session, list[bool]()
    part_key = TimelineSource._part_key

    def told(*args: object) -> object:
        named.append(threading.current_thread() is threading.main_thread())
        return part_key(*args)

    monkeypatch.setattr(TimelineSource, "_part_key", staticmethod(told))
    session.assembly.choose_scope("programme")
    session.repairs.add_tool("limiter", on_selection=False)
    place.settle()
    for deed in (
        lambda: session.assembly.select([session.assembly.programme.lanes[0].clips[0].id]), lambda: session.assembly.add_gain(-3.0), lambda: session.seek(2 * RATE),
        session.assembly.split, session.document.undo, session.assembly.ripple_delete, session.document.undo, session.play_or_stop,
    ):  # fmt: skip
        deed()
        place.bot.wait(60)
    session.play_or_stop()
    place.settle()
    assert len(named) > len(session.assembly.programme.lanes[0].clips)
    assert not any(named)
    assert session.measures("after") is not None
