# SPDX-License-Identifier: GPL-3.0-or-later
"""The manual, F1, the first steps and storage, in the real window."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QCursor
from PySide6.QtWidgets import QFileDialog, QPushButton, QWidget
from tests.desktop.conftest import Person

from pulizia.media.folders import cache_folder
from pulizia.report.manual import pages, sections


def test_the_manual_opens_where_one_is_and_its_pages_are_current(two: Person) -> None:
    folder = Path(__file__).parents[2] / "docs" / "manual"
    assert {p.name: p.read_text(encoding="utf-8") for p in folder.glob("*.md")} == pages()
    two.key(Qt.Key.Key_F1)
    assert "Deliverables" in two.window.dialogs.help.text.toPlainText()
    two.window.dialogs.help.accept()
    two.window.go_to(0)
    session = two.window.session
    session.repairs.add_tool("leveller", on_selection=False)
    QCursor.setPos(two.window.bench.sheet.mapToGlobal(QPoint(100, 60)))
    two.key(Qt.Key.Key_F1)
    assert "phrases" in two.window.dialogs.help.text.toPlainText()
    two.window.dialogs.help.accept()


def test_f1_opens_the_section_of_what_has_the_keys_and_every_section_named_exists(two: Person) -> None:
    window = two.window
    named = {w.property("manual") for w in window.findChildren(QWidget) if isinstance(w.property("manual"), str)} - {
        "step"
    }
    assert len(named) > 10
    for place in named:
        page, _, section = place.partition("#")
        assert section in sections(page)
    two.key(Qt.Key.Key_F2)
    QCursor.setPos(window.mapToGlobal(QPoint(640, 20)))
    window.bench.score.setFocus()
    two.key(Qt.Key.Key_F1)
    shown = window.dialogs.help
    assert shown.list.currentItem().text() == "The Bench"
    assert shown.text.textCursor().block().text() == "Steps"
    shown.accept()


@pytest.mark.slow
def test_the_first_steps_are_done_by_their_rows_and_ticked(
    two: Person, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    window, session = two.window, two.window.session
    window.show_first_steps()
    first = window.bench.list.first_steps
    assert first.isVisible()
    done = lambda: [row.text().startswith("\u2713") for row in first.rows]  # noqa: E731
    assert done() == [True, False, False, False, False]
    two.click(first.rows[1])
    two.until(lambda: session.inspection.is_current)
    two.click(first.rows[2])
    two.until(lambda: two.recording.score, 60)
    two.click(first.rows[3])
    two.until(lambda: session.transport.is_playing)
    two.key(Qt.Key.Key_Space)
    assert done() == [True, True, True, True, False]
    written = tmp_path / "first.wav"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a: (str(written), ""))
    two.until(lambda: not session.pool.busy, 60)
    two.click(first.rows[4])
    two.until(lambda: not session.queue.is_working, 60)
    assert written.exists()
    assert all(done())
    assert first.rows[4].accessibleName() == "Deliver a file, done"
    window.go_to(0)
    two.click(next(b for b in first.findChildren(QPushButton) if b.text() == "Hide"))
    assert not first.isVisible()
    assert window.preferences.text("first steps", "shown") == "hidden"


def test_storage_is_seen_and_cleared(two: Person) -> None:
    window = two.window
    decoded = cache_folder("decoded")
    (decoded / "old.wav").write_bytes(bytes(3_000_000))
    window.dialogs.show_storage()
    assert window.dialogs.storage.figures["decoded"].startswith("3 MB of ")
    known = cache_folder("loudness") / "an-earlier-project.json"
    known.write_text("{}")
    window.dialogs.storage.clear()
    assert not known.exists()
    assert not (decoded / "old.wav").exists()
    assert window.dialogs.storage.figures["decoded"].startswith("0 MB")
    window.dialogs.storage.accept()
