# SPDX-License-Identifier: GPL-3.0-or-later
"""The top bar with the places, and the bar that shows messages."""

from __future__ import annotations

import time
from collections.abc import Callable

from PySide6.QtCore import QPointF, QRect, QRectF, QSize, Qt, QTimer
from PySide6.QtGui import (
    QColor,
    QFontMetricsF,
    QIcon,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QPixmap,
)
from PySide6.QtWidgets import QHBoxLayout, QLabel, QWidget

from pulizia.desktop.bench.time_axis import GUTTER
from pulizia.desktop.columns import LEFT_WIDTH
from pulizia.desktop.controls import ArrowKeys, Button, button, label, retone
from pulizia.desktop.theme import colour, font, theme_notice
from pulizia.session.session import Session
from pulizia.units import format_time
from pulizia.words import N_, tr, translated

PLACES = (N_("Bench"), N_("Assembly"), N_("Delivery"))
BENCH, ASSEMBLY, DELIVERY = range(3)
MESSAGE_MS = 6000
A_MOMENT_S = 0.3  # work that takes longer is shown


class PlaceSwitch(ArrowKeys):
    """The places as words; a bar under the present one."""

    accessible_role = "tabs"

    def __init__(self, go: Callable[[int], None]) -> None:
        super().__init__()
        self._go, self._index = go, 0
        self.setFixedSize(max(212, round(self._boxes()[-1].right()) + 8), 48)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName(tr("Place"))
        self.setToolTip(tr("Bench (F2), Assembly (F3), Delivery (F4)"))
        theme_notice().changed.connect(self.update)

    def set_index(self, index: int) -> None:
        """Show the present place."""
        self._index = index
        self.setAccessibleDescription(translated(PLACES[index]))
        self.update()

    def _boxes(self) -> list[QRectF]:
        boxes, x = [], 16.0
        for word in PLACES:
            width = QFontMetricsF(font(15, bold=True)).horizontalAdvance(translated(word))
            boxes.append(QRectF(x, 0, width, 48))
            x += width + 24
        return boxes

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for index, box in enumerate(self._boxes()):
            if box.adjusted(-10, 0, 10, 0).contains(event.position()):
                self._go(index)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            step = 1 if event.key() == Qt.Key.Key_Right else -1
            self._go(min(max(self._index + step, 0), len(PLACES) - 1))
        else:
            super().keyPressEvent(event)

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for index, (word, box) in enumerate(zip(PLACES, self._boxes(), strict=True)):
            chosen = index == self._index
            painter.setFont(font(15, bold=chosen))
            painter.setPen(colour("ink" if chosen else "soft"))
            painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, translated(word))
            if chosen:
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(colour("verd"))
                painter.drawRoundedRect(QRectF(box.left(), 45, box.width(), 3), 1.5, 1.5)
        if self.hasFocus():
            box = self._boxes()[self._index].adjusted(-6, 10, 6, -8)
            painter.setPen(QPen(colour("verd"), 1, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(box, 4, 4)


class TopBar(QWidget):
    """Places, what is on the bench, undo and redo, the menu."""

    def __init__(self, session: Session, go_to: Callable[[int], None]) -> None:
        super().__init__()
        self.session = session
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.timeout.connect(self.refresh)
        self.setFixedHeight(48)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 16, 0)
        row.setSpacing(0)
        self.places = PlaceSwitch(go_to)
        row.addWidget(self.places)
        row.addSpacing(max(12, LEFT_WIDTH + GUTTER - self.places.width()))
        self.name = label("", 15, bold=True)
        self.detail = label("", 13, token="soft")
        row.addWidget(self.name)
        row.addSpacing(12)
        row.addWidget(self.detail)
        self.stop = button(
            tr("Stop"), session.awaited.stop, tip=tr("Stop this; what was done before stays"), quiet=True
        )
        self.stop.hide()
        row.addWidget(self.stop)
        row.addStretch(1)
        self.read_out = label("", 13, token="soft")
        row.addWidget(self.read_out)
        row.addSpacing(16)
        self.undo = button("", session.document.undo, quiet=True)
        self.redo = button("", session.document.redo, quiet=True)
        self.menu = Button(tr("Menu"))
        self.menu.setToolTip(tr("All actions with their keys (F10)"))
        self.menu.setAccessibleName(tr("Menu"))
        for made in (self.undo, self.redo):
            made.setFixedSize(30, 28)
            made.setIconSize(QSize(16, 16))
            row.addWidget(made)
        row.addSpacing(10)
        row.addWidget(self.menu)

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), colour("paper"))
        painter.fillRect(0, self.height() - 1, self.width(), 1, colour("line"))

    def refresh(self) -> None:
        """What is waited for, else what is on the bench or in the assembly; undo and redo."""
        name, detail = self._work_words(), ""
        self.stop.setVisible(bool(name))
        if not name:
            name, detail = self._subject_words()
        self.name.setText(name)
        self.detail.setText(detail)
        history = self.session.document.history
        for made, words, what, nothing in (
            (self.undo, history.undo_label, tr("Undo"), tr("Nothing to undo")),
            (self.redo, history.redo_label, tr("Redo"), tr("Nothing to redo")),
        ):
            made.setEnabled(words is not None)
            made.setToolTip(f"{what}: {words}" if words else nothing)
            made.setAccessibleName(what)

    def _work_words(self) -> str:
        """Work that somebody waits for, as soon as it takes longer than a moment."""
        jobs = self.session.awaited.jobs
        if not jobs:
            return ""
        waited = time.monotonic() - self.session.awaited.since
        if waited < A_MOMENT_S:
            self._soon.start(round(1000 * (A_MOMENT_S - waited)) + 1)
            return ""
        first = jobs[0]
        return (
            tr("{title}… {share:.0f} %", title=first.title, share=100 * first.share)
            if first.share
            else tr("{title}…", title=first.title)
        )

    def _subject_words(self) -> tuple[str, str]:
        """The programme or the recording, and what it is."""
        session, recording = self.session, self.session.recording
        if session.assembly.is_heard and (programme := session.assembly.programme) is not None:
            length, cut = format_time(programme.frames / programme.rate, 3), programme.received
            return programme.name, length if cut is None else tr("{length}, cut {name}", length=length, name=cut.name)
        if recording is None:
            return "", ""
        media = session.document.media.get(recording.id)
        if media is None:
            return recording.name, tr("file missing or changed")
        return recording.name, translated(f"{media.format_line}, {format_time(recording.seconds, 3)}")

    def room(self) -> QRect:
        """Where a message may lie: over the name and the read-out."""
        left = self.name.x() - 10
        return QRect(left, 0, self.undo.x() - 12 - left, self.height())

    def draw_icons(self) -> None:
        """Undo and redo in the colours of the theme."""
        self.undo.setIcon(_arrow_icon(mirrored=False))
        self.redo.setIcon(_arrow_icon(mirrored=True))


