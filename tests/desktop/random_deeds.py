# SPDX-License-Identifier: GPL-3.0-or-later
"""Random deeds in the real window: ``python -m tests.desktop.random_deeds SEED COUNT FOLDER``.

A process of its own, because what such deeds find may end it. It ends with 0 when nothing unexpected happened; else it
writes what did, and the deeds that led there. Files are chosen and written in FOLDER alone.
"""

from __future__ import annotations

import faulthandler
import random
import sys
import time
import traceback
from collections import deque
from collections.abc import Callable
from pathlib import Path

import shiboken6
from PySide6.QtCore import QCoreApplication, QEvent, QPoint, Qt, QTimer
from PySide6.QtGui import QDesktopServices
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractSpinBox,
    QApplication,
    QComboBox,
    QDialog,
    QFileDialog,
    QLineEdit,
    QMenu,
    QMessageBox,
    QWidget,
)

from pulizia.desktop.start import make_application, make_window

NOT = {"quit"}  # it would end them
TYPED = ("12", "-3", "abc", "1:02", "0", "9999999999", "x/y", "")
LONGEST_DIALOG_S = 1.0
CONTROLS = (QAbstractButton, QComboBox, QAbstractSpinBox, QLineEdit, QAbstractItemView)
LETTERS = "ABCDEFGHIJKLMNOPRSTUVWXYZ"
KEYS = [getattr(Qt.Key, f"Key_{name}") for name in (*LETTERS, *"0123", "Space", "Delete", "Left", "Right", "Up", "Down", "Return", "Escape")]  # fmt: skip
MODIFIERS = [Qt.KeyboardModifier.NoModifier] * 3 + [Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.AltModifier]


