# SPDX-License-Identifier: GPL-3.0-or-later
"""A new programme from a template: which template, and which recordings on which lane."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QGridLayout, QVBoxLayout, QWidget

from pulizia.audio.layouts import are_microphones
from pulizia.desktop.assembly.menus import KIND_WORDS
from pulizia.desktop.controls import ChoiceBox, Tick, hairline, label, scrolled
from pulizia.desktop.form import answers
from pulizia.project.model import Recording
from pulizia.project.templates import Placed, Template
from pulizia.session.session import Session
from pulizia.words import tr, translated


class TemplateDialog(QDialog):
    """Every recording of the project with the lane that it goes onto."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.setProperty("manual", "assembly#" + tr("Templates"))
        self._session, self._templates = session, session.templates.known()
        self._recordings: tuple[Recording, ...] = session.document.project.recordings
        self._rows = [row for recording in self._recordings for row in self._heard_of(recording)]
        self.setWindowTitle(tr("New programme from a template"))
        self.resize(620, 520)
        column = QVBoxLayout(self)
        column.addWidget(label(tr("New programme from a template"), 20, bold=True))
        self.template = ChoiceBox()
        self.template.setAccessibleName(tr("Template"))
        for template in self._templates:
            self.template.addItem(translated(template.name))
        column.addWidget(self.template)
        self.about = label("", 12, token="soft", wrap=True)
        column.addWidget(self.about)
        self.each = Tick(tr("A programme of each recording"))
        column.addWidget(self.each)
        column.addWidget(hairline())
        rows = QWidget()
        grid = QGridLayout(rows)
        self.lanes: list[ChoiceBox] = []
        for n, (recording, channel) in enumerate(self._rows):
            name = recording.name
            if channel is not None:
                name += ", " + session.channels_of(recording.id)[channel]
            grid.addWidget(label(name, 13), n, 0)
            choice = ChoiceBox()
            choice.setAccessibleName(tr("Lane of {name}", name=name))
            grid.addWidget(choice, n, 1)
            self.lanes.append(choice)
        if not self._rows:
            grid.addWidget(
                label(tr("The project holds no recordings yet; the lanes stay empty."), 13, token="soft"), 0, 0
            )
        grid.setColumnStretch(0, 1)
        grid.setRowStretch(len(self._rows), 1)
        column.addWidget(scrolled(rows), 1)
        column.addWidget(answers(self))
        self.template.currentIndexChanged.connect(self._show_template)
        self.each.toggled.connect(self._show_each)
        self._show_template()

    @property
    def chosen(self) -> Template:
        """The template."""
        return self._templates[max(0, self.template.currentIndex())]

    def _heard_of(self, recording: Recording) -> list[Placed]:
        """A recorder's file by its microphones, every other recording as it is."""
        names = self._session.channels_of(recording.id)
        return [(recording, n) for n in range(len(names))] if are_microphones(names) else [(recording, None)]

    def _show_template(self) -> None:
        template = self.chosen
        voices = [lane.name for lane in template.lanes if lane.kind == "voice"]
        words = "; ".join(f"{translated(lane.name)} ({translated(KIND_WORDS[lane.kind])})" for lane in template.lanes)
        self.about.setText(f"{translated(template.description)}\n{words}" if template.description else words)
        for n, choice in enumerate(self.lanes):
            choice.clear()
            choice.addItem(tr("Leave out"), "")
            for lane in template.lanes:
                choice.addItem(translated(lane.name), lane.name)
            recording, channel = self._rows[n]
            name = "" if channel is None else self._session.channels_of(recording.id)[channel]
            beyond = "" if any(c is not None for _, c in self._rows) else voices[-1:]  # a camera beside a recorder
            wanted = name if name in voices else "".join(voices[n : n + 1] or beyond)
            choice.setCurrentIndex(max(0, choice.findData(wanted)))
        self._show_each()

    def _show_each(self) -> None:
        for choice in self.lanes:
            choice.setEnabled(not self.each.isChecked())

    def accept(self) -> None:
        templates = self._session.templates
        if self.each.isChecked():
            done = templates.begin_each(self.chosen, self._recordings)
        else:
            placed: dict[str, list[Placed]] = {}
            for row, choice in zip(self._rows, self.lanes, strict=True):
                if lane := choice.currentData(Qt.ItemDataRole.UserRole):
                    placed.setdefault(lane, []).append(row)
            done = templates.begin(self.chosen, placed)
        if done:
            super().accept()
