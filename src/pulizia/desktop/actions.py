# SPDX-License-Identifier: GPL-3.0-or-later
"""Every action once: its words, its key, its menu and what it calls."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QWidget

from pulizia.desktop.menu import Menu
from pulizia.desktop.menu_order import ORDER, fill
from pulizia.words import N_, tr, translated

MENUS = (N_("File"), N_("Edit"), N_("Listen"), N_("View"), N_("Steps"), N_("Assembly"), N_("Delivery"), N_("Help"))


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
    place: str = ""  # where it rests in all others, so that its keys are free there; "" acts everywhere

    def meets(self, other: Command) -> bool:
        """Whether both may act at the same time: then they cannot have one key."""
        return not self.place or not other.place or self.place == other.place


class Actions:
    """The commands as Qt actions of a window, and the menus made of them."""

    def __init__(self, window: QWidget, commands: list[Command]) -> None:
        self._window = window
        self.commands = {command.id: command for command in commands}
        self.actions: dict[str, QAction] = {}
        self._own: dict[str, list[str]] = {}
        self.keys_changed: Callable[[dict[str, list[str]]], None] = lambda _own: None
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

    def menu(self) -> Menu:
        """All commands as one menu with a submenu per subject."""
        whole = Menu(self._window)
        for name in MENUS:
            fill(whole.submenu(translated(name)), ORDER[name], self.actions.__getitem__)
        return whole

    def put_in(self, menu: Menu, before: str) -> None:
        """A menu that is filled as it opens, where a command stands in the menu of all."""
        action = self.actions[before]
        for holder in action.associatedObjects():
            if isinstance(holder, Menu):
                holder.insertMenu(action, menu)

    def menu_of(self, names: tuple[str, ...]) -> Menu:
        """Some commands as a menu of its own, which goes when it is closed; "" is a line between them."""
        self.refresh()
        menu = Menu(self._window)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        for name in names:
            if name:
                menu.addAction(self.actions[name])
            else:
                menu.addSeparator()
        return menu

    def with_keys(self, words: str, name: str) -> str:
        """Words for a row of a menu that does what a command does, with the keys of that command at the right."""
        return f"{words}\t{self.actions[name].shortcut().toString(QKeySequence.SequenceFormat.NativeText)}"

    def step_menu(self) -> Menu:
        """The commands of the score."""
        menu = Menu(self._window)
        fill(menu, ORDER["Steps"], self.actions.__getitem__)
        return menu

    def key_table(self) -> list[tuple[str, str, str, str]]:
        """Subject, id, words and keys of every command."""
        native = QKeySequence.SequenceFormat.NativeText
        return [
            (
                name,
                command.id,
                command.words.replace("\u2026", ""),
                ", ".join(keys.toString(native) for keys in self.actions[command.id].shortcuts()),
            )
            for name in MENUS
            for command in self.commands.values()
            if command.menu == name
        ]

    # -- keys of one's own

    def use_keys(self, own: dict[str, list[str]]) -> list[str]:
        """Take up keys that were chosen earlier; returns a sentence for each that cannot be used."""
        told = []
        for name, keys in own.items():
            if name not in self.actions:
                continue
            wanted = [QKeySequence(key) for key in keys]
            taken = next((k for k in wanted if self.holder(k, name)), None)
            if taken is not None:
                words = self.commands[name].words.replace("\u2026", "")
                told.append(
                    tr(
                        "The key {keys} is bound twice: {words} keeps its default key.",
                        keys=taken.toString(),
                        words=words,
                    )
                )
                continue
            self.actions[name].setShortcuts(wanted)
            self._own[name] = keys
        return told

    def keys_of(self, name: str) -> set[int]:
        """The plain keys of a command, as Qt counts them, without what is held with them."""
        return {int(keys[0].key()) for keys in self.actions[name].shortcuts() if keys.count()}  # type: ignore[index]

    def holder(self, keys: QKeySequence, wanted_by: str) -> str:
        """The command that has this key where ``wanted_by`` would act; "" when it is free."""
        if keys.isEmpty():
            return ""
        mine = self.commands[wanted_by]
        return next(
            (
                name
                for name, action in self.actions.items()
                if name != wanted_by and keys in action.shortcuts() and mine.meets(self.commands[name])
            ),
            "",
        )

    def set_key(self, name: str, keys: QKeySequence) -> None:
        """Give a command this key alone (or none), and take it from the command that had it."""
        if other := self.holder(keys, name):
            rest = [k for k in self.actions[other].shortcuts() if k != keys]
            self._keep(other, rest)
        self._keep(name, [] if keys.isEmpty() else [keys])
        self.keys_changed(dict(self._own))

    def use_default_keys(self) -> None:
        """Every command has its own key again."""
        for name, command in self.commands.items():
            self.actions[name].setShortcuts([QKeySequence(key) for key in command.keys])
        self._own.clear()
        self.keys_changed({})

    def _keep(self, name: str, keys: list[QKeySequence]) -> None:
        self.actions[name].setShortcuts(keys)
        chosen = [k.toString(QKeySequence.SequenceFormat.PortableText) for k in keys]
        if chosen == [QKeySequence(k).toString() for k in self.commands[name].keys]:
            self._own.pop(name, None)
        else:
            self._own[name] = chosen
