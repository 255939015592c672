# SPDX-License-Identifier: GPL-3.0-or-later
"""Asking a measured programme in the Delivery place; recipes with open places; one step for many recordings."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QPushButton
from tests.conftest import voice_in_noise
from tests.desktop.conftest import Person

RATE = 48_000
CTRL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier


def press(person: Person, words: str) -> None:
    row = person.window.delivery.measuring
    person.click(next(b for b in row.findChildren(QPushButton) if b.text().startswith(words)))


@pytest.fixture
def two(person: Person, wav: Callable[..., Path]) -> Person:
    loud = np.concatenate([voice_in_noise(8.0) * 0.2, voice_in_noise(8.0), voice_in_noise(8.0) * 0.2], axis=1)
    person.open(wav(loud, "uneven.wav"), wav(voice_in_noise(5.0, seed=2), "other.wav"))
    person.key(Qt.Key.Key_F4)
    person.settle()
    return person


def test_the_loudest_seconds_are_marked_and_gone_to(two: Person) -> None:
    session = two.window.session
    press(two, "Loudest 3 s")
    span = session.selection.span
    assert span.frames == 3 * RATE
    assert 8 * RATE <= span.start < 14 * RATE
    assert session.transport.position == span.start
    session.choose_recording(session.document.project.recordings[1].id)
    two.settle()
    press(two, "Loudest 10 s")
    assert "shorter than 10 s" in two.said


def test_other_readings_and_all_programmes_are_told_in_tables(two: Person, tmp_path: Path) -> None:
    row, session = two.window.delivery.measuring, two.window.session
    session.select(9 * RATE, 14 * RATE)
    press(two, "Other readings")
    two.until(lambda: row.table.rows)
    names = [r[0] for r in row.table.rows]
    assert names[0] == "Whole programme, both gates"
    assert "Speech only" in names
    assert "louder" in {r[0]: r[2] for r in row.table.rows}["Selection"]
    row.table.save_to(tmp_path / "readings.csv")
    assert "Speech only" in (tmp_path / "readings.csv").read_text()
    row.table.accept()
    press(two, "Compare")
    assert [r[0] for r in row.table.rows] == ["uneven", "other"]
    measured = session.measures("after").integrated_lufs
    assert float(row.table.rows[0][2].replace("\u2212", "-")) == pytest.approx(measured, abs=0.05)
    row.table.copy()
    row.table.accept()
    row.save_log(tmp_path / "log.csv")
    assert "short-term LUFS" in (tmp_path / "log.csv").read_text()


def test_a_target_for_speech_alone_shows_what_it_counts(two: Person) -> None:
    delivery, session = two.window.delivery, two.window.session
    speech = next(t.id for t in session.targets.values() if t.gate == "dialogue")
    session.document.set_target(speech)
    assert delivery.counted(session.current_id) is None  # until speech was found, nothing is claimed
    two.until(lambda: delivery.plan is not None)
    assert delivery.counted(session.current_id) is delivery.plan.measured
    assert delivery.plan.measured.integrated_lufs != session.measures("after").integrated_lufs


def test_a_recipe_asks_where_the_noise_is(two: Person) -> None:
    session = two.window.session
    session.select(round(0.2 * RATE), round(0.9 * RATE))
    two.window.dialogs.choose_recipe()
    dialog = two.window.dialogs.recipes
    dialog.choose("interview-on-location")
    (place, box), *_ = dialog.places.items()
    assert box.count() == 2
    box.setCurrentIndex(1)
    dialog.tick_all()
    assert not two.window.actions_.actions["save_recipe"].isEnabled()  # of no steps
    dialog.apply()
    two.settle()
    assert two.window.actions_.actions["save_recipe"].isEnabled()
    two.until(dialog.results.isActiveWindow)
    two.bot.keyClick(QApplication.focusWidget(), Qt.Key.Key_Return)  # has read what came of it
    assert not dialog.results.isVisible()
    here, there = session.document.project.recordings
    noise = [next(s for s in r.score if s.tool_id == "noise") for r in (here, there)]
    assert noise[0].settings.profile_spans_s == ((0.2, 0.9),)
    assert noise[1].settings.profile_spans_s == ()
    assert place[1] == "profile_spans_s"


def test_one_step_is_pasted_into_every_recording_at_once(two: Person) -> None:
    session, window = two.window.session, two.window
    two.key(Qt.Key.Key_F2)
    session.document.add_step(session.current_id, "hum", {"reduction_db": 20.0})
    two.settle()
    two.key(Qt.Key.Key_C, CTRL)
    two.settle()
    two.key(Qt.Key.Key_V, CTRL | SHIFT)
    assert [[s.tool_id for s in r.score] for r in session.document.project.recordings] == [["hum", "hum"], ["hum"]]
    two.key(Qt.Key.Key_Z, CTRL)
    assert [len(r.score) for r in session.document.project.recordings] == [1, 0]
    assert window.session.pool.unexpected == []


def test_what_will_be_delivered_is_heard_before_it_is_written(two: Person) -> None:
    window, session, delivery = two.window, two.window.session, two.window.delivery
    session.document.set_target("online-14")
    two.until(lambda: delivery.plan is not None)
    worked = session.transport._material.source
    delivery.preview_tick.click()
    heard = session.transport._material
    assert heard.source is delivery.plan.result
    louder = delivery.plan.predicted.integrated_lufs - delivery.plan.measured.integrated_lufs
    assert 20 * np.log10(heard.gain) == pytest.approx(-louder, abs=0.01)  # matched: as loud as before
    session.set_matched(False)
    assert session.transport._material.gain == 1.0
    session.set_matched(True)
    two.key(Qt.Key.Key_1)
    assert session.transport._material.source is session.chain.before
    two.key(Qt.Key.Key_2)
    assert session.transport._material.source is delivery.plan.result
    window.go_to(0)
    assert session.transport._material.source.key == worked.key
    window.go_to(2)
    two.settle()
    assert session.transport._material.source is delivery.plan.result
    delivery.preview_tick.click()
    assert session.transport._material.source.key == worked.key
