# SPDX-License-Identifier: GPL-3.0-or-later
"""What the window does with the programme: add to it, render it, deliver it."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import (
    QFileDialog,
    QMainWindow,
)

from pulizia.desktop.assembly.render_clips_dialog import RenderClipsDialog
from pulizia.desktop.bars import DELIVERY
from pulizia.desktop.delivery.delivery import Delivery
from pulizia.desktop.folders import proposed_folder
from pulizia.media.names import safe_name
from pulizia.session.session import Session
from pulizia.words import tr


class ProgrammeCommands(QMainWindow):
    """The part of the window that takes the programme in and out."""

    session: Session
    delivery: Delivery
    rendering_clips: RenderClipsDialog

    def go_to(self, index: int) -> None:
        """Show a place."""
        raise NotImplementedError

    def add_to_programme(self) -> None:
        """Lay the selection of the recording on the bench, or all of it, onto the chosen lane of the programme."""
        session, recording = self.session, self.session.recording
        if recording is None:
            return
        span = session.selection.span if session.selection is not None and not session.assembly.is_open else None
        session.assembly.add_recording(recording, span)
        programme = session.assembly.programme
        if programme is not None and not session.assembly.is_open:
            session.say(tr("Added to {name}.", name=programme.name))

    def render_programme(self) -> None:
        """Ask for a name and write the programme as a WAV file."""
        session, programme = self.session, self.session.assembly.programme
        if programme is None or session.assembly.sound is None:
            session.say(tr("The programme holds no clips. Add recordings to it first."), bad=True)
            return
        proposal = str(proposed_folder(self.session) / f"{safe_name(programme.name)}.wav")
        name, _ = QFileDialog.getSaveFileName(self, tr("Render the programme"), proposal, tr("WAV (*.wav)"))
        if name:
            session.programme_out.render(Path(name))

    def render_stems(self) -> None:
        """Ask for a folder and write each stem of the programme."""
        chosen = QFileDialog.getExistingDirectory(self, tr("Render stems to"), str(proposed_folder(self.session)))
        if chosen:
            self.session.programme_out.render_stems(Path(chosen))

    def render_reels(self) -> None:
        """Ask for a folder and write each reel of the programme."""
        chosen = QFileDialog.getExistingDirectory(self, tr("Render reels to"), str(proposed_folder(self.session)))
        if chosen:
            self.session.programme_out.render_reels(Path(chosen))

    def render_clips(self) -> None:
        """Ask how and where to, and write the clips of the programme."""
        self.rendering_clips = RenderClipsDialog(self.session, self, proposed_folder(self.session))
        self.rendering_clips.open()

    def deliver_programme(self) -> None:
        """Take the programme to Delivery and ask where to."""
        self.go_to(DELIVERY)
        self.delivery.ask_and_deliver()
