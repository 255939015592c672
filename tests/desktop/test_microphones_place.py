# SPDX-License-Identifier: GPL-3.0-or-later
"""A recorder's file with two microphones on the bench: findings, steps and choices of each by its name."""

from __future__ import annotations

import numpy as np
from tests.desktop.conftest import Person
from tests.inspection.test_microphones import poly  # noqa: F401 - a fixture

RATE = 48_000


def test_findings_and_steps_are_for_one_microphone_and_the_sheet_changes_which(
    person: Person,
    poly,  # noqa: F811
) -> None:
    person.open(poly)
    studio, desk = person.window.studio, person.window.studio.inspection
    desk.run()
    person.until(lambda: desk.is_current and not desk.listening_to, 60)
    person.settle()
    rows = person.window.bench.list.findings.rows
    assert "hum:1" in rows
    assert "Mains hum, Anna lav" in rows["hum:1"].accessibleName()
    entry = next(e for e in desk.entries() if e.id == "hum:1")
    desk.treat(entry.now)
    person.settle()
    assert studio.step.channels == (0,)
    assert desk.treating_step(entry) == 1
    before, after = (source.read(0, RATE) for source in (studio.chain.before, studio.chain.after))
    np.testing.assert_array_equal(after[1], before[1])
    assert np.abs(after[0] - before[0]).max() > 0
    box = person.body.channels
    assert [box.itemText(n) for n in range(box.count())] == ["all channels", "only Anna lav", "only Bert lav"]
    assert box.currentIndex() == 1
    assert "Anna lav" in person.window.bench.score.accessible_words()
    box.setCurrentIndex(2)
    box.activated.emit(2)
    person.settle()
    assert studio.step.channels == (1,)
    after = studio.chain.after.read(0, RATE)
    np.testing.assert_array_equal(after[0], before[0])
    assert desk.treating_step(entry) is None  # no step is for it any more
    studio.document.undo()
    assert studio.step.channels == (0,)
    desk.leave("hum:1", leave=True)
    assert next(e for e in desk.entries() if e.id == "hum:1").left


def test_a_clip_plays_one_microphone_or_each_has_a_lane_of_its_own(person: Person, poly) -> None:  # noqa: F811
    person.open(poly)
    studio, place = person.window.studio, person.window.assembly
    person.window.go_to(1)
    place.add_all()
    person.settle()
    studio.assembly.select_all()
    box = place.sheet.channel
    assert [box.itemText(n) for n in range(box.count())] == ["all channels", "Anna lav", "Bert lav"]
    assert box.currentIndex() == 0
    box.setCurrentIndex(2)
    box.activated.emit(2)
    person.settle()
    (clip,) = studio.assembly.clips
    assert clip.channel == 1
    assert box.currentText() == "Bert lav"
    studio.document.undo()
    studio.assembly.select_all()
    person.window.actions_.actions["programme_spread"].trigger()
    person.settle()
    lanes = studio.assembly.programme.lanes
    assert [(lane.name, [c.channel for c in lane.clips]) for lane in lanes][:2] == [("Voice", [0]), ("Bert lav", [1])]
    assert "laid out" in person.said
    studio.document.undo()  # one entry of history
    assert [len(lane.clips) for lane in studio.assembly.programme.lanes] == [1, 0]