class MessageBar(QWidget):
    """One sentence over the top bar; a trouble stays until it is closed, or was read and the work went on."""

    def __init__(self, room: Callable[[], QRect]) -> None:
        super().__init__()
        self._room = room
        row = self._row = QHBoxLayout(self)
        row.setContentsMargins(16, 4, 12, 4)
        self._mark = label("\u25cf", 13, token="madder")
        self.text: QLabel = label("", 13, wrap=True)
        self.text.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        row.addWidget(self._mark)
        row.addSpacing(4)
        row.addWidget(self.text, 1)
        row.addWidget(button(tr("Close"), self.hide, tip=tr("Close this message (Esc)"), quiet=True))
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self.hide)
        self._since = 0.0  # when it was said
        self.hide()

    def work_went_on(self) -> None:
        """Take away what was there long enough to be read: it is about what was done before."""
        if self.isVisible() and time.monotonic() - self._since >= MESSAGE_MS / 1000.0:
            self.hide()

    def say(self, text: str, *, bad: bool) -> None:
        """Show a sentence over the top of the place, which stays as it is below."""
        if not text:
            self.hide()
            return
        self.text.setText(translated(text))
        self.fit()
        retone(self._mark, "madder" if bad else "verd_text")
        self.show()
        self._since = time.monotonic()
        self._timer.stop()
        if not bad:
            self._timer.start(MESSAGE_MS)

    def fit(self) -> None:
        """Lie over the name in the top bar, so that no sound is covered; as tall as the sentence needs."""
        room = self._room()
        width = max(320, room.width())
        height = max(36, self._row.heightForWidth(width))
        self.setGeometry(room.left(), max(2, (room.height() - height) // 2), width, height)
        self.raise_()

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(colour("ink"), 1))
        painter.setBrush(colour("panel"))
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 6, 6)


def _arrow_icon(*, mirrored: bool) -> QIcon:
    """A bent arrow, 16 px, line 1.5, paler where there is nothing to do."""
    icon = QIcon(_arrow(colour("ink"), mirrored=mirrored))
    icon.addPixmap(_arrow(colour("strong"), mirrored=mirrored), QIcon.Mode.Disabled)
    return icon


def _arrow(ink: QColor, *, mirrored: bool) -> QPixmap:
    pixmap = QPixmap(32, 32)
    pixmap.setDevicePixelRatio(2)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    if mirrored:
        painter.translate(16, 0)
        painter.scale(-1, 1)
    painter.setPen(QPen(ink, 1.5, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
    path = QPainterPath(QPointF(3, 6))
    path.lineTo(10, 6)
    path.cubicTo(14.5, 6, 14.5, 13, 10, 13)
    path.lineTo(6, 13)
    painter.drawPath(path)
    painter.drawLine(QPointF(3, 6), QPointF(6.5, 2.5))
    painter.drawLine(QPointF(3, 6), QPointF(6.5, 9.5))
    painter.end()
    return pixmap
