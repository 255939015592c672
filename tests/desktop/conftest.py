# SPDX-License-Identifier: GPL-3.0-or-later
"""The real window over the simulated output."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QCoreApplication, QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QContextMenuEvent
from PySide6.QtWidgets import QApplication, QMenu, QWidget
from pytestqt.qtbot import QtBot
from tests.conftest import voice_in_noise

from pulizia.desktop import bars
from pulizia.desktop.bench.time_axis import GUTTER
from pulizia.desktop.bench.tool_sheet import ToolSheet
from pulizia.desktop.start import make_application, make_window
from pulizia.desktop.window import MainWindow


@pytest.fixture(scope="session")
def qapp():
    return make_application()


class Person:
    """Mouse and keys on the real window."""

    def __init__(self, qtbot: QtBot, window: MainWindow) -> None:
        self.bot, self.window = qtbot, window

    def open(self, *paths: Path) -> None:
        before = len(self.window.session.document.project.recordings)
        self.window.files.open_paths(list(paths))
        self.until(lambda: len(self.window.session.document.project.recordings) == before + len(paths))
        self.settle()

    def until(self, condition: Callable[[], object], seconds: float = 60.0) -> None:
        self.bot.waitUntil(lambda: bool(condition()), timeout=round(seconds * 1000))

    def settle(self) -> None:
        self.until(lambda: not self.window.session.pool.busy and not self.window.bench.sheet.is_building)
        self.bot.wait(10)

    @property
    def body(self) -> ToolSheet:
        """What the sheet shows of the selected step, as soon as it is built."""
        sheet = self.window.bench.sheet
        self.until(lambda: not sheet.is_building)
        assert sheet.body is not None
        return sheet.body

    def key(self, key: Qt.Key, modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        if QApplication.activeWindow() is None:  # without a window manager nothing follows a closed dialog
            self.window.activateWindow()
            self.until(self.window.isActiveWindow)
        self.bot.keyClick(self.window, key, modifier)
        if key == Qt.Key.Key_N:  # the marked noise is listened to first, in the background
            self.settle()

    def drag(self, widget: QWidget, start: QPointF, stop: QPointF) -> None:
        self.bot.mousePress(widget, Qt.MouseButton.LeftButton, pos=start.toPoint())
        for share in (0.3, 0.7, 1.0):
            self.bot.mouseMove(widget, (start + (stop - start) * share).toPoint())
            move(widget, start + (stop - start) * share)
        self.bot.mouseRelease(widget, Qt.MouseButton.LeftButton, pos=stop.toPoint())

    def click(self, widget: QWidget, place: QPointF | None = None) -> None:
        at = place.toPoint() if place is not None else QPoint(widget.width() // 2, widget.height() // 2)
        self.bot.mouseClick(widget, Qt.MouseButton.LeftButton, pos=at)

    def at_time(self, widget: QWidget, seconds: float, share: float = 0.5) -> QPointF:
        axis = self.window.bench.axis
        return QPointF(GUTTER + axis.x_at(seconds * axis.rate), widget.height() * share)

    def mark(self, start_s: float, stop_s: float) -> None:
        view = self.window.bench.waveform
        self.drag(view, self.at_time(view, start_s), self.at_time(view, stop_s))

    @property
    def recording(self):
        return self.window.session.recording

    @property
    def said(self) -> str:
        return self.window.message.text.text() if self.window.message.isVisible() else ""


def move(widget: QWidget, place: QPointF) -> None:
    """A mouse move with the left button held (qtbot's own carries no buttons)."""
    from PySide6.QtGui import QMouseEvent
    from PySide6.QtWidgets import QApplication

    event = QMouseEvent(
        QEvent.Type.MouseMove, place, widget.mapToGlobal(place), Qt.MouseButton.NoButton,
        Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier,
    )  # fmt: skip
    QApplication.sendEvent(widget, event)


def menu_at(person: Person, widget: QWidget, at: QPointF) -> QMenu:
    """The menu of the right button at a place, still open."""
    event = QContextMenuEvent(QContextMenuEvent.Reason.Mouse, at.toPoint(), widget.mapToGlobal(at.toPoint()))
    QApplication.sendEvent(widget, event)
    person.until(lambda: QApplication.activePopupWidget() is not None)
    menu = QApplication.activePopupWidget()
    assert isinstance(menu, QMenu)
    return menu


@pytest.fixture
def person(qtbot: QtBot, qapp, monkeypatch: pytest.MonkeyPatch) -> Iterator[Person]:
    monkeypatch.setattr(bars, "MESSAGE_MS", 600_000)  # a slow machine reads a message as surely as a fast one
    window, poster = make_window(simulated=True)
    window.files.asks = False
    qtbot.addWidget(window)
    window.resize(1280, 800)
    with qtbot.waitExposed(window):
        window.show()
    window.activateWindow()
    yield Person(qtbot, window)
    window.close()
    poster.close()
    assert not window.session.pool.unexpected
    window.deleteLater()  # gone before the next one is made: Qt goes through all widgets that there are
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)


@pytest.fixture
def bench(person: Person, voice_file: Path) -> Person:
    """The voice on the bench."""
    person.open(voice_file)
    return person


RATE = 48_000
PHRASES = ((1.0, 2.2), (4.0, 5.5), (8.0, 9.4))


def talked(seconds: float, phrases: tuple[tuple[float, float], ...], seed: int = 3) -> np.ndarray:
    """Voice in these sections over quiet noise."""
    return _talked(seconds, phrases, seed).copy()


@cache
def _talked(seconds: float, phrases: tuple[tuple[float, float], ...], seed: int) -> np.ndarray:
    t = np.arange(round(seconds * RATE)) / RATE
    rng = np.random.default_rng(seed)
    pitch = 2 * np.pi * np.cumsum(140 + 15 * np.sin(2 * np.pi * 0.6 * t)) / RATE
    tone = sum(np.sin(k * pitch) / k for k in range(1, 24))
    on = sum(((t >= a) & (t < b)).astype(float) for a, b in phrases)
    syllables = 0.4 + 0.6 * np.clip(np.sin(2 * np.pi * 3.1 * t) * 2, 0, 1)
    return (0.1 * tone * on * syllables + rng.normal(0, 10 ** (-62 / 20), len(t)))[None].astype(np.float32)


@pytest.fixture
def place(person: Person, wav: Callable[..., Path]) -> Person:
    """A talk of twelve seconds and a second recording behind it, both on one lane."""
    person.open(wav(talked(12.0, PHRASES), "talk.wav"))
    person.open(wav(voice_in_noise(6.0), "bert.wav"))
    person.key(Qt.Key.Key_F3)
    person.window.assembly.add_all()
    person.settle()
    return person


@pytest.fixture
def two(person: Person, wav: Callable[..., Path]) -> Person:
    """Two recordings in the project."""
    person.open(wav(voice_in_noise(5.0), "one.wav"), wav(voice_in_noise(4.0, seed=2) * 0.4, "two.wav"))
    person.window.go_to(2)
    person.settle()
    return person


def choose(box, text: str) -> None:
    box.setCurrentIndex(next(n for n in range(box.count()) if box.itemText(n).startswith(text)))
    box.activated.emit(box.currentIndex())
