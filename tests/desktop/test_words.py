# SPDX-License-Identifier: GPL-3.0-or-later
"""Every word of the window comes from a catalogue, the shipped ones are complete, and longer words fit."""

from __future__ import annotations

import gettext
import re
from collections.abc import Iterator
from functools import cache
from pathlib import Path

import pytest
from babel.messages.catalog import Catalog
from PySide6.QtCore import QLocale
from PySide6.QtGui import QAction, QPainter
from PySide6.QtWidgets import QAbstractButton, QComboBox, QLabel, QWidget
from pytestqt.qtbot import QtBot
from tests.desktop.conftest import Person
from tests.test_trust import load_script

from pulizia.desktop.language import catalogue_of, use_language
from pulizia.desktop.start import make_window
from pulizia.media.folders import config_folder
from pulizia.tools.registry import ALL
from pulizia.units import format_number
from pulizia.words import plural, tr, translated, use_catalogue

OPEN, CLOSE = "\u2039", "\u203a"
WHOLE = re.compile(r"[A-Za-z]{3}")


@cache
def words() -> Catalog:
    return load_script("translate").words()


class Pseudo(gettext.NullTranslations):
    """A language of its own: every text of the catalogue between marks and 40 % longer."""

    def __init__(self) -> None:
        super().__init__()
        self.known = {form for m in words() if m.id for form in ([m.id] if isinstance(m.id, str) else m.id)}

    def gettext(self, message: str) -> str:
        if message not in self.known:
            return message
        return OPEN + message + "~" * round(0.4 * len(message)) + CLOSE

    def ngettext(self, msgid1: str, msgid2: str, n: int) -> str:
        return self.gettext(msgid1 if n == 1 else msgid2)

    def pgettext(self, context: str, message: str) -> str:
        assert words().get(message, context) is not None
        return OPEN + message + CLOSE


@pytest.fixture
def pseudo() -> Iterator[None]:
    use_catalogue(Pseudo(), ",")
    yield
    use_catalogue(None)


def shown(window: QWidget) -> Iterator[str]:
    for widget in window.findChildren(QWidget):
        yield widget.toolTip()
        yield widget.accessibleName()
        if isinstance(widget, QLabel | QAbstractButton):
            yield widget.text()
        if isinstance(widget, QComboBox):
            yield from (widget.itemText(n) for n in range(widget.count()))
    yield from (action.text() for action in window.findChildren(QAction))


@pytest.fixture
def painted(monkeypatch: pytest.MonkeyPatch) -> set[str]:
    """Every text that a view paints."""
    found: set[str] = set()
    draw = QPainter.drawText

    def keep(painter: QPainter, *arguments: object) -> object:
        found.update(a for a in arguments if isinstance(a, str))
        return draw(painter, *arguments)

    monkeypatch.setattr(QPainter, "drawText", keep)
    return found


def test_every_text_of_the_window_is_in_the_catalogue(
    pseudo: None, painted: set[str], qtbot: QtBot, qapp, voice_file: Path
) -> None:
    window, poster = make_window(simulated=True)
    window.asks = False
    qtbot.addWidget(window)
    person = Person(qtbot, window)
    window.show()
    person.open(voice_file)
    texts = set(shown(window))
    window.studio.repairs.inspect() if hasattr(window.studio.repairs, "inspect") else None
    for tool in ALL:
        window.studio.repairs.add_tool(tool.id, on_selection=False)
        person.settle()
        texts |= set(shown(window))
    window.go_to(1)
    person.settle()
    texts |= set(shown(window))
    for name in ("show_recipes","keep_recipe","show_print","edit_target","show_sound","show_figures","show_find","show_storage","show_about","show_keys"):
        if hasattr(window.doors, name):
            getattr(window.doors,name)()
            person.settle()
    texts |= set(shown(window)) | painted
    assert len(texts) > 300
    print("PAINTED", "\n".join(sorted(t for t in painted if WHOLE.search(t) and OPEN not in t)))
    print("TEXT", "\n".join(sorted(t for t in texts if WHOLE.search(t) and OPEN not in t)))
    window.close()
    poster.close()
    assert 0
