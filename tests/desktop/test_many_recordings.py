# SPDX-License-Identifier: GPL-3.0-or-later
"""Hundreds of recordings in the window: what is not in view costs nothing."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QContextMenuEvent
from PySide6.QtWidgets import QApplication
from tests.conftest import voice_in_noise
from tests.desktop.conftest import Person

from pulizia.desktop.bench.recordings_list import CARD_HEIGHT, Cards
from pulizia.desktop.delivery import verdicts
from pulizia.project.model import Recording

COUNT = 300


@pytest.fixture
def many(person: Person, tmp_path: Path) -> Person:
    """Recordings whose files are not at hand."""
    made = [
        Recording(
            path=tmp_path / f"r{n:03d}.wav",
            name=f"r{n:03d}",
            fingerprint=f"{n}",
            rate=48_000,
            channels=1,
            frames=96_000,
        )
        for n in range(COUNT)
    ]
    person.window.session.document.add_recordings(made, "Open")
    person.settle()
    return person


def test_the_list_draws_the_cards_in_view(many: Person, monkeypatch: pytest.MonkeyPatch) -> None:
    cards = many.window.bench.list.cards
    assert cards.height() >= COUNT * CARD_HEIGHT
    drawn: list[str] = []
    real = Cards._paint_card

    def counted(self: Cards, painter, box, recording, **more) -> None:
        drawn.append(recording.name)
        real(self, painter, box, recording, **more)

    monkeypatch.setattr(Cards, "_paint_card", counted)

    def seen() -> list[str]:
        drawn.clear()
        cards._layer = None
        cards.repaint()
        return list(drawn)

    first = seen()
    assert 5 <= len(first) <= 800 // CARD_HEIGHT + 2
    assert first[0] == "r000"
    session = many.window.session
    session.choose_recording(session.document.project.recordings[200].id)
    many.settle()  # the chosen one comes into view
    later = seen()
    assert "r200" in later
    assert "r000" not in later
    assert len(later) <= 800 // CARD_HEIGHT + 2
    # and what stands below the list is in view as well
    findings = many.window.bench.list.findings
    assert findings.mapTo(many.window, QPoint(0, 0)).y() < 600
    # a card of the middle is where the mouse finds it
    many.bot.mouseClick(cards, Qt.MouseButton.LeftButton, pos=QPoint(20, 203 * CARD_HEIGHT + 10))
    assert session.recording.name == "r203"


def test_what_is_played_goes_on_while_further_files_open(person: Person, wav: Callable[..., Path]) -> None:
    paths = [wav(voice_in_noise(1.0 if n else 20.0), f"f{n}.wav") for n in range(6)]
    session, seen = person.window.session, list[str]()
    session.events.current.connect(lambda: seen.append(session.recording.name if session.recording else ""))
    person.window.files.open_paths(paths)
    person.until(lambda: session.recording is not None)
    session.transport.play()
    person.until(lambda: len(session.document.project.recordings) == len(paths))
    assert session.transport.is_playing
    assert session.recording.name == "f0"
    assert set(seen) == {"f0"}  # the others do not pass over the bench
    person.until(lambda: all(session.measures("after", r.id) for r in session.document.project.recordings))


def test_the_verdicts_in_view_are_drawn(many: Person, monkeypatch: pytest.MonkeyPatch) -> None:
    drawn = [0]
    real = verdicts.paint_verdict
    monkeypatch.setattr(verdicts, "paint_verdict", lambda *a: (drawn.__setitem__(0, drawn[0] + 1), real(*a)))
    many.window.go_to(2)
    many.settle()
    drawn[0] = 0
    many.window.delivery.cards.repaint()
    assert 3 <= drawn[0] < 40


def test_recordings_are_picked_and_removed_by_keys(person: Person, wav: Callable[..., Path]) -> None:
    for name in ("one", "two", "three"):
        person.open(wav(voice_in_noise(1.0), f"{name}.wav"))
    cards, session = person.window.bench.list.cards, person.window.session
    cards.setFocus()
    event = QContextMenuEvent(QContextMenuEvent.Reason.Keyboard, QPoint(0, 0), QPoint(0, 0))
    QApplication.sendEvent(cards, event)
    menu = QApplication.activePopupWidget()
    assert menu.pos() == cards.corner_of(session.current_id)
    assert "Remove from project" in [a.text() for a in menu.actions()]
    menu.close()
    person.bot.keyClick(cards, Qt.Key.Key_Up, Qt.KeyboardModifier.ShiftModifier)
    person.window.actions_.actions["recording_remove"].trigger()
    assert len(session.document.project.recordings) == 1
    session.document.undo()
    assert [r.name for r in session.document.project.recordings] == ["one", "two", "three"]
