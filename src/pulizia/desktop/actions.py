"""Every action once: its words, its key, its menu and what it calls."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QMenu, QWidget

from pulizia.desktop.words import translated

MENUS = ("File", "Edit", "Listen", "View", "Steps", "Delivery", "Help")


@dataclass(frozen=True, slots=True)
class Command:
    """One thing a person can do."""

    id: str
    menu: str
    words: str
    keys: tuple[str, ...]
    call: Callable[[], None]
    enabled: Callable[[], bool] = lambda: True
    checked: Callable[[], bool] | None = None


class Actions:
    """The commands as Qt actions of a window, and the menus made of them."""

    def __init__(self, window: QWidget, commands: list[Command]) -> None:
        self._window = window
        self.commands = {command.id: command for command in commands}
        self.actions: dict[str, QAction] = {}
        for command in commands:
            action = QAction(translated(command.words), window)
            action.setShortcuts([QKeySequence(key) for key in command.keys])
            action.setShortcutContext(Qt.ShortcutContext.WindowShortcut)
            action.setCheckable(command.checked is not None)
            action.triggered.connect(lambda _on=False, c=command: c.call())
            window.addAction(action)
            self.actions[command.id] = action

    def refresh(self) -> None:
        """Enable and check what can be done now."""
        for name, action in self.actions.items():
            command = self.commands[name]
            action.setEnabled(command.enabled())
            if command.checked is not None:
                action.setChecked(command.checked())

    def menu(self) -> QMenu:
        """All commands as one menu with a submenu per subject."""
        whole = QMenu(self._window)
        for name in MENUS:
            part = whole.addMenu(translated(name))
            for command in self.commands.values():
                if command.menu == name:
                    part.addAction(self.actions[command.id])
        return whole

    def step_menu(self) -> QMenu:
        """The commands of the score."""
        menu = QMenu(self._window)
        for command in self.commands.values():
            if command.menu == "Steps":
                menu.addAction(self.actions[command.id])
        return menu

    def key_table(self) -> list[tuple[str, str, str]]:
        """Subject, words and keys of every command."""
        rows = []
        for name in MENUS:
            for command in self.commands.values():
                if command.menu == name:
                    keys = ", ".join(
                        QKeySequence(k).toString(QKeySequence.SequenceFormat.NativeText) for k in command.keys
                    )
                    rows.append((name, command.words.replace("\u2026", ""), keys))
        return rows
