# SPDX-License-Identifier: GPL-3.0-or-later
"""The recordings of the project at the left, and what is known of the one on the bench."""

from __future__ import annotations

import re
from collections.abc import Hashable

import numpy as np
from PySide6.QtCore import QLineF, QPoint, QPointF, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import (
    QContextMenuEvent,
    QFontMetricsF,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QResizeEvent,
)
from PySide6.QtWidgets import QVBoxLayout, QWidget

from pulizia.audio.source import Source
from pulizia.desktop.bench.findings_list import FindingsList
from pulizia.desktop.bench.first_steps import FirstSteps
from pulizia.desktop.bench.pictures import Pictures
from pulizia.desktop.bench.wave_image import columns_of_picture, height_of
from pulizia.desktop.controls import ArrowKeys, button, hairline, label, scrolled
from pulizia.desktop.layers import layer_of
from pulizia.desktop.theme import colour, font, theme, theme_notice
from pulizia.desktop.turns import update_in_turn
from pulizia.project.model import Recording
from pulizia.session.session import Session
from pulizia.units import format_number, format_time
from pulizia.words import N_, tr, translated

CARD_HEIGHT, WAVE_COLUMNS = 48, 84
LEAST_CARDS, LIST_SHARE = 4, 0.5  # of the window's height
WHOLE = 1 << 30  # version of a small waveform that is kept
NOTES = {
    "description": N_("Description"), "scene": N_("Scene"), "take": N_("Take"), "tape": N_("Tape"), "project": N_("Project"),
    "originator": N_("Originator"), "date": N_("Date"), "time": N_("Time"), "title": N_("Title"), "artist": N_("Artist"), "note": N_("Note"),
}  # fmt: skip
"""Of a file's metadata: what is shown of them, and how it is called."""

UNIT = re.compile(r"(?<=[\d∞]) (?=(?:dBTP|LUFS|LU|kHz|Hz|s)\b)")  # a figure and its unit stay on one line


