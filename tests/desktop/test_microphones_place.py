# SPDX-License-Identifier: GPL-3.0-or-later
"""A recorder's file with two microphones on the bench: findings, steps and choices of each by its name."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import Qt
from tests.desktop.conftest import Person
from tests.inspection.test_microphones import poly  # noqa: F401 - a fixture

RATE = 48_000


@pytest.mark.slow
def test_findings_and_steps_are_for_one_microphone_and_the_sheet_changes_which(
    person: Person,
    poly,  # noqa: F811
) -> None:
    person.open(poly)
    session, service = person.window.session, person.window.session.inspection
    service.run()
    person.until(lambda: service.is_current and not service.listening_to, 60)
    person.settle()
    rows = person.window.bench.list.findings.rows
    assert "hum:1" in rows
    assert "Mains hum, Anna lav" in rows["hum:1"].accessibleName()
    entry = next(e for e in service.entries() if e.id == "hum:1")
    service.treat(entry.now)
    person.settle()
    assert session.step.channels == (0,)
    assert service.treating_step(entry) == 1
    before, after = (source.read(0, RATE) for source in (session.chain.before, session.chain.after))
    np.testing.assert_array_equal(after[1], before[1])
    assert np.abs(after[0] - before[0]).max() > 0
    box = person.body.channels
    assert [box.itemText(n) for n in range(box.count())] == ["all channels", "only Anna lav", "only Bert lav"]
    assert box.currentIndex() == 1
    assert "Anna lav" in person.window.bench.score.accessible_words()
    box.setCurrentIndex(2)
    box.activated.emit(2)
    person.settle()
    assert session.step.channels == (1,)
    after = session.chain.after.read(0, RATE)
    np.testing.assert_array_equal(after[0], before[0])
    assert service.treating_step(entry) is None  # no step is for it any more
    session.document.undo()
    assert session.step.channels == (0,)
    service.leave("hum:1", leave=True)
    assert next(e for e in service.entries() if e.id == "hum:1").left


@pytest.mark.slow
def test_a_clip_plays_one_microphone_or_each_has_a_lane_of_its_own(person: Person, poly) -> None:  # noqa: F811
    person.open(poly)
    session, place = person.window.session, person.window.assembly
    person.window.go_to(1)
    place.add_all()
    person.settle()
    session.assembly.select_all()
    box = place.sheet.channel
    assert [box.itemText(n) for n in range(box.count())] == ["all channels", "Anna lav", "Bert lav"]
    assert box.currentIndex() == 0
    box.setCurrentIndex(2)
    box.activated.emit(2)
    person.settle()
    (clip,) = session.assembly.clips
    assert clip.channel == 1
    assert box.currentText() == "Bert lav"
    session.document.undo()
    session.assembly.select_all()
    person.window.actions_.actions["programme_microphones"].trigger()
    assert "onto a lane of its own first" in person.said
    person.window.actions_.actions["programme_spread"].trigger()
    person.settle()
    lanes = session.assembly.programme.lanes
    assert [(lane.name, [c.channel for c in lane.clips]) for lane in lanes][:2] == [("Voice", [0]), ("Bert lav", [1])]
    assert "laid out" in person.said
    person.window.actions_.actions["programme_microphones"].trigger()
    person.until(lambda: getattr(place, "microphones", None) is not None)
    box = place.microphones.choices[0]
    assert [box.itemText(n) for n in range(box.count())] == ["Voice, Anna lav", "Bert lav"]
    place.microphones.reject()
    session.document.undo()  # one entry of history
    assert [len(lane.clips) for lane in session.assembly.programme.lanes] == [1, 0]


@pytest.mark.slow
def test_noise_is_learned_for_each_microphone(person: Person, poly) -> None:  # noqa: F811
    person.open(poly)
    session = person.window.session
    person.mark(0.05, 0.6)
    person.key(Qt.Key.Key_N)
    person.settle()
    steps = session.recording.score
    assert [(s.tool_id, s.channels) for s in steps] == [("noise", (0,)), ("noise", (1,))]
    assert steps[0].settings == steps[1].settings
    assert session.step == steps[0]
    person.mark(0.8, 1.2)
    person.key(Qt.Key.Key_N)
    person.settle()
    assert [len(s.settings.profile_spans_s) for s in session.recording.score] == [2, 2]  # both learn it
    session.document.undo()
    assert [len(s.settings.profile_spans_s) for s in session.recording.score] == [1, 1]
    session.document.undo()
    assert not session.recording.score  # one deed
