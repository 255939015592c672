# SPDX-License-Identifier: GPL-3.0-or-later
"""The dialogs of the window: one method opens each, and keeps it while it is open."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtGui import QCursor
from PySide6.QtWidgets import QApplication, QWidget

from pulizia.desktop.about_dialog import AboutDialog
from pulizia.desktop.actions import Actions
from pulizia.desktop.appearance_dialog import AppearanceDialog
from pulizia.desktop.bench.figures_dialog import FiguresDialog
from pulizia.desktop.delivery.target_dialog import TargetDialog
from pulizia.desktop.find_dialog import FindDialog
from pulizia.desktop.help_dialog import HelpDialog
from pulizia.desktop.history_dialog import HistoryDialog
from pulizia.desktop.keys_dialog import KeysDialog
from pulizia.desktop.language_dialog import LanguageDialog
from pulizia.desktop.preferences import Preferences
from pulizia.desktop.print_dialog import PrintDialog
from pulizia.desktop.recipes_dialog import KeepRecipeDialog, RecipesDialog
from pulizia.desktop.sound_dialog import SoundDialog
from pulizia.desktop.storage_dialog import StorageDialog
from pulizia.session.session import Session


class Dialogs:
    """Opened from the menus and by keys."""

    def __init__(
        self, window: QWidget, session: Session, in_delivery: Callable[[], bool],
        actions: Callable[[], Actions], preferences: Preferences, picked: Callable[[], frozenset[str]],
    ) -> None:  # fmt: skip
        self.window, self.session = window, session
        self.history: HistoryDialog | None = None
        self._picked = picked  # recordings that are selected in the list
        self._in_delivery, self._actions, self._preferences = in_delivery, actions, preferences

    def choose_recipe(self) -> None:
        """The recipe library."""
        self.recipes = RecipesDialog(self.session, self.window, self._picked())
        self.recipes.open()

    def save_recipe(self) -> None:
        """Keep the score as a recipe."""
        if self.session.recording is not None:
            self.keeping = KeepRecipeDialog(self.session, self.window)
            self.keeping.open()

    def show_history(self) -> None:
        """The edits as a list, beside the work."""
        if self.history is None:
            self.history = HistoryDialog(self.session, self.window)
        self.history.show()
        self.history.raise_()

    def show_print(self) -> None:
        """Print the worked sound into new files."""
        if self.session.recording is not None:
            self.printing = PrintDialog(self.session, self.window)
            self.printing.open()

    def edit_target(self) -> None:
        """Make or change an own target."""
        self.target_editor = TargetDialog(self.session, self.window)
        self.target_editor.open()

    def show_sound(self) -> None:
        """Choose the sound output."""
        self.sound = SoundDialog(self.session, self.window, lambda choice: self._preferences.set("output", choice))
        self.sound.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.sound.open()

    def show_figures(self) -> None:
        """All figures of the selection."""
        if self.session.heard_source is not None:
            self.figures = FiguresDialog(self.session, self.window)
            self.figures.open()

    def find_original(self) -> None:
        """Look for the recording on the bench among raw ones."""
        if self.session.recording is not None:
            self.finding = FindDialog(self.session, self.window)
            self.finding.open()

    def show_storage(self) -> None:
        """What is kept on the disk, and a way to clear it."""
        self.storage = StorageDialog(self.session, self.window)
        self.storage.open()

    def choose_appearance(self) -> None:
        """Colours and size of the window."""
        self.appearance = AppearanceDialog(self._preferences, self.window)
        self.appearance.open()

    def choose_language(self) -> None:
        """The language of the window."""
        self.language = LanguageDialog(self._preferences, self.window)
        self.language.open()

    def show_about(self) -> None:
        """Version, licence and notices."""
        self.about = AboutDialog(self.window)
        self.about.open()

    def show_help(self) -> None:
        """The manual, at the page of what one is looking at."""
        page, section = self._asked_about()
        self.help = HelpDialog(page, self.window, section)
        self.help.open()

    def _asked_about(self) -> tuple[str, str]:
        """Page and section for what lies under the pointer, else for what has the keys, else for the place."""
        places = (QApplication.widgetAt(QCursor.pos()), QApplication.focusWidget())
        for widget in places:
            here: QWidget | None = widget if widget is not None and self.window.isAncestorOf(widget) else None
            while here is not None:
                told = here.property("manual")
                if isinstance(told, str):
                    page, _, section = told.partition("#")
                    return (self._step_page() if page == "step" else page), section
                here = here.parentWidget()
        return ("delivery", "") if self._in_delivery() else (self._step_page(), "")

    def _step_page(self) -> str:
        return self.session.step.tool_id if self.session.step is not None else "bench"

    def show_keys(self) -> None:
        """The table of all keys."""
        self.keys = KeysDialog(self._actions(), self.window)
        self.keys.open()
