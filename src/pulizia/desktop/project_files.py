# SPDX-License-Identifier: GPL-3.0-or-later
"""Opening, saving and leaving the project: dialogs and questions of the window."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget

from pulizia.desktop.assembly.list_places import ListPlaces
from pulizia.desktop.demo import demo_files, demo_programme
from pulizia.desktop.folders import proposed_folder
from pulizia.desktop.preferences import Preferences
from pulizia.desktop.where_left import WhereLeft
from pulizia.errors import PuliziaError
from pulizia.interchange.read import is_edit_list
from pulizia.media import suffixes
from pulizia.media.folders import state_folder
from pulizia.project.file import SUFFIX
from pulizia.project.journal import left_behind
from pulizia.session.session import Session
from pulizia.words import tr, translated

SOUND_FILES = suffixes.pattern((*suffixes.SOUND, *suffixes.VIDEO))
LIST_FILES = "*.otio *.aaf *.edl *.xml *.csv"
GO_AHEAD, DROP, NOTHING = range(3)  # answers to a question


class ProjectFiles:
    """What the File menu does. ``closed`` is called when a project was put away for an empty one."""

    def __init__(
        self, window: QWidget, session: Session, preferences: Preferences, lists: ListPlaces, where_left: WhereLeft,
        closed: Callable[[], None],
    ) -> None:  # fmt: skip
        self._window, self._session, self._preferences = window, session, preferences
        self._lists, self._where_left, self._closed = lists, where_left, closed
        self._demo_waits = self._demo_is_all = False
        session.events.document.connect(self._demo_arrived)
        self.asks = True  # False where nobody sits before the window

    def open_files(self) -> None:
        """Ask for sound files or a project and open them."""
        folder = str(self._preferences.recent[0].parent) if self._preferences.recent else ""
        kinds = tr(
            "Sound, video, projects, edit lists ({sounds} *{suffix} {lists});;All files (*)",
            sounds=SOUND_FILES,
            suffix=SUFFIX,
            lists=LIST_FILES,
        )
        names, _ = QFileDialog.getOpenFileNames(self._window, tr("Open"), folder, kinds)
        if names:
            self.open_paths([Path(n) for n in names])

    def open_paths(self, paths: list[Path]) -> None:
        """Open files that were chosen, dropped or given at the start."""
        if any(p.suffix.lower() == SUFFIX for p in paths) and not self.may_leave():
            return
        self._where_left.note()
        self._preferences.add_recent(*paths)
        for path in (p for p in paths if is_edit_list(p)):
            self._lists.open_list(path)
        self._session.files.open_paths([p for p in paths if not is_edit_list(p)])

    def open_demo(self) -> None:
        """Open the demo recordings, and the programme made of them when all are there."""
        self._demo_is_all = not self._session.document.project.recordings
        self._demo_waits = True
        self._session.files.open_paths(demo_files())

    def _demo_arrived(self) -> None:
        project = self._session.document.project
        programme = demo_programme(project.recordings) if self._demo_waits and not project.programmes else None
        if programme is not None:
            self._demo_waits = False
            self._session.document.edit_programme(programme, tr("New programme"))
            if self._demo_is_all:
                self._session.document.begin_here()

    def save(self) -> bool:
        """Save the project; asks for a name the first time."""
        if self._session.document.path is None:
            return self.save_as()
        return self._save_to(self._session.document.path)

    def save_as(self) -> bool:
        """Save the project under another name."""
        document = self._session.document
        recording = self._session.recording
        name = recording.name if recording else "project"
        proposal = document.path or proposed_folder(self._session) / f"{name}{SUFFIX}"
        name, _ = QFileDialog.getSaveFileName(
            self._window, tr("Save project as"), str(proposal), tr("Project (*{suffix})", suffix=SUFFIX)
        )
        return self._save_to(Path(name)) if name else False

    def _save_to(self, path: Path) -> bool:
        try:
            self._session.document.save(path)
        except PuliziaError as error:
            self._session.say(str(error), bad=True)
            return False
        saved = self._session.document.path or path
        self._where_left.note()
        self._preferences.add_recent(saved)
        self._session.say(tr("Saved as {name}.", name=saved.name))
        return True

    def new_project(self) -> None:
        """Start an empty project."""
        if self.may_leave():
            self._where_left.note()
            self._session.transport.stop()
            self._closed()
            self._session.document.start_new()

    def may_leave(self) -> bool:
        """Ask what to do with unsaved edits; False keeps the project open."""
        if not self._session.document.is_dirty or not self.asks:
            return True
        answer = self.ask(
            tr("Unsaved changes"),
            tr("Save the changes to {title}?", title=self._session.document.title),
            tr("The recordings themselves are never changed; unsaved steps would be lost."),
            (tr("Save"), tr("Don't save"), tr("Cancel")),
        )
        return self.save() if answer == GO_AHEAD else answer == DROP

    def ask(self, title: str, question: str, more: str, answers: tuple[str, str, str]) -> int:
        """Ask; the answers are to go ahead, to drop something, and to do nothing. Which one was given."""
        box = QMessageBox(self._window)
        box.setTextFormat(Qt.TextFormat.PlainText)
        box.setWindowTitle(translated(title))
        box.setText(translated(question))
        box.setInformativeText(translated(more))
        role = QMessageBox.ButtonRole
        roles = (role.AcceptRole, role.DestructiveRole, role.RejectRole)
        buttons = [box.addButton(words, r) for words, r in zip(answers, roles, strict=True)]
        box.exec()
        return next((n for n, made in enumerate(buttons) if made is box.clickedButton()), NOTHING)

    def relink(self) -> None:
        """Ask for the file of the recording on the bench."""
        recording = self._session.recording
        if recording is None:
            return
        name, _ = QFileDialog.getOpenFileName(
            self._window,
            tr("Where is {name}?", name=recording.path.name),
            str(recording.path.parent),
            tr("Sound, video ({sounds});;All files (*)", sounds=SOUND_FILES),
        )
        if name:
            self._session.files.relink(recording.id, Path(name))

    def offer_recovery(self) -> None:
        """After a crash: offer what was not saved."""
        for found in left_behind(state_folder("journal")):
            if not self.asks:
                return
            what = found.path.name if found.path else tr("a project without a name")
            answer = self.ask(
                tr("Recover unsaved work"),
                tr("Pulizia ended before {what} was saved.", what=what),
                tr("Recover the unsaved work, or discard it?"),
                (tr("Recover"), tr("Discard"), tr("Later")),
            )
            if answer == GO_AHEAD:
                self._session.document.recover(found)
                self._session.files.after_load()
                return
            if answer == DROP:
                found.journal.unlink(missing_ok=True)
