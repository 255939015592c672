# SPDX-License-Identifier: GPL-3.0-or-later
"""Every word of the window can be told in another language."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

import pytest
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QAbstractButton, QComboBox, QLabel, QWidget
from pytestqt.qtbot import QtBot
from tests.desktop.conftest import Person
from tests.test_trust import load_script

from pulizia.desktop.start import make_window
from pulizia.desktop.words import read_catalogue, translated, use_language, use_system_language
from pulizia.errors import ProjectError
from pulizia.media.folders import config_folder


@pytest.fixture
def reversed_words() -> Iterator[dict[str, str]]:
    """A language of its own: every sentence between marks."""
    entries = {text: f"\u2039{text}\u203a" for text in load_script("list_words").catalogue()}
    use_language(entries)
    yield entries
    use_language(None)


def shown(window: QWidget) -> Iterator[str]:
    for widget in window.findChildren(QWidget):
        yield widget.toolTip()
        yield widget.accessibleName()
        if isinstance(widget, QLabel | QAbstractButton):
            yield widget.text()
        if isinstance(widget, QComboBox):
            yield from (widget.itemText(n) for n in range(widget.count()))
    yield from (action.text() for action in window.findChildren(QAction))


def test_nothing_is_shown_in_the_programs_own_words(
    reversed_words: dict[str, str], qtbot: QtBot, qapp, voice_file: Path
) -> None:
    window, poster = make_window(simulated=True)
    window.asks = False
    qtbot.addWidget(window)
    person = Person(qtbot, window)
    window.show()
    person.open(voice_file)
    for tool in ("noise", "leveller", "equaliser"):
        window.studio.repairs.add_tool(tool, on_selection=False)
        person.settle()
    window.go_to(1)
    person.settle()
    texts = [t for t in shown(window) if t]
    assert len(texts) > 300
    assert not {t for t in texts if t in reversed_words}
    spoken = [t for t in texts if any(c.isalpha() for c in t)]
    assert sum("\u2039" in t for t in spoken) > 0.85 * len(spoken)  # the rest are names and figures
    window.close()
    poster.close()


def test_sentences_keep_their_figures_and_wrong_catalogues_are_told() -> None:
    use_language({"{} of {} lowered": "abgesenkt: {} von {}", "all": "alle", "Close": ""})
    try:
        assert translated("3 of 7 lowered") == "abgesenkt: 3 von 7"
        assert translated("all of 7 lowered") == "abgesenkt: alle von 7"
        assert translated("Close") == "Close"
        assert translated("-12.0") == "-12.0"
    finally:
        use_language(None)
    assert translated("all") == "all"


def test_the_catalogue_of_the_language_is_taken_from_the_settings_folder(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("PULIZIA_LANGUAGE", "it_IT")
    path = config_folder("words") / "it.json"
    path.write_text(json.dumps({"Bench": "Banco"}), encoding="utf-8")
    try:
        assert use_system_language() == ""
        assert translated("Bench") == "Banco"
        path.write_text("{", encoding="utf-8")
        assert "cannot be read" in use_system_language()
        path.write_text('{"{} steps": "passi"}', encoding="utf-8")
        with pytest.raises(ProjectError, match="as many"):
            read_catalogue(path)
    finally:
        use_language(None)