class Hands:
    """Whoever does the deeds, and what was seen to go wrong."""

    def __init__(self, seed: int, folder: Path) -> None:
        self.chance, self.folder = random.Random(seed), folder
        self.deeds: deque[str] = deque(maxlen=15)
        self.faults: list[str] = []
        self._dialog: QWidget | None = None
        self._since = 0.0
        sys.excepthook = lambda _kind, error, _trace: self.note(error)
        sys.unraisablehook = lambda found: self.note(found.exc_value)
        self._answer_for_the_desktop()
        self.window, _ = make_window(simulated=True)
        self.window.resize(1280, 800)
        self.window.show()
        self._timer = QTimer()
        self._timer.timeout.connect(self._tend)
        self._timer.start(40)

    def note(self, error: BaseException | None) -> None:
        told = "".join(traceback.format_exception(error)) if error is not None else "?"
        self.faults.append(told + "after:\n  " + "\n  ".join(self.deeds))

    def _answer_for_the_desktop(self) -> None:
        def there(*_: object) -> str:
            found = sorted(path for path in self.folder.rglob("*") if path.is_file())
            return str(self.chance.choice(found)) if found and self.chance.random() < 0.8 else ""

        def new(*_: object) -> str:
            names = ("a.wav", "b.txt", "c", "d.csv", "e.pulizia", "f.otio", "g.edl", "h.json", "")
            name = self.chance.choice(names)
            return str(self.folder / name) if name else ""

        QFileDialog.getSaveFileName = staticmethod(lambda *_a, **_k: (new(), ""))
        QFileDialog.getOpenFileName = staticmethod(lambda *_a, **_k: (there(), ""))
        QFileDialog.getOpenFileNames = staticmethod(lambda *_a, **_k: ([name] if (name := there()) else [], ""))
        QFileDialog.getExistingDirectory = staticmethod(lambda *_a, **_k: str(self.folder))
        QDesktopServices.openUrl = staticmethod(lambda *_a: True)

    def wait(self, seconds: float) -> None:
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            QApplication.processEvents()
            QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
            time.sleep(0.002)

    def do(self) -> None:
        """One deed."""
        deed: Callable[[], None] = self.chance.choices(
            (self._command, self._click, self._control, self._key, self._go_round), (40, 25, 15, 15, 5)
        )[0]
        try:
            deed()
        except Exception as error:  # noqa: BLE001 - whatever it is, it is told
            self.note(error)

    def _command(self) -> None:
        offered = [c for c in self.window.actions_.commands.values() if c.id not in NOT and c.enabled()]
        command = self.chance.choice(offered)
        self.deeds.append(f"command {command.id}")
        command.call()

    def _click(self) -> None:
        shown = [w for w in self.window.findChildren(QWidget) if w.isVisible() and min(w.width(), w.height()) > 8]
        widget = self.chance.choice(shown)
        at = QPoint(self.chance.randrange(widget.width()), self.chance.randrange(widget.height()))
        modifier = self.chance.choice(MODIFIERS)
        self.deeds.append(f"click {type(widget).__name__} {at.x()},{at.y()} {modifier}")
        press = QTest.mouseDClick if self.chance.random() < 0.15 else QTest.mouseClick
        press(widget, Qt.MouseButton.LeftButton, modifier, at)

    def _control(self) -> None:
        self._use(self.window)

    def _key(self) -> None:
        widget = QApplication.focusWidget() or self.window
        key, modifier = self.chance.choice(KEYS), self.chance.choice(MODIFIERS)
        self.deeds.append(f"key {key.name} {modifier} on {type(widget).__name__}")
        QTest.keyClick(widget, key, modifier)

    def _go_round(self) -> None:
        self.deeds.append("the keys go round the areas")
        for _ in range(7):
            QTest.keyClick(self.window, Qt.Key.Key_Tab, Qt.KeyboardModifier.ControlModifier)

    def _use(self, root: QWidget) -> None:
        controls = [
            w for w in root.findChildren(QWidget) if w.isVisible() and w.isEnabled() and isinstance(w, CONTROLS)
        ]
        if not controls:
            return
        control = self.chance.choice(controls)
        words = control.text() if isinstance(control, QAbstractButton) else control.accessibleName()
        self.deeds.append(f"use {type(control).__name__} {words}")
        if isinstance(control, QAbstractButton):
            control.click()
        elif isinstance(control, QComboBox):
            if control.count():
                control.setCurrentIndex(self.chance.randrange(control.count()))
                control.activated.emit(control.currentIndex())
        elif isinstance(control, QLineEdit):
            control.setFocus()
            control.selectAll()
            QTest.keyClicks(control, self.chance.choice(TYPED))
        else:
            control.setFocus()
            QTest.keyClick(control, self.chance.choice((Qt.Key.Key_Up, Qt.Key.Key_Down)))

    def _tend(self) -> None:
        """Whatever menu or dialog is open: use it for a while, and close it."""
        popup, dialog = QApplication.activePopupWidget(), QApplication.activeModalWidget()
        if isinstance(popup, QMenu):
            rows = [row for row in popup.actions() if row.isEnabled() and not row.isSeparator() and row.menu() is None]
            popup.close()
            if rows and self.chance.random() < 0.7:
                row = self.chance.choice(rows)
                if row.text().split("\t")[0] != "Quit":
                    self.deeds.append(f"menu {row.text()}")
                    QTimer.singleShot(0, lambda: row.trigger() if shiboken6.isValid(row) else None)
        elif popup is not None:
            popup.close()
        elif isinstance(dialog, QMessageBox):
            pressed = self.chance.choice(dialog.buttons())
            self.deeds.append(f"answer {pressed.text()}")
            pressed.click()
        elif isinstance(dialog, QDialog):
            if dialog is not self._dialog:
                self._dialog, self._since = dialog, time.monotonic()
                self.deeds.append(f"dialog {type(dialog).__name__}")
            if time.monotonic() - self._since > LONGEST_DIALOG_S:
                dialog.reject()
            else:
                self._use(dialog)
        elif dialog is None:
            self._dialog = None


def main(seed: int, count: int, folder: Path) -> int:
    """Do them; 0 when nothing unexpected happened."""
    faulthandler.enable()
    application = make_application()  # held until the end
    hands = Hands(seed, folder)
    hands.window.files.open_demo()
    hands.window.files.asks = bool(seed % 2)
    hands.wait(2.0)
    for _ in range(count):
        if QApplication.activeModalWidget() is None:  # else a person could not reach the window
            hands.do()
        hands.wait(hands.chance.choice((0.0, 0.0, 0.02, 0.1)))
        if not hands.window.isVisible():
            hands.window.show()
    while QApplication.activeModalWidget() is not None or QApplication.activePopupWidget() is not None:
        hands.wait(0.1)
    faults = hands.faults + hands.window.session.pool.unexpected
    sys.stdout.write("\n".join(faults) + "\n")
    hands.window.files.asks = False
    hands.window.close()
    hands.wait(0.1)
    application.processEvents()
    return 1 if faults else 0


if __name__ == "__main__":
    sys.exit(main(int(sys.argv[1]), int(sys.argv[2]), Path(sys.argv[3])))
