# SPDX-License-Identifier: GPL-3.0-or-later
"""Keys of one's own, the shuttle, the manual's search, and what About says."""

from __future__ import annotations

import json
from importlib import metadata

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QKeySequence, QTextTable
from PySide6.QtWidgets import QApplication, QMenu
from tests.desktop.conftest import Person

from pulizia import __version__
from pulizia.desktop.menu_order import ORDER, names_in
from pulizia.desktop.start import make_window
from pulizia.report.notices import parts

RATE = 48_000
K = Qt.Key


def rows(dialog) -> dict[str, str]:
    heads = [dialog.table.topLevelItem(n) for n in range(dialog.table.topLevelItemCount())]
    return {
        head.child(n).text(0): head.child(n).text(1)
        for head in heads
        for n in range(head.childCount())
        if not head.isHidden() and not head.child(n).isHidden()
    }


def test_a_key_is_found_changed_told_when_taken_and_kept(bench: Person) -> None:
    window = bench.window
    window.dialogs.show_keys()
    dialog = window.dialogs.keys
    dialog.search.setText("loop")
    assert rows(dialog) == {"Loop": "R", "Loop with a pause": "Alt+R", "Loop over the cut with a run-up": "Shift+R"}
    loop = next(i for h in dialog._heads for i in [h.child(n) for n in range(h.childCount())] if i.text(0) == "Loop")
    dialog.table.setCurrentItem(loop)
    dialog._change_current()
    asking = dialog.asking
    asking.edit.setKeySequence(QKeySequence("G"))
    assert "Restore original" in asking.words.text()
    asking.save()
    dialog.search.clear()
    assert rows(dialog)["Loop"] == "G"
    assert rows(dialog)["Restore original"] == ""
    dialog.accept()
    bench.key(K.Key_G)
    assert window.session.transport.loop is not None
    again, poster = make_window(simulated=True)  # the next time the program starts
    try:
        assert again.actions_.actions["loop"].shortcut() == QKeySequence("G")
        again.actions_.use_default_keys()
        assert again.actions_.actions["loop"].shortcut() == QKeySequence("R")
        assert again.preferences.lists("keys") == {}
    finally:
        again.close()
        poster.close()


def test_a_key_that_is_bound_twice_is_told_and_the_default_stays(bench: Person) -> None:
    file = bench.window.preferences._file
    file.write_text(json.dumps({"keys": {"loop": ["Space"], "nothing": ["X"], "undo": "no list"}}))
    again, poster = make_window(simulated=True)
    said: list[str] = []
    again.session.events.message.connect(lambda text, _bad: said.append(text))
    bench.until(lambda: said)
    assert "bound twice" in said[0]
    assert again.actions_.actions["loop"].shortcut() == QKeySequence("R")
    assert again.actions_.actions["play"].shortcut() == QKeySequence("Space")
    again.close()
    poster.close()


def test_j_k_and_l_play_backwards_stop_and_play_forwards(bench: Person) -> None:
    transport = bench.window.session.transport
    bench.window.session.seek(2 * RATE)
    bench.key(K.Key_L)
    assert transport.speed == 1.0
    bench.key(K.Key_L)
    assert transport.speed == 2.0
    bench.until(lambda: transport.position > 2.1 * RATE)
    bench.key(K.Key_K)
    assert not transport.is_playing
    place = transport.position
    bench.key(K.Key_J)
    assert transport.speed == -1.0
    bench.until(lambda: transport.position < place - 0.05 * RATE)
    bench.bot.keyPress(bench.window, K.Key_K)
    bench.bot.keyPress(bench.window, K.Key_L)
    assert transport.speed == 0.5
    bench.bot.keyRelease(bench.window, K.Key_L)
    assert not transport.is_playing
    bench.bot.keyRelease(bench.window, K.Key_K)
    bench.key(K.Key_L)
    assert transport.speed == 1.0
    bench.key(K.Key_Space)
    assert not transport.is_playing


def test_i_and_o_set_the_selection_and_m_a_marker(bench: Person) -> None:
    session = bench.window.session
    session.seek(RATE)
    bench.key(K.Key_I)
    session.seek(2 * RATE)
    bench.key(K.Key_O)
    assert (session.selection.span.start, session.selection.span.stop) == (RATE, 2 * RATE)
    bench.key(K.Key_Escape)
    bench.key(K.Key_M)
    assert [m.frame for m in session.markers.all] == [2 * RATE]


@pytest.mark.slow
def test_the_manual_is_searched_turned_and_has_no_lines_around_cells(bench: Person) -> None:
    bench.window.dialogs.show_help()
    dialog = bench.window.dialogs.help

    def shown() -> list[str]:
        items = [dialog.list.item(n) for n in range(dialog.list.count())]
        return [item.text() for item in items if not item.isHidden()]

    everything = shown()
    dialog.search.setText("mouth click")
    assert "Clicks" in shown()
    assert len(shown()) < len(everything) / 3
    assert dialog.text.textCursor().selectedText().lower() == "mouth click"
    dialog.search.clear()
    assert shown() == everything
    here = dialog.list.currentRow()
    dialog._turn(1)
    assert dialog.list.currentRow() == here + 1
    dialog._turn(-1)
    for n in range(dialog.list.count()):
        dialog.list.setCurrentRow(n)
        tables = [f for f in dialog.text.document().rootFrame().childFrames() if isinstance(f, QTextTable)]
        assert all(t.format().border() == 0.0 for t in tables)
        assert dialog.text.horizontalScrollBar().maximum() == 0, dialog.list.item(n).text()
        text = dialog.text.toPlainText()
        assert not any(sign in text for sign in (":mod:", "``", ".py")), dialog.list.item(n).text()
    dialog.accept()


