# SPDX-License-Identifier: GPL-3.0-or-later
"""What a screen reader is told, over the accessibility bus itself; the way of the Tab key; text at twice its size."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import shiboken6
from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QApplication, QDialog, QGridLayout, QLineEdit, QPushButton, QWidget
from pytestqt.qtbot import QtBot
from tests.accessibility_bus import launcher
from tests.desktop.conftest import Person

from pulizia.desktop.controls import scrolled
from pulizia.desktop.flow import FlowLayout
from pulizia.desktop.theme import use_theme

PARTS = ("dbus-run-session", "Xvfb")


def display_of_its_own() -> tuple[subprocess.Popen[bytes], str]:
    """A screen that is ready, under the first number that is free: it chooses and tells it itself."""
    told, tell = os.pipe()
    screen = subprocess.Popen(
        ["Xvfb", "-displayfd", str(tell), "-screen", "0", "1400x900x24"], stderr=subprocess.DEVNULL, pass_fds=(tell,)
    )
    os.close(tell)
    with os.fdopen(told) as ready:
        return screen, f":{int(ready.readline())}"


@pytest.mark.slow
@pytest.mark.skipif(
    launcher() is None or not all(shutil.which(part) for part in PARTS),
    reason="the accessibility bus is not installed (at-spi2-core, dbus-x11, xvfb)",
)
def test_a_screen_reader_is_told_names_roles_and_figures(tmp_path: Path) -> None:
    screen, display = display_of_its_own()
    root = Path(__file__).resolve().parents[2]
    environment = os.environ | {
        "DISPLAY": display, "PYTHONPATH": str(root), "XDG_CACHE_HOME": str(tmp_path), "XDG_RUNTIME_DIR": str(tmp_path),
    }  # fmt: skip
    try:
        done = subprocess.run(
            ["dbus-run-session", "--", sys.executable, "-m", "tests.accessibility_bus"], env=environment,
            capture_output=True, text=True, timeout=120, check=False,
        )  # fmt: skip
    finally:
        screen.terminate()
        screen.wait()
    assert done.returncode == 0, done.stderr[-2000:]
    rows = [row for row in json.loads(done.stdout.splitlines()[-1]) if row["showing"]]
    assert len(rows) > 80
    nameless = [row for row in rows if row["focusable"] and not row["name"] and row["role"] not in ("filler", "panel")]
    assert not nameless
    drawn = [row for row in rows if row["focusable"] and row["role"] == "filler" and row["name"]]
    assert not drawn  # whatever takes keys has a role
    told = {(row["role"], row["name"]): row["words"] for row in rows}
    names = {name: role for role, name in told}
    for name, role in (
        ("Play or stop", "push button"), ("Reduction", "slider"), ("Recordings", "list"), ("Place", "page tab list"),
        ("Waveform", "graphic"), ("Position", "clock"), ("Menu", "button menu"),
    ):  # fmt: skip
        assert names[name] == role
    assert told["slider", "Reduction"] == "10.0 dB"
    assert told["clock", "Position"].startswith("00:00:0")
    assert told["list", "Recordings"] == "hall-of-pendulums"
    assert "selected 0:01.00–0:02.00" in told["graphic", "Waveform"].replace("\u2013", "–")
    steps = next(words for (role, name), words in told.items() if role == "list" and name.startswith("Steps"))
    assert "Noise" in steps


def tab_stops(person: Person, first: QWidget) -> list[QWidget]:
    """Where Tab goes from ``first`` on, until it comes back."""
    first.setFocus(Qt.FocusReason.TabFocusReason)
    stops = [first]
    while len(stops) < 300:
        person.bot.keyClick(QApplication.focusWidget(), Qt.Key.Key_Tab)
        if (stop := QApplication.focusWidget()) is first:
            return stops
        stops.append(stop)
    pytest.fail(f"Tab does not come back: {stops[-5:]}")


def test_tab_follows_the_work_and_every_stop_has_a_name(bench: Person) -> None:
    window, session = bench.window, bench.window.session
    session.repairs.add_tool("noise", on_selection=False)
    bench.mark(1.0, 2.0)
    bench.until(lambda: not window.bench.sheet.is_building)
    bench.settle()
    stops = tab_stops(bench, window.top.places)
    assert all(stop.accessibleName() or getattr(stop, "text", str)() for stop in stops)
    sheet, foot = window.bench.sheet, window.foot
    order = [
        window.top.places, window.bench.list.cards, window.bench.bar.start, window.bench.score, sheet.body.controls["reduction_db"].track,
        sheet.foot.sides, window.bench.spectrum.freeze_button, foot.play, foot.switch,
    ]  # fmt: skip
    places = [stops.index(part) for part in order]
    assert places == sorted(places)


@pytest.mark.slow
def test_findings_are_reached_by_tab_where_they_stand_and_keep_the_keys(bench: Person) -> None:
    window, ledger = bench.window, bench.window.bench.list.findings
    bench.key(Qt.Key.Key_I, Qt.KeyboardModifier.ControlModifier)
    bench.until(lambda: window.session.inspection.is_current)
    bench.settle()
    rows = list(ledger.rows.values())
    assert rows
    ledger.run_button.setFocus(Qt.FocusReason.TabFocusReason)
    for row in (ledger.all_button, *rows):
        bench.bot.keyClick(QApplication.focusWidget(), Qt.Key.Key_Tab)
        assert QApplication.focusWidget() is row
    ledger.choose(rows[0].entry.id)  # its details open under it, with buttons of their own
    window.session.stop_playing()
    bench.settle()
    rows = list(ledger.rows.values())
    assert len(rows) > 1
    ledger.all_button.setFocus(Qt.FocusReason.TabFocusReason)
    stops = []
    while not stops or stops[-1] is not rows[1]:
        bench.bot.keyClick(QApplication.focusWidget(), Qt.Key.Key_Tab)
        stops.append(QApplication.focusWidget())
    assert stops[0] is rows[0]
    assert stops[-2].text() == "Ignore"
    ledger.all_button.setFocus(Qt.FocusReason.TabFocusReason)
    bench.bot.keyClick(ledger.all_button, Qt.Key.Key_Return)
    assert window.session.inspection.is_treating
    assert QApplication.focusWidget() in ledger.rows.values()
    bench.until(lambda: not window.session.inspection.is_treating)


@pytest.mark.parametrize("place", [Qt.Key.Key_F2, Qt.Key.Key_F3, Qt.Key.Key_F4])
def test_the_ring_of_the_keyboard_is_seen_wherever_tab_goes(bench: Person, place: Qt.Key) -> None:
    window, session = bench.window, bench.window.session
    session.repairs.add_tool("leveller", on_selection=False)
    bench.key(Qt.Key.Key_F3)
    bench.key(Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)  # a programme with a clip
    bench.key(place)
    bench.settle()
    stops = tab_stops(bench, window.top.places)
    assert len(stops) > 15
    lists = {
        Qt.Key.Key_F2: {window.bench.list.cards, window.bench.score},
        Qt.Key.Key_F3: {window.assembly.cards},
        Qt.Key.Key_F4: {window.delivery.cards},
    }
    assert lists[place] <= set(stops)
    for stop in stops:
        (window.foot.play if stop is not window.foot.play else window.foot.loop).setFocus()
        stop.clearFocus()
        before = stop.grab().toImage()
        stop.setFocus(Qt.FocusReason.TabFocusReason)
        assert stop.hasFocus(), stop
        assert stop.grab().toImage() != before, (stop, stop.accessibleName())


@pytest.mark.parametrize("place", [Qt.Key.Key_F2, Qt.Key.Key_F3, Qt.Key.Key_F4])
def test_one_key_leads_from_area_to_area_and_back(bench: Person, place: Qt.Key) -> None:
    window, session = bench.window, bench.window.session
    session.repairs.add_tool("leveller", on_selection=False)
    bench.key(Qt.Key.Key_F3)
    bench.key(Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    bench.key(place)
    if place == Qt.Key.Key_F2:
        bench.mark(0.5, 1.5)
    bench.until(lambda: not window.bench.sheet.is_building)
    bench.settle()
    ways = {
        Qt.Key.Key_F2: [
            window.bench.list,
            window.bench.bar,
            window.bench.score,
            window.bench.sheet,
            window.bench.spectrum,
        ],
        Qt.Key.Key_F3: [window.assembly.cards, window.assembly.steps],
        Qt.Key.Key_F4: [window.delivery.cards, window.delivery.measuring, window.delivery.target_box],
    }
    window.foot.play.setFocus()
    bench.key(Qt.Key.Key_Tab, Qt.KeyboardModifier.ControlModifier)
    first, met = QApplication.focusWidget(), []
    assert window.top.isAncestorOf(first)
    while not met or met[-1] is not first:
        assert len(met) < 12
        bench.key(Qt.Key.Key_Tab, Qt.KeyboardModifier.ControlModifier)
        met.append(QApplication.focusWidget())
    rest = iter(met)
    for area in ways[place]:
        assert any(area is stop or area.isAncestorOf(stop) for stop in rest), area
    for stop in [*met[-2::-1], first]:
        bench.key(Qt.Key.Key_Tab, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
        assert QApplication.focusWidget() is stop


def test_the_window_stays_whole_after_the_keys_went_round_its_areas(bench: Person) -> None:
    """Asking for the next widget in the chain of the focus once made each the owner of the next, and deleting one fatal."""
    window = bench.window
    sheet = window.delivery.orders
    bench.key(Qt.Key.Key_F4)
    sheet.add_button.click()
    for _ in range(7):
        bench.key(Qt.Key.Key_Tab, Qt.KeyboardModifier.ControlModifier)
    held = [layout.itemAt(n) for layout in window.delivery.findChildren(FlowLayout) for n in range(layout.count())]
    assert len(held) > 3
    (remove,) = (b for b in sheet.findChildren(QPushButton) if b.text() == "Remove")
    remove.click()
    del remove
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
    bench.settle()
    assert all(shiboken6.isValid(item) for item in held)
    bench.key(Qt.Key.Key_F2)
    bench.key(Qt.Key.Key_F4)  # laid out anew
    assert window.delivery.sizeHint().isValid()


@pytest.mark.parametrize("place", [Qt.Key.Key_F2, Qt.Key.Key_F3])
def test_enter_leads_from_a_step_to_its_settings(bench: Person, place: Qt.Key) -> None:
    window, session = bench.window, bench.window.session
    bench.key(Qt.Key.Key_F3)
    bench.key(Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    bench.key(place)
    score = window.bench.score if place == Qt.Key.Key_F2 else window.assembly.steps.steps
    session.repairs.add_tool("noise", on_selection=False)
    score.setFocus(Qt.FocusReason.TabFocusReason)
    bench.bot.keyClick(score, Qt.Key.Key_Return)  # the sheet is still being built
    sheet = window.bench.sheet if place == Qt.Key.Key_F2 else window.assembly.step_sheet
    bench.until(lambda: QApplication.focusWidget() is not score)
    first = sheet.body.controls["reduction_db"]
    assert QApplication.focusWidget() is first.track
    bench.bot.keyClick(QApplication.focusWidget(), Qt.Key.Key_Tab)
    bench.bot.keyClicks(QApplication.focusWidget(), "9")
    bench.bot.keyClick(QApplication.focusWidget(), Qt.Key.Key_Return)
    assert session.step.settings.reduction_db == 9.0


def brightness(widget: QWidget) -> np.ndarray:
    picture = widget.grab().toImage().convertToFormat(QImage.Format.Format_Grayscale8)
    return np.array(picture.constBits()).reshape(picture.height(), -1)[:, : picture.width()].astype(int)


@pytest.mark.slow
@pytest.mark.parametrize("theme", ["linen", "lamplight", "contrast"])
def test_the_ring_of_the_keyboard_is_seen_in_every_dialog_by_more_than_its_colour(bench: Person, theme: str) -> None:
    window = bench.window
    window.session.repairs.add_tool("leveller", on_selection=False)
    bench.key(Qt.Key.Key_F3)
    bench.key(Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    bench.key(Qt.Key.Key_F2)
    bench.mark(0.5, 1.5)
    use_theme(theme)
    for name in (
        "recipe", "save_recipe", "print", "find_original", "history", "output", "figures", "appearance", "language",
        "own_target", "storage", "manual", "keys",
    ):  # fmt: skip
        window.actions_.actions[name].trigger()
        bench.settle()
        (dialog,) = (box for box in QApplication.topLevelWidgets() if isinstance(box, QDialog) and box.isVisible())
        dialog.activateWindow()
        bench.until(dialog.isActiveWindow)
        stops = [
            part for part in dialog.findChildren(QWidget)
            if part.isVisible() and part.isEnabled() and part.focusPolicy() & Qt.FocusPolicy.TabFocus
            and part.window() is dialog and part.focusProxy() is None
        ]  # fmt: skip
        assert stops
        for stop in stops:
            (stops[0] if stop is not stops[0] else stops[-1]).setFocus()
            stop.clearFocus()
            before = brightness(stop)
            stop.setFocus(Qt.FocusReason.TabFocusReason)
            assert stop.hasFocus(), (name, stop)
            ring = np.count_nonzero(np.abs(brightness(stop) - before) > 25)
            assert ring >= 40, (name, stop, stop.accessibleName(), ring)
        dialog.reject()
        bench.until(
            lambda: not any(isinstance(box, QDialog) and box.isVisible() for box in QApplication.topLevelWidgets())
        )


def test_what_is_delivered_is_chosen_by_keys(bench: Person) -> None:
    window, session = bench.window, bench.window.session
    bench.key(Qt.Key.Key_F3)
    bench.key(Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    bench.key(Qt.Key.Key_F4)
    cards, programme, recording = window.delivery.cards, session.document.project.programmes[0], session.recording
    assert session.subject_id == programme.id
    cards.setFocus(Qt.FocusReason.TabFocusReason)
    for key, subject in (
        (Qt.Key.Key_Up, programme), (Qt.Key.Key_Down, recording), (Qt.Key.Key_Down, recording), (Qt.Key.Key_Up, programme),
    ):  # fmt: skip
        bench.bot.keyClick(cards, key)
        assert session.subject_id == subject.id


def test_a_sheet_that_is_a_little_too_wide_does_not_move_sideways_with_the_keys(qtbot: QtBot) -> None:
    inner = QWidget()
    rows = QGridLayout(inner)
    rows.setColumnMinimumWidth(0, 150)
    parts = [QLineEdit() for _ in range(30)]
    for row, part in enumerate(parts):
        part.setFixedWidth(90)
        rows.addWidget(part, row, 1)
    area = scrolled(inner)
    qtbot.addWidget(area)
    area.resize(220, 200)
    with qtbot.waitExposed(area):
        area.show()
    area.activateWindow()
    parts[0].setFocus()
    qtbot.waitUntil(parts[0].hasFocus)
    for _ in parts[1:]:
        qtbot.keyClick(QApplication.focusWidget(), Qt.Key.Key_Tab)
    assert parts[-1].hasFocus()
    assert area.verticalScrollBar().value() > 0
    assert inner.pos().x() == 0


def test_keys_that_change_a_recording_rest_in_delivery(bench: Person) -> None:
    """Nobody would see there what they do."""
    session = bench.window.session
    session.repairs.add_tool("leveller", on_selection=False)
    bench.mark(0.5, 1.5)
    bench.settle()
    was = session.document.project
    bench.key(Qt.Key.Key_F4)
    for key in (Qt.Key.Key_N, Qt.Key.Key_E, Qt.Key.Key_Delete, Qt.Key.Key_P, Qt.Key.Key_D, Qt.Key.Key_G, Qt.Key.Key_A):
        bench.key(key)
        bench.settle()
        assert session.document.project == was, key
    assert QApplication.activePopupWidget() is None
    bench.key(Qt.Key.Key_F2)
    bench.key(Qt.Key.Key_Delete)
    assert not bench.recording.score
