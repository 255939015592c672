# SPDX-License-Identifier: GPL-3.0-or-later
"""The ledger of troubles at the left: what was found, how it stands now, and which step treats it."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPoint, QPointF, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import (
    QContextMenuEvent,
    QFocusEvent,
    QFontMetricsF,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
)
from PySide6.QtWidgets import QHBoxLayout, QMenu, QProgressBar, QVBoxLayout, QWidget

from pulizia.desktop.controls import ENTER, ArrowKeys, button, label
from pulizia.desktop.theme import colour, font, theme_notice
from pulizia.session.inspection_desk import Entry
from pulizia.session.studio import Studio
from pulizia.tools.finding import Finding
from pulizia.units import format_number
from pulizia.words import N_, tr, translated

ROW_HEIGHT, STRIP_WIDTH = 46, 60
GRAVE, MILD = 0.6, 0.15
UNTREATED, TREATED, IGNORED, RESOLVED = N_("Untreated"), N_("Treated, some left"), N_("Ignored"), N_("Resolved")
STATES = (UNTREATED, TREATED, IGNORED, RESOLVED)
SETTLED_MS = 1500
NAMES = {
    "overload": N_("Clipping"),
    "noise": N_("Noise"), "hum": N_("Mains hum"), "channel missing": N_("One channel missing"), "polarity": N_("Opposite polarity"),
    "delay": N_("One channel late"), "level": N_("Uneven level"), "silence": N_("Digital silence"), "room": N_("Room tail"),
    "dull": N_("Dull voice"), "sound": N_("Isolated sound"), "lopsided": N_("Asymmetric waveform"),
}  # fmt: skip
FINDERS = {
    "overload": N_("clipping"), "clicks": N_("clicks"), "plosives": N_("plosives"), "hum": N_("hum"), "breaths": N_("breaths"),
    "noise": N_("noise"), "ringing": N_("ringing"), "room": N_("room tail"), "room_tail": N_("room tail"), "blots": N_("isolated sounds"), "sound": N_("isolated sounds"), "sibilance": N_("hard S sounds"),
    "dull": N_("missing treble"), "dull_voice": N_("missing treble"), "leveller": N_("uneven levels"), "level": N_("uneven level"),
    "silence": N_("digital silence"), "room_tone": N_("drop-outs"), "channels": N_("channel faults"), "polarity": N_("polarity and offset"),
}  # fmt: skip
ALL_KINDS = (
    "overload",
    "clicks",
    "plosives",
    "hum",
    "breaths",
    "sound",
    "noise",
    "ringing",
    "sibilance",
    "room",
    "dull",
    "level",
    "silence",
)


FIGURES = {"noise": "SNR ", "room": "T60 ", "level": N_("spread "), "sound": N_("to voice ")}
"""What a figure is, where the unit alone does not say it; a higher SNR is better."""


def name_of(kind: str) -> str:
    """A kind of trouble for people."""
    return NAMES.get(kind, kind.capitalize())


def finder_name(finder: str) -> str:
    """What a finder looks for, inside a sentence."""
    return FINDERS.get(finder, finder)


def measure_text(entry: Entry) -> str:
    """The measure before, and now where it differs."""
    unit = entry.now.unit
    decimals = 0 if unit in ("samples", "places") or abs(entry.now.measure) >= 20 else 1
    shown = [format_number(f.measure, decimals) for f in (entry.before, entry.after) if f is not None]
    what = translated(FIGURES.get(entry.kind, ""))
    figure = f"{what}{shown[-1]} {translated(unit)}".strip()
    if entry.before is not None and entry.after is None:
        return tr("was {figure}", figure=figure)
    if len(shown) == 2 and shown[0] != shown[1]:
        return tr("{figure}, was {before}", figure=figure, before=shown[0])
    return figure


class FindingRow(ArrowKeys):
    """One kind of trouble: dot, name, measure, its places as a small strip."""

    accessible_role = "item"

    pressed = Signal(str)
    menu = Signal(str, QPoint)

    def __init__(self, entry: Entry, step: int | None, frames: int) -> None:
        super().__init__()
        self.entry, self._step, self._frames = entry, step, max(1, frames)
        self.chosen = False
        self.setFixedHeight(ROW_HEIGHT)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setToolTip(translated(entry.now.sentence))
        self.setAccessibleName(f"{name_of(entry.kind)}: {entry.now.sentence}")
        theme_notice().changed.connect(self.update)

    @property
    def state_words(self) -> str:
        """What is being done about it."""
        return tr("step {step}", step=self._step) if self._step is not None and not self.entry.left else ""

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        self.menu.emit(self.entry.kind, event.globalPos())

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.pressed.emit(self.entry.kind)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in ENTER:
            self.pressed.emit(self.entry.kind)
        elif event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.focusNextPrevChild(event.key() == Qt.Key.Key_Down)
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: QFocusEvent) -> None:
        super().focusInEvent(event)
        self.update()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(0.5, 0.5, self.width() - 1, self.height() - 1)
        if self.chosen or self.hasFocus():
            painter.setPen(QPen(colour("verd" if self.hasFocus() else "strong"), 1))
            painter.setBrush(colour("panel"))
            painter.drawRoundedRect(box, 6, 6)
        else:
            painter.setPen(QPen(colour("line"), 1))
            painter.drawLine(box.bottomLeft() + QPointF(8, 0), box.bottomRight() - QPointF(8, 0))
        self._paint_dot(painter, QPointF(14, 15))
        quiet = self.entry.left or self.entry.is_gone
        painter.setFont(font(12))
        room = box.width() - 26 - 8 - painter.fontMetrics().horizontalAdvance(self.state_words + " ")
        name, shown = translated(name_of(self.entry.kind)), font(13, bold=not quiet)
        if QFontMetricsF(shown).horizontalAdvance(name) > room:
            shown = font(12, bold=not quiet)
        painter.setFont(shown)
        painter.setPen(colour("soft" if quiet else "ink"))
        name = QFontMetricsF(shown).elidedText(name, Qt.TextElideMode.ElideRight, room)
        painter.drawText(box.adjusted(26, 5, 0, 0), Qt.AlignmentFlag.AlignTop, name)
        painter.setFont(font(12))
        painter.setPen(colour("soft"))
        painter.drawText(
            box.adjusted(0, 6, -8, 0),
            Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignRight,
            self.state_words,
        )
        painter.drawText(box.adjusted(26, 24, -8, 0), Qt.AlignmentFlag.AlignTop, translated(measure_text(self.entry)))
        self._paint_places(
            painter,
            QRectF(box.right() - 8 - STRIP_WIDTH, 28, STRIP_WIDTH, 9),
            painter.fontMetrics().horizontalAdvance(measure_text(self.entry)),
        )

    def _paint_dot(self, painter: QPainter, at: QPointF) -> None:
        severity = self.entry.now.severity
        if self.entry.left or self.entry.is_gone or severity < MILD:
            painter.setPen(QPen(colour("soft"), 1.3))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(at, 3.2, 3.2)
            return
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour("madder" if severity >= GRAVE else "ochre"))
        painter.drawEllipse(at, 4, 4)

    def _paint_places(self, painter: QPainter, strip: QRectF, text_width: int) -> None:
        if 26 + text_width + 8 > strip.left():
            return  # the figures need the room
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.fillRect(QRectF(strip.left(), strip.bottom(), strip.width(), 1), colour("strong"))
        finding = self.entry.now
        if not finding.marks:
            painter.fillRect(QRectF(strip.left(), strip.bottom() - 4, strip.width(), 4), colour("soft", 0.5))
            return
        starts = np.array([m.start for m in finding.marks]) / self._frames * strip.width()
        for x in np.unique(starts.astype(int)).tolist():
            painter.fillRect(
                QRectF(strip.left() + x, strip.top(), 1, strip.height()),
                colour("ink" if not self.entry.is_gone else "strong"),
            )


class FindingsList(QWidget):
    """Filled by Inspect; kept up to date after edits."""

    def __init__(self, studio: Studio) -> None:
        super().__init__()
        self.studio = studio
        self.desk = studio.inspection
        self.chosen = ""
        self.rows: dict[str, FindingRow] = {}
        self._shown: object = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 10)
        column.setSpacing(2)
        head = QHBoxLayout()
        head.setContentsMargins(8, 0, 0, 0)
        head.addWidget(label(tr("Findings"), bold=True))
        head.addStretch(1)
        self.run_button = button(
            tr("Inspect"), self._run_or_stop, tip=tr("Check the recording and list its problems (Ctrl+I)"), quiet=True
        )
        head.addWidget(self.run_button)
        column.addLayout(head)
        self.progress = QProgressBar()
        self.progress.setRange(0, 1000)
        self.progress.setTextVisible(False)
        self.progress.setFixedHeight(4)
        column.addWidget(self.progress)
        self.words = label("", 12, token="soft", wrap=True)
        self.words.setContentsMargins(8, 0, 8, 2)
        self._body = QWidget()
        self._rows = QVBoxLayout(self._body)
        self._rows.setContentsMargins(0, 0, 0, 0)
        self._rows.setSpacing(2)
        column.addWidget(self._body)
        column.addWidget(self.words)
        self.all_button = button(
            tr("Treat all"), self.desk.treat_all, tip=tr("Add a step for each problem that a step can treat")
        )
        under = QHBoxLayout()
        under.setContentsMargins(8, 4, 8, 0)
        under.addWidget(self.all_button)
        under.addStretch(1)
        column.addLayout(under)
        self._settled = QTimer(self)
        self._settled.setSingleShot(True)
        self._settled.setInterval(SETTLED_MS)
        self._settled.timeout.connect(self.desk.renew)
        for event in (studio.events.findings, studio.events.current):
            event.connect(self.refresh)
        studio.events.document.connect(self._edited)
        self.refresh()

    def _edited(self) -> None:
        if self.desk.is_inspected and not self.desk.is_current:
            self._settled.start()
        self.refresh()

    def _run_or_stop(self) -> None:
        self.desk.stop() if self.desk.listening_to else self.desk.run()

    def refresh(self) -> None:
        """Show the ledger as it is now."""
        recording, desk = self.studio.recording, self.desk
        self.setVisible(recording is not None)
        if recording is None:
            return
        busy = bool(desk.listening_to)
        self.run_button.setText(tr("Stop") if busy else tr("Inspect"))
        self.run_button.setEnabled(self.studio.chain is not None)
        self.progress.setVisible(busy)
        self.progress.setValue(round(1000 * desk.share))
        entries = desk.entries()
        self.words.setText(translated(self._told(entries, busy=busy)))
        self.words.setVisible(bool(self.words.text()))
        shown = (recording.id, [(e, desk.treating_step(e)) for e in entries], self.chosen)
        if shown != self._shown:
            self._shown = shown
            self._fill(entries, recording.frames)
        self.all_button.setEnabled(not desk.is_treating)
        self.all_button.setVisible(
            any(
                e.after is not None and e.after.tool_id and not e.left and desk.treating_step(e) is None
                for e in entries
            )
        )

    def _told(self, entries: list[Entry], *, busy: bool) -> str:
        desk = self.desk
        if desk.fault:
            return desk.fault
        if busy:
            return (
                tr("Looking for {listening_to}…", listening_to=translated(finder_name(desk.listening_to)))
                if desk.listening_to not in ("listening", "done")
                else tr("Inspecting…")
            )
        if not desk.is_inspected:
            return tr("Checks the recording and lists problems with their places.")
        if desk.only_kind:
            return tr("Only {kind} is shown in the pictures.", kind=translated(name_of(desk.only_kind)))
        missing = [translated(finder_name(k)) for k in ALL_KINDS if k not in {e.kind for e in entries}]
        if not entries:
            return tr("Nothing was found.")
        return tr("Not found: {missing}.", missing=", ".join(missing)) if missing else ""

    def _fill(self, entries: list[Entry], frames: int) -> None:
        focused = next((kind for kind, row in self.rows.items() if row.hasFocus()), "")
        while (item := self._rows.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.hide()
                widget.deleteLater()
        self.rows = {}
        entries = sorted(entries, key=lambda e: STATES.index(self._state(e)))
        states = [self._state(e) for e in entries]
        for n, entry in enumerate(entries):
            if len(set(states)) > 1 and states[n] not in states[:n]:
                words = label(states[n], 11, token="soft")
                words.setContentsMargins(8, 6 if n else 0, 0, 0)
                self._rows.addWidget(words)
            row = FindingRow(entry, self.desk.treating_step(entry), frames)
            row.chosen = entry.kind == self.chosen
            row.pressed.connect(self.choose)
            row.menu.connect(self._show_menu)
            row.setAccessibleDescription(translated(states[n]))
            self._rows.addWidget(row)
            self.rows[entry.kind] = row
            if row.chosen:
                self._rows.addWidget(self._details(entry))
        if focused in self.rows:
            self.rows[focused].setFocus()

    def _state(self, entry: Entry) -> str:
        if entry.left:
            return IGNORED
        if entry.is_gone:
            return RESOLVED
        return UNTREATED if self.desk.treating_step(entry) is None else TREATED

    def walk(self, direction: int) -> None:
        """To the next or previous place of all findings; the row it belongs to opens."""
        kind = self.desk.walk(direction)
        if kind and kind != self.chosen:
            self.chosen = kind
            self.refresh()

    def menu_of(self, kind: str) -> QMenu:
        """What can be done with a finding."""
        entry = self.rows[kind].entry
        menu = QMenu(self)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)

        def add(words: str, call: Callable[[], None], *, on: bool = True) -> None:
            action = menu.addAction(words)
            action.setEnabled(on)
            action.triggered.connect(lambda _on=False: call())

        places = bool(entry.now.marks)
        add(tr("Next place"), lambda: self.desk.visit(entry.now), on=places)
        add(tr("Previous place"), lambda: self.desk.visit(entry.now, -1), on=places)
        menu.addSeparator()
        untreated = entry.after is not None and bool(entry.after.tool_id) and self.desk.treating_step(entry) is None
        add(tr("Treat"), lambda: self.desk.treat(entry.now), on=untreated)
        words = tr("Stop ignoring") if entry.left else tr("Ignore")
        add(words, lambda: self.desk.leave(kind, leave=not entry.left), on=not entry.is_gone)
        menu.addSeparator()
        only = self.desk.only_kind == kind
        add(
            tr("Show all kinds") if only else tr("Show only this kind"),
            lambda: self.desk.show_only("" if only else kind),
        )
        return menu

    def _show_menu(self, kind: str, place: QPoint) -> None:
        self.menu_of(kind).popup(place)

    def choose(self, kind: str) -> None:
        """Open a row, or go to its next place when it is open."""
        row = self.rows.get(kind)
        if row is None:
            return
        if self.chosen != kind:
            self.chosen = kind
            self.refresh()
        self.desk.visit(row.entry.now)

    def _details(self, entry: Entry) -> QWidget:
        made = QWidget()
        column = QVBoxLayout(made)
        column.setContentsMargins(26, 2, 8, 6)
        column.setSpacing(2)
        column.addWidget(label(entry.now.sentence, 12, wrap=True))
        sure = entry.now.certainty
        told = tr("certain") if sure >= 0.9 else tr("likely") if sure >= 0.7 else tr("possible")
        column.addWidget(
            label(tr("{finding}, resolved by the steps", finding=told) if entry.is_gone else told, 12, token="soft")
        )
        row = QHBoxLayout()
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        finding: Finding = entry.now
        if finding.marks:
            row.addWidget(
                button(
                    tr("Next"), lambda: self.desk.visit(finding), tip=tr("Go to the next place and play it"), quiet=True
                )
            )
        if finding.tool_id and entry.after is not None and self.desk.treating_step(entry) is None:
            row.addWidget(
                button(
                    tr("Treat"),
                    lambda: self.desk.treat(finding),
                    tip=tr("Add the step, with settings from the measurement"),
                    quiet=True,
                )
            )
        if not entry.is_gone:
            words, tip = (
                (tr("Stop ignoring"), tr("List it as a problem again"))
                if entry.left
                else (tr("Ignore"), tr("Leave this problem untreated and do not list it as open"))
            )
            row.addWidget(button(words, lambda: self.desk.leave(entry.kind, leave=not entry.left), tip=tip, quiet=True))
        row.addStretch(1)
        column.addLayout(row)
        return made
