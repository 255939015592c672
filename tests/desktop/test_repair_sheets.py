# SPDX-License-Identifier: GPL-3.0-or-later
"""Sheets of the repairs, driven with mouse and keys: suggestions, pictures to drag, moments, harm."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLabel
from tests.conftest import voice_in_noise
from tests.desktop.conftest import Person, move

from pulizia.audio.spans import Span
from pulizia.desktop.bench.equaliser_picture import EqualiserPicture
from pulizia.desktop.bench.tool_picture import HANDLES_HZ
from pulizia.tools.registry import tool_of

RATE = 48_000
CLICKS = (70_000, 110_000, 150_000, 190_000, 230_000)


def settled(person: Person) -> None:
    """Surveys wait half a second for the settings to come to rest."""
    session = person.window.session

    def known() -> bool:
        stage = session.chain.stages.get(session.step.id)
        return stage is not None and session.surveys.of(stage) is not None

    person.until(known)
    person.settle()


def add(person: Person, tool: str) -> None:
    person.window.session.repairs.add_tool(tool, on_selection=False)
    settled(person)


@pytest.fixture
def clicked(person: Person, wav: Callable[..., Path]) -> Person:
    """A voice with five clicks on the bench."""
    samples = voice_in_noise(6.0)
    for at in CLICKS:
        samples[0, at : at + 3] += 0.5
    person.open(wav(samples, "clicks.wav", subtype="FLOAT"))
    return person


def test_bands_are_added_dragged_widened_typed_and_removed(bench: Person) -> None:
    add(bench, "equaliser")
    session, picture = bench.window.session, bench.body.picture
    assert isinstance(picture, EqualiserPicture)
    start = QPointF(picture.x_of(1000), picture.y_of(6))
    bench.bot.mouseDClick(picture, Qt.MouseButton.LeftButton, pos=start.toPoint())
    (band,) = session.step.settings.bands
    assert band[0] == "bell"
    assert band[1] == pytest.approx(1000, rel=0.03)
    assert band[2] == pytest.approx(6, abs=0.4)
    goal = QPointF(picture.x_of(3000), picture.y_of(-4))
    undo_before = session.document.history.undo_label
    bench.bot.mousePress(picture, Qt.MouseButton.LeftButton, pos=picture.place_of(band).toPoint())
    for share in (0.3, 0.7, 1.0):
        move(picture, start + (goal - start) * share)
    bench.bot.mouseRelease(picture, Qt.MouseButton.LeftButton, pos=goal.toPoint())
    (band,) = session.step.settings.bands
    assert band[1] == pytest.approx(3000, rel=0.05)
    assert band[2] == pytest.approx(-4, abs=0.5)
    # loudness is kept behind the bands; the curve is that of the bands, and the dot lies on it, already in the drag
    assert picture.output_db == pytest.approx(0.4, abs=0.3)
    assert picture.curve_at(np.array([band[1]]))[0] == pytest.approx(band[2], abs=0.05)
    assert picture.place_of(band).y() == pytest.approx(picture.y_of(band[2]), abs=0.5)
    assert undo_before is not None
    row = bench.body.band_row
    row.fields["Hz"].setText("440")
    row.fields["Hz"].setModified(True)
    row.fields["Hz"].editingFinished.emit()
    assert session.step.settings.bands[0][1] == 440
    bench.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert session.step.settings.bands[0][1] == pytest.approx(3000, rel=0.05)
    picture.menu_at(QPointF(picture.x_of(80), picture.y_of(0))).actions()[0].trigger()
    assert {b[0] for b in session.step.settings.bands} == {"bell", "high-pass"}
    picture.remove(0)
    assert [b[0] for b in session.step.settings.bands] == ["high-pass"]
    picture.grab()


def test_the_sweep_follows_the_mouse_and_becomes_a_moderate_cut(bench: Person) -> None:
    add(bench, "equaliser")
    session, picture = bench.window.session, bench.body.picture
    picture.setFocus()
    QTest.keyPress(picture, Qt.Key.Key_Q)
    for hz in (400, 800, 1250):
        picture.mouseMoveEvent(_hover(picture, QPointF(picture.x_of(hz), 40)))
        kind, at, gain, q = session.step.settings.bands[-1]
        assert (kind, gain) == ("bell", 10.0)
        assert at == pytest.approx(hz, rel=0.03)
        assert q > 6
    QTest.keyRelease(picture, Qt.Key.Key_Q)
    (band,) = session.step.settings.bands
    assert band[1] == pytest.approx(1250, rel=0.03)
    assert -6 < band[2] < -2


def _hover(widget: object, place: QPointF) -> object:
    from PySide6.QtCore import QEvent
    from PySide6.QtGui import QMouseEvent

    return QMouseEvent(
        QEvent.Type.MouseMove,
        place,
        place,
        Qt.MouseButton.NoButton,
        Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.NoModifier,
    )


def test_the_reduction_curve_is_bent_with_the_mouse(bench: Person) -> None:
    bench.mark(0.1, 0.9)
    bench.key(Qt.Key.Key_N)
    bench.bot.wait(100)
    bench.settle()
    session, picture = bench.window.session, bench.body.picture
    bench.until(picture.handle_places)
    place = picture.handle_places()[4]
    bench.bot.mousePress(picture, Qt.MouseButton.LeftButton, pos=place.toPoint())
    move(picture, place + QPointF(0, -12))
    bench.bot.mouseRelease(picture, Qt.MouseButton.LeftButton, pos=(place + QPointF(0, -12)).toPoint())
    bent = dict(session.step.settings.curve_levels)
    assert bent[HANDLES_HZ[4]] < -3
    assert bent[HANDLES_HZ[0]] == 0
    bench.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert session.step.settings.curve_levels == ()


@pytest.mark.slow
def test_moments_are_listed_ticked_visited_and_left_alone(clicked: Person) -> None:
    add(clicked, "clicks")
    session, sheet = clicked.window.session, clicked.window.bench.sheet
    marks = [m for m in sheet.findings.marks if any(abs(m.start - at) < 20 for at in CLICKS)]
    assert len(marks) == 5
    assert "found" in sheet.findings.sentence.text()
    score = clicked.window.bench.score
    image = score.grab().toImage()
    box = score.plan.strip_box(0, session.step.acts_in(clicked.recording.frames)[0])
    tick = QPoint(round(clicked.at_time(score, marks[3].start / RATE).x()) + 1, round(box.center().y()) - 2)
    assert image.pixelColor(tick) != image.pixelColor(tick + QPoint(12, 0))
    session.seek(0)
    clicked.key(Qt.Key.Key_N, Qt.KeyboardModifier.ShiftModifier)
    first = session.transport.position
    clicked.key(Qt.Key.Key_N, Qt.KeyboardModifier.ShiftModifier)
    assert session.transport.position > first
    session.seek(marks[1].start - round(0.4 * RATE))
    clicked.key(Qt.Key.Key_X)
    settled(clicked)
    assert [m.on for m in sheet.findings.marks if m.start == marks[1].start] == [False]
    left = session.chain.after.read(marks[1].start, marks[1].stop)
    assert np.array_equal(left, session.chain.before.read(marks[1].start, marks[1].stop))
    clicked.key(Qt.Key.Key_X)
    assert session.step.settings.left_s == ()


def test_suggestions_are_one_edit_with_a_sentence(bench: Person) -> None:
    add(bench, "gate")
    session = bench.window.session
    before = session.step.settings
    bench.key(Qt.Key.Key_U)
    bench.settle()
    assert session.step.settings.threshold_db != before.threshold_db
    assert "the voice lies at" in bench.said
    bench.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert session.step.settings == before


@pytest.mark.slow
def test_harm_is_shown_at_the_sheet_in_the_figures_and_over_the_sonogram(bench: Person) -> None:
    bench.mark(0.1, 0.9)
    bench.key(Qt.Key.Key_N)
    session = bench.window.session
    session.document.change_settings(bench.recording.id, session.step.id, reduction_db=40.0, sensitivity_db=12.0)
    settled(bench)
    gauge = bench.window.bench.sheet.foot.gauge
    assert gauge.harm is not None
    careful = gauge.harm.level_db
    assert careful > -40
    view = bench.window.bench.sonogram
    view.grab()
    bench.settle()
    plain = view.grab().toImage()
    bench.key(Qt.Key.Key_H, Qt.KeyboardModifier.ShiftModifier)
    for _ in range(3):
        view.grab()
        bench.settle()
    assert view.grab().toImage() != plain
    session.document.change_settings(bench.recording.id, session.step.id, reduction_db=3.0, sensitivity_db=0.0)
    settled(bench)
    assert gauge.harm.level_db < careful
    bench.key(Qt.Key.Key_I, Qt.KeyboardModifier.ShiftModifier)
    bench.until(lambda: bench.window.dialogs.figures.rows)
    names = [row.name for row in bench.window.dialogs.figures.rows]
    assert "Harm to the voice" in names
    bench.window.dialogs.figures.accept()


@pytest.mark.parametrize("tool", ["hum", "gate", "ringing", "sibilance", "plosives", "breaths", "overload"])
def test_every_sheet_is_built_and_says_what_was_found(bench: Person, tool: str) -> None:
    add(bench, tool)
    sheet = bench.window.bench.sheet
    assert sheet.findings.sentence.text().endswith(".")
    table = sheet.findings.table
    if table.isVisible():
        shown = [table._table.head, *table._table.rows]
        assert table._edges(shown)[-1] <= table.width() + 0.5, shown  # no cell runs into another, or out
    bench.window.grab()


@pytest.mark.slow
def test_inspect_lists_troubles_visits_them_treats_all_and_says_what_is_left(clicked: Person, tmp_path: Path) -> None:
    session, ledger = clicked.window.session, clicked.window.bench.list.findings
    clicked.key(Qt.Key.Key_I, Qt.KeyboardModifier.ControlModifier)
    clicked.until(lambda: session.inspection.is_current)
    found = {e.kind: e for e in session.inspection.entries()}
    assert len([m for m in found["clicks"].now.marks if any(abs(m.start - at) < 20 for at in CLICKS)]) == 5
    clicked.click(ledger.rows["clicks"])
    assert session.transport.is_playing
    session.transport.stop()
    assert abs(session.transport.position + RATE // 2 - CLICKS[0]) < RATE
    clicked.window.grab()
    kind = next(k for k in found if k != "clicks")
    session.inspection.leave(kind, leave=True)
    assert ledger.rows[kind].accessibleDescription() == "Ignored"
    assert ledger.rows["clicks"].accessibleDescription() == "Untreated"

    # one key walks through all places in their order and hears each; a menu keeps to one kind
    session.seek(0)
    walked = []
    for _ in CLICKS:
        clicked.key(Qt.Key.Key_Period)
        assert session.transport.is_playing
        assert ledger.chosen in ("clicks", *found)
        walked.append(session.inspection._walked[1])
        session.stop_playing()
    assert walked == sorted(set(walked))
    clicked.key(Qt.Key.Key_Comma)
    assert session.inspection._walked[1] == walked[-2]
    session.stop_playing()
    actions = {a.text(): a for a in ledger.menu_of("clicks").actions()}
    actions["Show only this kind"].trigger()
    assert {f.kind for f in session.inspection.current_findings(session.heard_source)} == {"clicks"}
    assert "Show all kinds" in [a.text() for a in ledger.menu_of("clicks").actions()]
    session.inspection.show_only("")
    assert clicked.recording.left == (kind,)
    clicked.click(ledger.all_button)
    clicked.until(lambda: not session.inspection.is_treating)
    ids = [s.tool_id for s in clicked.recording.score]
    assert "clicks" in ids
    assert ids == sorted(ids, key=lambda t: tool_of(t).order)
    clicked.until(lambda: session.inspection.is_current)  # by itself, after the edit
    after = {e.kind: e for e in session.inspection.entries()}
    assert after["clicks"].after is None or len(after["clicks"].after.marks) < len(found["clicks"].now.marks) / 2
    session.document.save(tmp_path / "ledger.pulizia")
    session.document.load(tmp_path / "ledger.pulizia")
    assert session.document.project.recordings[0].left == (kind,)


@pytest.mark.slow
def test_treat_all_is_one_edit_and_a_step_in_a_section_does_not_count_as_treated(clicked: Person) -> None:
    session = clicked.window.session
    session.document.add_step(session.recording.id, "clicks", {}, spans=(Span(0, 4800),))
    clicked.settle()
    clicked.key(Qt.Key.Key_I, Qt.KeyboardModifier.ControlModifier)
    clicked.until(lambda: session.inspection.is_current)
    before = clicked.recording.score
    session.inspection.treat_all()
    clicked.until(lambda: not session.inspection.is_treating)
    added = [s for s in clicked.recording.score if s not in before]
    assert "clicks" in [s.tool_id for s in added]
    assert all(s.spans is None for s in added)
    assert [s for s in clicked.recording.score if s in before] == list(before)
    assert session.inspection.is_current, "what was found in the result while it was tried is known"
    assert session.document.history.undo_label == "Treat all"
    session.document.undo()
    assert clicked.recording.score == before


def test_an_area_is_drawn_in_the_sonogram_and_becomes_a_step(bench: Person) -> None:
    session, sonogram = bench.window.session, bench.window.bench.sonogram
    alt = Qt.KeyboardModifier.AltModifier
    corners = [bench.at_time(sonogram, t, y) for t, y in ((1.0, 0.3), (1.6, 0.3), (1.6, 0.6), (1.0, 0.6))]
    QTest.mousePress(sonogram, Qt.MouseButton.LeftButton, alt, corners[0].toPoint())
    for corner in corners[1:]:
        move(sonogram, corner)
    bench.window.grab()
    QTest.mouseRelease(sonogram, Qt.MouseButton.LeftButton, alt, corners[-1].toPoint())
    assert len(session.selection.outline) == 4
    low, high = session.selection.band_hz
    bench.key(Qt.Key.Key_P)
    (area,) = session.step.settings.areas
    assert session.step.tool_id == "areas"
    assert min(f for _, f in area) == pytest.approx(low, rel=0.01)
    start, stop = bench.at_time(sonogram, 2.0, 0.2), bench.at_time(sonogram, 2.4, 0.5)
    bench.drag(sonogram, start, stop)
    bench.key(Qt.Key.Key_P)
    assert len(session.step.settings.areas) == 2
    session.document.change_settings(bench.recording.id, session.step.id, way="lower")
    settled(bench)
    removed = session.chain.removed.read(round(1.1 * RATE), round(1.5 * RATE))[0]
    power = np.abs(np.fft.rfft(removed * np.hanning(len(removed)))) ** 2
    hz = np.fft.rfftfreq(len(removed), 1 / RATE)
    assert power[(hz > low) & (hz < high)].sum() > 0.95 * power.sum() > 0
    assert "2 areas" in bench.window.bench.sheet.findings.sentence.text()
    bench.window.grab()
    bench.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)


def test_the_selection_is_mended_by_hand(clicked: Person) -> None:
    session = clicked.window.session
    session.select(100_000, 100_240)
    clicked.key(Qt.Key.Key_C)
    assert session.step.settings.mend_s == ((100_000 / RATE, 100_240 / RATE),)
    clicked.until(
        lambda: np.any(session.chain.after.read(100_000, 100_240) != session.chain.before.read(100_000, 100_240))
    )
    session.select(500, 500 + 2 * RATE)
    clicked.key(Qt.Key.Key_C)
    assert "at most" in clicked.said


def test_the_sheet_without_a_step_says_how_to_begin_and_comes_back(bench: Person) -> None:
    session, sheet = bench.window.session, bench.window.bench.sheet
    bench.settle()

    def words() -> list[str]:
        """Labels whose whole text has room."""
        return [
            " ".join(label.text().split()[:2])
            for label in sheet.findChildren(QLabel)
            if label.isVisible() and label.text() and label.height() >= label.heightForWidth(label.width())
        ]

    assert words() == ["No step", "Select half"]
    assert sheet.body is None
    add(bench, "gate")
    assert "No step" not in words()
    assert bench.body.tool.id == "gate"
    session.document.undo()
    bench.settle()
    assert words() == ["No step", "Select half"]
    session.document.redo()
    bench.settle()
    assert sheet.body is not None
    assert sheet.body.isVisible()


def test_what_one_step_removes_is_heard_alone_and_follows_the_selected_step(bench: Person) -> None:
    session = bench.window.session
    for gain_db in (-6.0, -12.0):
        session.repairs.add_tool("level", on_selection=False)
        session.document.change_settings(session.current_id, session.step_id, way="gain", gain_db=gain_db)
    bench.settle()
    (first, a), (second, b) = ((s.id, 10 ** (s.settings.gain_db / 20)) for s in bench.recording.score)
    whole = session.chain.before.read(0, RATE)
    session.choose_step(first)
    bench.key(Qt.Key.Key_3, Qt.KeyboardModifier.AltModifier)
    assert np.allclose(session.heard_source.read(0, RATE), (1 - a) * whole, atol=1e-6)
    session.choose_step(second)
    assert np.allclose(session.heard_source.read(0, RATE), a * (1 - b) * whole, atol=1e-6)
    assert session.heard_measures is None  # it is no programme


def test_the_equaliser_is_set_by_keys_alone(bench: Person) -> None:
    add(bench, "equaliser")
    session, picture = bench.window.session, bench.body.picture
    picture.setFocus(Qt.FocusReason.TabFocusReason)

    def press(*keys: Qt.Key) -> None:
        for key in keys:
            bench.bot.keyClick(picture, key)

    press(Qt.Key.Key_Return, Qt.Key.Key_Right, *[Qt.Key.Key_Up] * 3)
    assert session.step.settings.bands == (("bell", pytest.approx(1000 * 2 ** (1 / 12), abs=0.1), 1.5, 1.4),)
    press(Qt.Key.Key_Enter, Qt.Key.Key_Down)
    assert [b[1:3] for b in session.step.settings.bands][1] == (250.0, -0.5)  # away from the other one
    press(Qt.Key.Key_PageDown, Qt.Key.Key_Left)
    assert session.step.settings.bands[0][1] == pytest.approx(1000, abs=0.1)
    session.document.undo()
    assert session.step.settings.bands[0][1] == pytest.approx(1000 * 2 ** (1 / 12), abs=0.1)  # each key is one edit
    bench.settle()
    press(Qt.Key.Key_PageUp, Qt.Key.Key_Delete)
    assert len(session.step.settings.bands) == 1  # the band, not the step
    press(Qt.Key.Key_PageDown, Qt.Key.Key_Backspace)
    assert session.step.settings.bands == ()
    bench.settle()
    press(Qt.Key.Key_Delete)
    assert session.step is None  # without a band Del is again what it is elsewhere


@pytest.mark.slow
def test_treat_all_reaches_the_recording_it_was_asked_for(clicked: Person, wav: Callable[..., Path]) -> None:
    """It may take minutes: somebody goes on with another recording meanwhile, or with this one."""
    window, session = clicked.window, clicked.window.session
    first = session.recording
    control, shift = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier
    clicked.key(Qt.Key.Key_I, control | shift)
    assert clicked.said == "Nothing is known about this recording yet. Inspect it first."
    clicked.key(Qt.Key.Key_I, control)
    clicked.until(lambda: session.inspection.is_current)
    clicked.key(Qt.Key.Key_I, control | shift)
    assert session.inspection.is_treating
    clicked.open(wav(voice_in_noise(2.0, seed=4), "another.wav"))
    assert session.recording.id != first.id
    clicked.until(lambda: not session.inspection.is_treating)
    assert clicked.said.startswith("clicks: ")
    assert "clicks" in [s.tool_id for s in session.document.project.recording(first.id).score]
    assert session.recording.score == ()
    assert session.step is None

    session.document.undo()
    session.choose_recording(first.id)
    clicked.until(lambda: session.inspection.is_current)
    window.treat_all()
    assert session.inspection.is_treating
    session.document.add_step(first.id, "level", {})
    clicked.until(lambda: not session.inspection.is_treating)
    assert [s.tool_id for s in session.recording.score] == ["level"]
    assert clicked.said == "clicks: its steps changed meanwhile and none was added. Treat all again."


def test_nothing_is_left_to_treat_where_all_is_ignored(clicked: Person) -> None:
    inspection = clicked.window.session.inspection
    clicked.key(Qt.Key.Key_I, Qt.KeyboardModifier.ControlModifier)
    clicked.until(lambda: inspection.is_current)
    for entry in inspection.entries():
        inspection.leave(entry.id, leave=True)
    clicked.window.treat_all()
    assert clicked.said == "No finding is left to treat."
    assert not inspection.is_treating


def test_a_step_that_does_nothing_here_says_so_first(bench: Person) -> None:
    """In place of what the tool is for, in view at once; what it is for comes back when the step does something."""
    session = bench.window.session
    add(bench, "gate")
    body = bench.window.bench.sheet.body
    assert body is not None
    assert body.summary.text() == body.tool.summary
    session.document.change_settings(session.owner.id, session.step.id, threshold_db=-80.0)
    bench.until(lambda: "hardly closes" in body.summary.text())
    assert not body.summary.visibleRegion().isEmpty()
    assert not body.findings.sentence.isVisibleTo(body)  # not a second time below
    session.document.change_settings(session.owner.id, session.step.id, threshold_db=-30.0)
    bench.until(lambda: body.summary.text() == body.tool.summary)
    assert body.findings.sentence.isVisibleTo(body)
    add(bench, "hum")
    body = bench.window.bench.sheet.body
    assert body is not None
    bench.until(lambda: "No hum was found" in body.summary.text())
