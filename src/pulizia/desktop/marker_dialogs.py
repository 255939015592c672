# SPDX-License-Identifier: GPL-3.0-or-later
"""Names and files of markers, asked for."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QInputDialog, QWidget

from pulizia.audio.markers import Marker
from pulizia.desktop.folders import proposed_folder
from pulizia.session.session import Session
from pulizia.words import tr


class MarkerDialogs:
    """Rename, export and import markers of the recording on the bench."""

    def __init__(self, window: QWidget, session: Session) -> None:
        self._window, self._session = window, session

    def rename(self, marker: Marker) -> None:
        """Ask for a marker's name."""
        name, good = QInputDialog.getText(self._window, tr("Rename the marker"), tr("Name"), text=marker.name)
        if good and name.strip():
            self._session.markers.rename(marker, name)

    def rename_here(self) -> None:
        """Rename the marker nearest to the play head."""
        marker = self._session.markers.near(self._session.transport.position, float("inf"))
        if marker is not None:
            self.rename(marker)

    def export(self) -> None:
        """Ask for a name: a text list, or a WAV file of the worked sound with cue points."""
        recording, chain = self._session.recording, self._session.chain
        if recording is None or chain is None:
            return
        proposal = str(proposed_folder(self._session, recording) / f"{recording.name}-markers.txt")
        kinds = tr("Text list (*.txt);;WAV with cue points (*.wav)")
        name, _ = QFileDialog.getSaveFileName(self._window, tr("Export markers"), proposal, kinds)
        if name:
            self._session.markers.export(Path(name))

    def take_in(self) -> None:
        """Ask for a text list, or a WAV file with cue points."""
        kinds = tr("Text list or WAV (*.txt *.tsv *.wav);;All files (*)")
        name, _ = QFileDialog.getOpenFileName(self._window, tr("Import markers"), "", kinds)
        if name:
            self._session.markers.take_in(Path(name))