class Cards(ArrowKeys):
    """One card per recording: name, small waveform, length, loudness."""

    accessible_role = "list"

    chosen = Signal(str)
    menu = Signal(str)

    def __init__(self, session: Session, pictures: Pictures) -> None:
        super().__init__()
        self.session, self._pictures = session, pictures
        self._waves: dict[str, list[float]] = {}
        self._layer: tuple[tuple[Hashable, ...], QPixmap] | None = None
        self._picked: set[str] = set()
        pictures.watch(self)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(tr("Recordings"))
        theme_notice().changed.connect(self.update)

    @property
    def recordings(self) -> tuple[Recording, ...]:
        """The recordings of the project."""
        return self.session.document.project.recordings

    def accessible_words(self) -> str:
        """Which one is on the bench, and which are selected with it."""
        return ", ".join(r.name for r in self.recordings if r.id in self.picked)

    @property
    def picked(self) -> frozenset[str]:
        """The recordings that are selected together: the one on the bench, and those added with Ctrl or Shift."""
        here = {r.id for r in self.recordings}
        return frozenset(i for i in (*self._picked, self.session.current_id) if i in here)

    def _pick(self, recording_id: str, held: Qt.KeyboardModifier) -> None:
        ids = [r.id for r in self.recordings]
        if held & Qt.KeyboardModifier.ControlModifier:
            self._picked = set(self.picked) ^ {recording_id}
        elif held & Qt.KeyboardModifier.ShiftModifier and self.session.current_id in ids:
            first, last = sorted((ids.index(self.session.current_id), ids.index(recording_id)))
            self._picked = set(ids[first : last + 1])
        else:
            self._picked = {recording_id}
            self.chosen.emit(recording_id)
        self.update()

    def fit(self) -> None:
        """Be as tall as the cards need."""
        self.setFixedHeight(len(self.recordings) * CARD_HEIGHT + 4)
        update_in_turn(self)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        row = int(event.position().y() // CARD_HEIGHT)
        if 0 <= row < len(self.recordings):
            wanted = self.recordings[row].id
            right = event.button() == Qt.MouseButton.RightButton
            if not right or wanted not in self.picked:
                self._pick(wanted, event.modifiers())
            if right:
                self.menu.emit(wanted)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        if event.reason() is QContextMenuEvent.Reason.Keyboard and self.session.current_id:
            self.menu.emit(self.session.current_id)

    def corner_of(self, recording_id: str) -> QPoint:
        """Where the menu of a card opens by keys, on the screen."""
        row = [r.id for r in self.recordings].index(recording_id)
        return self.mapToGlobal(QPoint(20, (row + 1) * CARD_HEIGHT))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        ids = [r.id for r in self.recordings]
        if event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down) and self.session.current_id in ids:
            step = 1 if event.key() == Qt.Key.Key_Down else -1
            place = ids.index(self.session.current_id) + step
            if 0 <= place < len(ids):
                added = event.modifiers() & Qt.KeyboardModifier.ShiftModifier
                self._picked = {*self.picked, ids[place]} if added else {ids[place]}
                self.chosen.emit(ids[place])
        else:
            super().keyPressEvent(event)

    def paintEvent(self, _event: QPaintEvent) -> None:
        seen = self.visibleRegion().boundingRect() if self.isVisible() else self.rect()
        first = max(0, seen.top() // CARD_HEIGHT)  # of hundreds of recordings only those in view are drawn
        rows = self.recordings[first : seen.bottom() // CARD_HEIGHT + 1]
        picked, ratio = self.picked, self.devicePixelRatioF()
        shown = [self._shown(r, is_picked=r.id in picked) for r in rows]
        key = (self.width(), first, ratio, theme().name, self.hasFocus(), *shown)
        if self._layer is None or self._layer[0] != key:
            layer = layer_of(self, "paper", height=max(1, len(rows) * CARD_HEIGHT + 2))
            drawing = QPainter(layer)
            drawing.setRenderHint(QPainter.RenderHint.Antialiasing)
            for row, recording in enumerate(rows):
                box = QRectF(0.5, row * CARD_HEIGHT + 0.5, self.width() - 1, CARD_HEIGHT - 1)
                self._paint_card(drawing, box, recording, is_picked=recording.id in picked)
            drawing.end()
            self._layer = (key, layer)
        QPainter(self).drawPixmap(0, first * CARD_HEIGHT, self._layer[1])

    def _shown(self, recording: Recording, *, is_picked: bool) -> tuple[Hashable, ...]:
        """Everything that a card shows: it is drawn anew only when that changes."""
        chain = self.session.document.chain(recording.id)
        drawn = (
            -1
            if chain is None
            else WHOLE
            if chain.before.key in self._waves
            else self._pictures.of(chain.before).version
        )
        return (
            recording.id, recording.name, recording.id == self.session.current_id, is_picked, recording.id in self.session.document.offline,
            self.session.loudness_of(recording.id), drawn,
        )  # fmt: skip

    def _paint_card(self, painter: QPainter, box: QRectF, recording: Recording, *, is_picked: bool) -> None:
        chosen = recording.id == self.session.current_id
        if chosen:
            painter.setPen(QPen(colour("verd" if self.hasFocus() else "strong"), 1))
            painter.setBrush(colour("panel"))
            painter.drawRoundedRect(box, 6, 6)
        else:
            if is_picked:
                painter.fillRect(box, colour("verd", 0.16))
            painter.setPen(QPen(colour("line"), 1))
            painter.drawLine(box.bottomLeft() + QPointF(8, 0), box.bottomRight() - QPointF(8, 0))
        painter.setFont(font(13, bold=chosen))
        offline = recording.id in self.session.document.offline
        painter.setPen(colour("madder" if offline else "ink"))
        name = QFontMetricsF(painter.font()).elidedText(recording.name, Qt.TextElideMode.ElideMiddle, box.width() - 16)
        painter.drawText(box.adjusted(8, 4, -8, 0), Qt.AlignmentFlag.AlignTop, translated(name))
        second = box.adjusted(8, 24, -8, -4)
        painter.setFont(font(12))
        if offline:
            painter.drawText(second, Qt.AlignmentFlag.AlignVCenter, tr("file missing or changed"))
            return
        painter.setPen(colour("soft"))
        figure = format_number(self.session.loudness_of(recording.id))
        painter.drawText(second, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, translated(figure))
        painter.drawText(
            second.adjusted(0, 0, -48, 0),
            Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
            format_time(recording.kept_seconds),
        )
        chain = self.session.document.chain(recording.id)
        if chain is None:
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.setPen(QPen(colour("verd" if chosen else "strong"), 1))
        left, middle = int(second.left()) + 0.5, second.center().y()
        painter.drawLines(
            [
                QLineF(left + n, middle - h, left + n, middle + h)
                for n, h in enumerate(self._heights(recording, chain.before))
            ]
        )
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)

    def _heights(self, recording: Recording, source: Source) -> list[float]:
        """Half the height of each column of the small waveform; kept once the whole recording was looked at."""
        known = self._waves.get(source.key)
        if known is not None:
            return known
        picture = self._pictures.of(source)
        figures = columns_of_picture(picture, 0.0, recording.frames / WAVE_COLUMNS, WAVE_COLUMNS)
        heights = height_of(np.maximum(np.abs(figures.low), np.abs(figures.high)).max(axis=0)) * 8
        made: list[float] = np.nan_to_num(heights).tolist()
        if picture.is_complete:
            self._waves[source.key] = made
        return made


class RecordingsList(QWidget):
    """Left column of the bench."""

    open_asked = Signal()
    chosen = Signal(str)

    def __init__(self, session: Session, pictures: Pictures) -> None:
        super().__init__()
        self.session = session
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 10, 4, 10)
        column.setSpacing(4)
        self._head = QWidget()
        head = _HeadRow(self._head)
        head.add(tr("Recordings"), tr("length"), "LUFS")
        column.addWidget(self._head)
        self.cards = Cards(session, pictures)
        self.cards.chosen.connect(self.chosen)
        self._shown_id: str | None = None
        self._area = scrolled(self.cards)
        column.addWidget(self._area)
        self._add = button(
            tr("Add recordings…"), self.open_asked.emit, tip=tr("Open sound or video files (Ctrl+O)"), quiet=True
        )
        column.addWidget(self._add, alignment=Qt.AlignmentFlag.AlignLeft)
        column.addSpacing(8)
        self.findings = FindingsList(session)
        column.addWidget(self.findings)
        self._promise = label(
            tr("Recordings stand here with their length and loudness; below them, what Inspect has found."), 12,
            token="soft", wrap=True,
        )  # fmt: skip
        self._promise.setContentsMargins(8, 0, 8, 0)
        column.addWidget(self._promise)
        self._about_head = label(tr("About this recording"), bold=True)
        self._about_head.setContentsMargins(8, 0, 0, 0)
        column.addWidget(self._about_head)
        self._line = hairline()
        column.addWidget(self._line)
        self._about = label("", 12, token="soft", wrap=True)
        self._about.setContentsMargins(8, 0, 8, 0)
        self._about.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        column.addWidget(self._about)
        column.addStretch(1)
        self.first_steps = FirstSteps(session)  # stands under the list, however far that is scrolled

    def refresh(self) -> None:
        """Show the project as it is now."""
        self._promise.setVisible(not self.cards.recordings)
        self.cards.fit()
        self._fit()
        if self._shown_id != self.session.current_id:
            self._shown_id = self.session.current_id
            QTimer.singleShot(0, self, self._show_chosen)  # once the cards have their places
        recording = self.session.recording
        for widget in (self._about_head, self._line, self._about):
            widget.setVisible(recording is not None)
        if recording is not None:
            self._about.setText(UNIT.sub("\u00a0", translated(self._about_text(recording))))

    def _fit(self) -> None:
        """Many recordings scroll by themselves: findings stay in view below them."""
        most = max(LEAST_CARDS * CARD_HEIGHT, round(LIST_SHARE * self.window().height()))
        self._area.setFixedHeight(min(self.cards.maximumHeight(), most))

    def _show_chosen(self) -> None:
        row = next((n for n, r in enumerate(self.cards.recordings) if r.id == self.session.current_id), None)
        if row is not None:
            self._area.ensureVisible(0, row * CARD_HEIGHT + CARD_HEIGHT // 2, 0, CARD_HEIGHT)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()

    def _about_text(self, recording: Recording) -> str:
        if (why := self.session.document.offline.get(recording.id)) is not None:
            return why
        media = self.session.document.media.get(recording.id)
        if media is None:
            return tr("Opening…")
        lines = [media.format_line]
        if recording.trim is not None:
            start, stop = (format_time(f / recording.rate, 2) for f in (recording.trim.start, recording.trim.stop))
            lines.append(
                tr(
                    "Trimmed to {start}–{stop} of {seconds}",
                    start=start,
                    stop=stop,
                    seconds=format_time(recording.seconds, 2),
                )
            )
        if media.source.channels > 1:
            lines.append(tr("Channels {names}", names=", ".join(media.channel_names)))
        since = media.metadata.get("frames_since_midnight")
        if since is not None and since.isdigit():
            lines.append(tr("Start {time}", time=format_time(int(since) / recording.rate, 3)))
        elif code := media.metadata.get("timecode"):
            lines.append(tr("Start {time}", time=code))
        lines += [
            f"{translated(words)}: {media.metadata[key]}" for key, words in NOTES.items() if media.metadata.get(key)
        ]
        if picture := media.metadata.get("picture"):
            lines.append(tr("Sound of a video file ({picture})", picture=picture))
        measures = self.session.measures("before", recording.id)
        if measures is not None:
            lines.append(
                tr(
                    "Original: true peak {true_peak_dbtp} dBTP, LRA {loudness_range_lu} LU",
                    true_peak_dbtp=format_number(measures.true_peak_dbtp),
                    loudness_range_lu=format_number(measures.loudness_range_lu),
                )
            )
        if media.source.cleaned:
            lines.append(tr("Invalid samples (NaN or infinite) are read as silence."))
        return "\n".join(lines)


class _HeadRow:
    def __init__(self, parent: QWidget) -> None:
        self._parent = parent

    def add(self, title: str, middle: str, right: str) -> None:
        from PySide6.QtWidgets import QHBoxLayout

        row = QHBoxLayout(self._parent)
        row.setContentsMargins(8, 0, 6, 0)
        row.addWidget(label(title, bold=True))
        row.addStretch(1)
        row.addWidget(label(middle, 11, token="soft"))
        row.addSpacing(10)
        row.addWidget(label(right, 11, token="soft"))
