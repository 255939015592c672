# SPDX-License-Identifier: GPL-3.0-or-later
"""What the Assembly asks before it acts: lengths, names, notes, microphones, words, templates."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QInputDialog, QWidget

from pulizia.audio.markers import Marker
from pulizia.desktop.assembly.clip_level_dialog import ClipLevelDialog
from pulizia.desktop.assembly.microphone_dialog import MicrophoneDialog
from pulizia.desktop.assembly.note_dialog import NoteDialog
from pulizia.desktop.assembly.template_dialog import TemplateDialog
from pulizia.desktop.assembly.words_dialog import WordsDialog
from pulizia.desktop.folders import proposed_folder
from pulizia.desktop.form import ask_number
from pulizia.media.names import safe_name
from pulizia.session.microphone_service import MicrophonePlan
from pulizia.session.session import Session
from pulizia.session.speech_service import USUAL_PAUSE_S
from pulizia.session.words_service import OtherTakes
from pulizia.words import tr


class AssemblyQuestions(QWidget):
    """The part of the Assembly that opens dialogs and acts on their answers."""

    session: Session

    def edit_note(self, marker: Marker) -> None:
        """Change what a note says."""
        self.note = NoteDialog(marker, self, lambda changed: self.session.assembly.change_marker(marker, changed))
        self.note.open()

    def ask_note(self) -> None:
        """Add a note at the playhead."""
        programme = self.session.assembly.programme
        if programme is not None:
            span = self.session.assembly.span
            at, frames = (span.start, span.frames) if span is not None else (self.session.transport.position, 0)
            marker = Marker(at, tr("Note {number}", number=len(programme.markers) + 1), frames, kind="mix")
            self.note = NoteDialog(marker, self, self.session.assembly.add_note)
            self.note.open()

    def ask_notes(self) -> None:
        """Save all notes as a table, or as a page to print."""
        programme = self.session.assembly.programme
        if programme is None:
            return
        name = safe_name(programme.name) + "-" + tr("notes") + ".html"
        proposal = str(proposed_folder(self.session) / name)
        name, _ = QFileDialog.getSaveFileName(
            self, tr("Save the notes"), proposal, tr("Page to print (*.html);;Table (*.csv)")
        )
        if name:
            self.session.assembly.save_notes(Path(name))

    def ask_marker_name(self, marker: Marker) -> None:
        """Ask for another name of a marker."""
        name, good = QInputDialog.getText(self, tr("Rename the marker"), tr("Name"), text=marker.name)
        if good and name.strip():
            self.session.assembly.rename_marker(marker, name.strip())

    def ask_words(self) -> None:
        """Look for the selected words in other takes."""

        def found(takes: OtherTakes) -> None:
            self.other_takes = WordsDialog(self.session, takes, self)
            self.other_takes.show()

        self.session.words.look(found)

    def ask_microphones(self) -> None:
        """Plan which microphone is heard from turn to turn."""

        def planned(plan: MicrophonePlan) -> None:
            self.microphones = MicrophoneDialog(self.session, plan, self)
            self.microphones.open()

        self.session.microphones.plan(planned)

    def ask_template(self) -> None:
        """Begin a programme from a template."""
        self.template = TemplateDialog(self.session, self)
        self.template.open()

    def ask_keep_template(self) -> None:
        """Save lanes, steps and clocks of the programme under a name."""
        programme = self.session.assembly.programme
        if programme is not None:
            name, good = QInputDialog.getText(self, tr("Save as a template"), tr("Name"), text=programme.name)
            if good:
                self.session.templates.keep(name)

    def ask_tighten(self) -> None:
        """Ask how long pauses may be."""
        value = ask_number(self, tr("Tighten pauses"), tr("Longest pause in seconds"), USUAL_PAUSE_S, 0.35, 10.0, 2)
        if value is not None:
            self.session.speech.tighten(value)

    def ask_lengthen(self) -> None:
        """Ask by how much the pause at the playhead grows."""
        value = ask_number(self, tr("Lengthen the pause"), tr("Longer by seconds"), 0.3, 0.01, 60.0, 2)
        if value is not None:
            self.session.speech.lengthen(value)

    def ask_level(self) -> None:
        """Ask for the level of the selected clips."""
        self.level_dialog = ClipLevelDialog(self.session, self)
        self.level_dialog.open()
