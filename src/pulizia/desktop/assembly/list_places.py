# SPDX-License-Identifier: GPL-3.0-or-later
"""Asks what edit lists need: folders, names, and what is to be seen of them."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QWidget

from pulizia.desktop.assembly.conform_walk import ConformWalk
from pulizia.desktop.assembly.list_dialogs import ExportDialog, ListReport, MediaDialog
from pulizia.desktop.folders import proposed_folder
from pulizia.desktop.preferences import Preferences
from pulizia.interchange.assemble import Assembled
from pulizia.interchange.conform_rows import Conformed
from pulizia.media.names import safe_name
from pulizia.session.session import Session
from pulizia.words import tr

MOST_FOLDERS = 12


class ListPlaces:
    """Opens, conforms and exports edit lists with the dialogs that this takes."""

    def __init__(
        self, session: Session, preferences: Preferences, parent: QWidget, show_assembly: Callable[[], None]
    ) -> None:
        self._session, self._preferences, self._parent, self._show = session, preferences, parent, show_assembly

    @property
    def folders(self) -> list[Path]:
        """Where media were found lately."""
        return [Path(name) for name in self._preferences.lists("media").get("folders", []) if Path(name).is_dir()]

    def _remember(self, folders: list[Path]) -> None:
        names = dict.fromkeys([*(str(f) for f in folders), *(str(f) for f in self.folders)])
        self._preferences.set("media", {"folders": list(names)[:MOST_FOLDERS]})

    def open_list(self, path: Path) -> None:
        """Ask where its media are and make a programme of it."""

        def done(folders: list[Path], rate: Fraction | None, drop: bool | None, field: bool) -> None:  # noqa: FBT001
            self._remember(folders)
            self._session.lists.open(path, folders, self._opened, rate=rate, drop=drop, prefer_field=field)

        self.media = MediaDialog(path, self.folders, self._parent, done)
        self.media.open()

    def _opened(self, found: Assembled) -> None:
        self._show()
        received = found.programme.received
        name = found.programme.name if received is None else received.name
        self.report = ListReport(tr("{name}: what was found", name=name), found.report, self._parent)
        self.report.open()

    def show_report(self) -> None:
        """The report of the list that the programme was made of."""
        programme = self._session.assembly.programme
        if programme is None or programme.received is None:
            self._session.say(tr("No edit list is kept with this programme."), bad=True)
            return
        title = tr("{name}: what was found", name=programme.received.name)
        self.report = ListReport(title, programme.received.report, self._parent)
        self.report.open()

    def ask_conform(self) -> None:
        """Ask for the list of the new cut and its media."""
        kinds = tr("Edit lists (*.otio *.aaf *.edl *.xml *.csv);;All files (*)")
        name, _ = QFileDialog.getOpenFileName(self._parent, tr("Conform to a new cut"), "", kinds)
        if not name:
            return
        path = Path(name)

        def done(folders: list[Path], _rate: Fraction | None, _drop: bool | None, field: bool) -> None:  # noqa: FBT001
            self._remember(folders)
            self._session.lists.conform(path, folders, self._conformed, prefer_field=field)

        self.media = MediaDialog(path, self.folders, self._parent, done)
        self.media.rated.hide()
        programme = self._session.assembly.programme
        received = programme.received if programme is not None else None
        self.media.field.setChecked(received is not None and received.prefers_field)
        self.media.open()

    def _conformed(self, _found: Assembled, conformed: Conformed) -> None:
        self.walk = ConformWalk(self._session, conformed, self._parent)
        self.walk.open()

    def ask_export(self) -> None:
        """Ask for a name, say what its kind cannot carry, and write the list."""
        programme = self._session.assembly.programme
        if programme is None:
            return
        kinds = tr("OpenTimelineIO (*.otio);;AAF (*.aaf);;CMX3600 list (*.edl);;XML (*.xml);;Table (*.csv)")
        proposal = str(proposed_folder(self._session) / f"{safe_name(programme.name)}.otio")
        name, chosen = QFileDialog.getSaveFileName(self._parent, tr("Export an edit list"), proposal, kinds)
        if not name:
            return
        path = Path(name)
        if not path.suffix:
            path = (
                path.with_suffix("." + chosen.rsplit("*.", 1)[-1].rstrip(")"))
                if "*." in chosen
                else path.with_suffix(".otio")
            )
        self.exporting = ExportDialog(self._session, path, self._parent)
        self.exporting.open()

    def ask_received(self) -> None:
        """Ask for a name and write the list that came, word for word."""
        programme = self._session.assembly.programme
        received = programme.received if programme is not None else None
        proposal = str(proposed_folder(self._session) / (received.name if received is not None else ""))
        name, _ = QFileDialog.getSaveFileName(self._parent, tr("Save the list as it came"), proposal)
        if name:
            self._session.lists.save_received(Path(name))
