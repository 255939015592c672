# SPDX-License-Identifier: GPL-3.0-or-later
"""The whole job with the mouse alone: everything that is pressed is in view, enabled, and not covered by anything."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt, QTimer
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QApplication, QComboBox, QFileDialog, QMenu, QPushButton, QWidget
from tests.conftest import voice_in_noise
from tests.desktop.conftest import Person

from pulizia.media.open import open_media
from pulizia.project.file import load_project
from pulizia.session.heard import Listening

RATE = 48_000
LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def answers(monkeypatch: pytest.MonkeyPatch) -> dict[str, list[str]]:
    """What the file dialogs answer, one after the other."""
    made: dict[str, list[str]] = {"open": [], "save": []}
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *_a, **_k: ([made["open"].pop(0)], ""))
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (made["save"].pop(0), ""))
    return made


class Hand:
    """Presses what can be seen, where it can be seen."""

    def __init__(self, person: Person) -> None:
        self.person, self.bot, self.window = person, person.bot, person.window

    def press_at(self, widget: QWidget, place: QPoint | None = None) -> None:
        """Press a widget at a place of it, which must be in view and on top."""
        at = place or widget.rect().center()
        self.person.until(lambda: widget.isVisible() and widget.isEnabled())
        there = self.window.childAt(widget.mapTo(self.window, at))
        assert there is not None
        assert there is widget or widget.isAncestorOf(there) or there.isAncestorOf(widget), (widget, there)
        self.bot.mouseClick(widget, LEFT, pos=at)

    def press(self, text: str, within: QWidget | None = None) -> None:
        """Press the button with these words."""
        root = within or self.window

        def found() -> list[QPushButton]:
            return [
                b for b in root.findChildren(QPushButton) if b.isVisible() and b.text().strip("\u25cf\u25cb ") == text
            ]

        self.person.until(found)
        self.press_at(found()[0])

    def pick(self, *words: str) -> None:
        """Go through the menus that are open, one after the other."""
        for word in words:

            def found(word: str = word) -> list[QAction]:
                menu = QApplication.activePopupWidget()
                actions = menu.actions() if isinstance(menu, QMenu) else []
                return [a for a in actions if a.text().split("\t")[0].replace("&", "") == word and a.isEnabled()]

            self.person.until(found)
            menu, action = QApplication.activePopupWidget(), found()[0]
            self.bot.mouseClick(menu, LEFT, pos=menu.actionGeometry(action).center())

    def menu(self, *words: str) -> None:
        """Press the menu button and go through it; the button holds the loop until something is chosen."""

        def when_open(tries: int = 400) -> None:
            # a busy machine may come here between press and release: to wait in this place would hold the release up
            if QApplication.activePopupWidget() is None and tries:
                QTimer.singleShot(50, lambda: when_open(tries - 1))
            else:
                self.pick(*words)

        when_open()
        self.press_at(self.window.top.menu)

    def choose(self, box: QComboBox, start: str) -> None:
        """Open a choice and press one of its lines."""
        self.press_at(box)
        view = box.view()
        self.person.until(view.isVisible)
        index = next(n for n in range(box.count()) if box.itemText(n).startswith(start))
        place = view.visualRect(box.model().index(index, 0)).center()
        self.bot.mouseMove(view.viewport(), place)
        self.bot.mousePress(view.viewport(), LEFT, pos=place)
        self.bot.wait(QApplication.doubleClickInterval() // 4)
        self.bot.mouseRelease(view.viewport(), LEFT, pos=place)
        self.person.until(lambda: box.currentIndex() == index)


def troubled() -> np.ndarray:
    """Hum, twelve clicks and a whistle for a second, in a voice with noise."""
    sound = voice_in_noise(10.0)
    t = np.arange(sound.shape[1]) / RATE
    sound += sum(0.01 / k * np.sin(2 * np.pi * 50.0 * k * t) for k in range(1, 5)).astype(np.float32)
    for at in np.linspace(70_000, 460_000, 12).astype(int):
        sound[0, at : at + 4] += np.array([0.5, -0.6, 0.4, -0.2], np.float32)
    sound[0, 6 * RATE : 7 * RATE] += (0.03 * np.sin(2 * np.pi * 3000 * t[:RATE])).astype(np.float32)
    return sound


@pytest.mark.slow
def test_the_whole_job_by_mouse(
    person: Person, wav: Callable[..., Path], tmp_path: Path, answers: dict[str, list[str]], untouched
) -> None:
    hand, window, session = Hand(person), person.window, person.window.session
    bench, source = window.bench, wav(troubled(), "take.wav")
    untouched(source)
    tools = lambda: [s.tool_id for s in person.recording.score]  # noqa: E731

    # open from the empty window; mark the noise; take it; hear it three ways
    answers["open"].append(str(source))
    hand.press("Open recordings\u2026")
    person.until(lambda: session.chain is not None)
    person.settle()
    person.mark(0.2, 0.9)
    hand.press("Learn noise", bench.bar)
    person.settle()
    assert tools() == ["noise"]
    hand.press_at(window.foot.play)
    person.until(lambda: session.transport.is_playing)
    for share, expected in (
        (0.1, Listening.BEFORE),
        (0.6, Listening.REMOVED),
        (0.9, Listening.STEP),
        (0.35, Listening.AFTER),
    ):
        switch = window.foot.switch
        hand.press_at(switch, QPoint(round(switch.width() * share), switch.height() // 2))
        assert session.listening is expected
    hand.press_at(window.foot.play)
    person.until(lambda: not session.transport.is_playing)

    # a slider, the sheet's switch, the strip's dot; a step from the row below, moved and moved back
    track = person.body.controls["reduction_db"].track
    before = session.step.settings.reduction_db
    hand.press_at(track, QPoint(track.width() - 20, track.height() // 2))
    assert session.step.settings.reduction_db > before
    hand.press("on", person.body)
    assert not session.step.enabled
    hand.press_at(bench.score, bench.score.plan.dot_place(0).toPoint())
    assert session.step.enabled
    row = bench.score.plan.row_box(1).center().toPoint()
    hand.press_at(bench.score, QPoint(120, row.y()))
    hand.pick("Clicks")
    person.until(lambda: tools() == ["clicks", "noise"])
    person.settle()
    upper, lower = (bench.score.plan.row_box(n).center() for n in (0, 1))
    person.drag(bench.score, QPointF(300, upper.y()), QPointF(300, lower.y() + 14))
    assert tools() == ["noise", "clicks"]
    hand.press_at(window.top.undo)
    assert tools() == ["clicks", "noise"]

    # the whistle is marked in the sonogram and becomes a step; a word is given back
    view = bench.sonogram
    high, low = view.scale.row_of_hz(3600.0), view.scale.row_of_hz(2500.0)
    person.drag(view, QPointF(person.at_time(view, 5.95).x(), high), QPointF(person.at_time(view, 7.05).x(), low))
    assert session.selection.band_hz is not None
    hand.press("Areas", bench.bar)
    person.until(lambda: "areas" in tools())
    person.settle()
    place = np.abs(np.fft.rfft(session.chain.after.read(6 * RATE, 7 * RATE)[0]))[2990:3010].max()
    assert place < 0.2 * np.abs(np.fft.rfft(session.chain.before.read(6 * RATE, 7 * RATE)[0]))[2990:3010].max()
    person.mark(3.0, 3.5)
    hand.press("Restore original", bench.bar)
    assert any(s.holes for s in person.recording.score)
    hand.press_at(window.top.undo)
    assert not any(s.holes for s in person.recording.score)

    # inspect, treat what is left, trim
    hand.press("Inspect", bench.list)
    person.settle()
    hand.press("Treat all", bench.list)
    person.until(lambda: len(tools()) > 3 and not session.inspection.is_treating)
    person.settle()
    person.mark(1.0, 9.0)
    hand.menu("Edit", "Trim to selection")
    person.until(lambda: person.recording.trim is not None)
    assert person.recording.kept_seconds == pytest.approx(8.0, abs=0.05)
    person.settle()

    # deliver for another target, save
    hand.press_at(window.top.places, QPoint(190, 24))
    assert window.delivery.isVisible()
    hand.choose(window.delivery.target_box, "Online, \u221216")
    person.until(lambda: window.delivery.plan is not None)
    answers["save"].append(str(tmp_path / "out.wav"))
    hand.press("Deliver\u2026", window.delivery)
    person.until(lambda: window.delivery.written.delivered is not None, 60)
    assert window.delivery.written.delivered.passes
    assert open_media(tmp_path / "out.wav").source.frames == person.recording.kept.frames
    answers["save"].append(str(tmp_path / "job.pulizia"))
    hand.menu("File", "Save project as\u2026")
    person.until((tmp_path / "job.pulizia").exists)
    assert load_project(tmp_path / "job.pulizia").recordings[0].score == person.recording.score