@pytest.mark.parametrize("page", [0, 1, 2])
def test_about_has_version_licence_and_notices(bench: Person, page: int) -> None:
    bench.window.dialogs.show_about()
    dialog = bench.window.dialogs.about
    dialog.switch.chosen.emit(page)
    text = dialog.pages.currentWidget().toPlainText()
    if page == 0:
        assert "ABSOLUTELY NO WARRANTY" in text
        assert "GPL-3.0-or-later" in text
        dialog.copy()
        assert f"Pulizia {__version__}" in QApplication.clipboard().text()
    elif page == 1:
        assert "GNU GENERAL PUBLIC LICENSE" in text
        assert "Version 3, 29 June 2007" in text
    else:
        assert "Source Sans 3" in text
        assert "klettres-data" in text
        for part in parts():
            assert f"{part.name} {part.version}" in text
        wanted = {"numpy", "scipy", "pulsectl", "mutagen", "av"}
        assert wanted <= {p.name.lower() for p in parts()}
        assert next(p for p in parts() if p.name.lower() == "numpy").version == metadata.version("numpy")
    dialog.accept()


def test_the_shuttle_follows_keys_that_were_changed(bench: Person) -> None:
    window = bench.window
    window.actions_.actions["shuttle_stop"].setShortcuts([QKeySequence("Ctrl+Y")])
    assert window.actions_.keys_of("shuttle_stop") == {int(Qt.Key.Key_Y)}
    window.shuttle.hold()
    assert window.shuttle.held
    bench.bot.keyRelease(window, Qt.Key.Key_K)
    assert window.shuttle.held
    bench.bot.keyRelease(window, Qt.Key.Key_Y)
    assert not window.shuttle.held


def test_every_command_lies_once_in_its_menu_and_no_menu_is_longer_than_a_screen(person: Person) -> None:
    commands = person.window.actions_.commands
    for name, rows in ORDER.items():
        own = [c.id for c in commands.values() if c.menu == name]
        assert sorted(names_in(rows)) == sorted(own)
    whole = person.window.actions_.menu()
    for menu in [whole, *whole.findChildren(QMenu)]:
        shown = [a for a in menu.actions() if not a.isSeparator()]
        assert 0 < len(shown) <= 24
        assert menu.sizeHint().height() < 700
        assert not menu.actions()[0].isSeparator()
        assert not menu.actions()[-1].isSeparator()
    whole.deleteLater()


def test_menus_that_fill_as_they_open_stand_with_their_kind(bench: Person) -> None:
    window = bench.window
    window._menu.aboutToShow.emit()
    menus = {a.text(): a.menu() for a in window._menu.actions()}
    inside = {name: [a.text() for a in menu.actions()] for name, menu in menus.items()}
    assert inside["File"][inside["File"].index("Open…") + 1] == "Open recent"
    channels = next(a.menu() for a in menus["Listen"].actions() if a.text() == "Channels")
    assert channels.actions()[0].text() == "Listen to one channel"
    assert set(menus) == set(ORDER)
    recent = next(a.menu() for a in menus["File"].actions() if a.text() == "Open recent")
    assert next(a.text() for a in recent.actions()) == "take.wav"


def test_menus_are_walked_by_initials(bench: Person) -> None:
    window = bench.window
    bench.key(K.Key_F10)
    bench.until(lambda: isinstance(QApplication.activePopupWidget(), QMenu))
    whole = QApplication.activePopupWidget()
    bench.settle()  # the button shows its menu once more when it comes to it

    def letter(key: str) -> QMenu:
        bench.bot.keyClick(QApplication.activePopupWidget(), key)
        bench.bot.wait(20)
        return QApplication.activePopupWidget()

    view = letter("v")  # the only one: its menu opens
    assert view is not whole
    assert view.activeAction().text() == "Bench"
    words = []
    for _ in range(4):
        letter("z")
        words.append(view.activeAction().text())
    assert words == ["Zoom in", "Zoom out", "Zoom in", "Zoom out"]  # nothing is selected to zoom to
    before = window.bench.axis.frames_per_pixel
    while view.activeAction().text() != "Zoom in":
        letter("Z")
    bench.bot.keyClick(view, K.Key_Return)
    assert QApplication.activePopupWidget() is None
    assert window.bench.axis.frames_per_pixel < before

    bench.key(K.Key_F10)
    bench.until(lambda: isinstance(QApplication.activePopupWidget(), QMenu))
    letter("8")  # nothing begins with it: nothing happens
    assert whole.isVisible()
    bench.bot.keyClick(whole, K.Key_Escape)
