# SPDX-License-Identifier: GPL-3.0-or-later
"""Three columns of a place: the side ones are dragged wider, as wide in every place, and remembered."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import QSplitter, QVBoxLayout, QWidget

from pulizia.desktop.controls import hairline, scrolled
from pulizia.desktop.theme import colour

LEFT_WIDTH, RIGHT_WIDTH = 220, 300  # at least, and in a window of 1280
MOST_TIMES = 2.0
HANDLE = 5  # of the width of a side column
LOWER_HEIGHT, LOWER_SHARE = 196, 0.28  # of what stands at the foot of a column: at least, and in taller windows
LEFT_SHARE, RIGHT_SHARE = 0.12, 0.18  # of wider windows
LEAST_MIDDLE = 560
LEAST_UPPER = 260


class ColumnWidths(QObject):
    """How wide the side columns are, and how high what stands at the foot of the right one; 0 follows the window."""

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self._chosen = (0, 0)
        self.lower = 0

    @property
    def chosen(self) -> tuple[int, int]:
        """What somebody chose, left and right; 0 where nobody did."""
        return self._chosen

    def choose(self, left: int, right: int) -> None:
        """Let the columns be this wide from now on; 0 follows the window."""
        if (left, right) != self._chosen:
            self._chosen = left, right
            self.changed.emit()

    def at(self, whole: int) -> tuple[int, int]:
        """Widths in a window as wide as ``whole``."""
        widths = []
        for chosen, least, share in zip(
            self._chosen, (LEFT_WIDTH, RIGHT_WIDTH), (LEFT_SHARE, RIGHT_SHARE), strict=True
        ):
            widths.append(round(min(max(chosen or share * whole, least), MOST_TIMES * least)))
        spare = whole - sum(widths) - LEAST_MIDDLE
        left, right = widths if spare >= 0 else (LEFT_WIDTH, RIGHT_WIDTH)
        return left - HANDLE, right


class Column(QWidget):
    """A side column with a hairline towards the middle."""

    def __init__(
        self, inner: QWidget, width: int, *, line_at_left: bool, foot: QWidget | None = None,
        below: QWidget | None = None, widths: ColumnWidths | None = None,
    ) -> None:  # fmt: skip
        super().__init__()
        self._widths = widths or ColumnWidths()
        self._line_at_left = line_at_left
        self.setMinimumWidth(width if line_at_left else width - HANDLE)
        self.setMaximumWidth(round(MOST_TIMES * width))
        self._halves: QSplitter | None = None
        self._foot_layout: QVBoxLayout | None = None
        box = QVBoxLayout(self)
        box.setContentsMargins(1 if line_at_left else 0, 0, 0 if line_at_left else 1, 0)
        box.setSpacing(0)
        upper = scrolled(inner) if foot is None else with_foot(inner, foot)
        if below is None:
            box.addWidget(upper, 1)
            return
        halves = self._halves = QSplitter(Qt.Orientation.Vertical)
        halves.setChildrenCollapsible(False)
        halves.setHandleWidth(HANDLE)
        halves.addWidget(upper)
        lower = QWidget()
        column = self._foot_layout = QVBoxLayout(lower)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(hairline())
        column.addWidget(below)
        halves.addWidget(lower)
        halves.setStretchFactor(0, 1)
        halves.splitterMoved.connect(self._take_moved)
        box.addWidget(halves, 1)

    def _take_moved(self) -> None:
        if self._halves is not None:
            self._widths.lower = self._halves.sizes()[1]

    def show_lower(self, *, shown: bool) -> None:
        """The lower half, or all of the room for the upper one."""
        if self._halves is not None and (lower := self._halves.widget(1)) is not None:
            lower.setVisible(shown)
            self._divide()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._divide()

    def event(self, event: QEvent) -> bool:
        done = super().event(event)
        if event.type() == QEvent.Type.LayoutRequest:  # what stands below needs more or less than before
            self._divide()
        return done

    def _divide(self) -> None:
        if self._halves is not None and self._foot_layout is not None:
            inner = self.width() - 1  # beside the hairline
            needed = self._foot_layout.minimumHeightForWidth(inner)  # longer words wrap into more rows
            lower = max(LOWER_HEIGHT, needed, self._widths.lower or round(LOWER_SHARE * self.height()))
            lower = min(lower, max(needed, self.height() - LEAST_UPPER))
            self._halves.setSizes([self.height() - lower - HANDLE, lower])

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), colour("paper"))
        x = 0 if self._line_at_left else self.width() - 1
        painter.fillRect(x, 0, 1, self.height(), colour("line"))


def with_foot(inner: QWidget, foot: QWidget) -> QWidget:
    """What is scrolled, and under it what always stays in view."""
    made = QWidget()
    column = QVBoxLayout(made)
    column.setContentsMargins(0, 0, 0, 0)
    column.setSpacing(0)
    column.addWidget(scrolled(inner), 1)
    column.addWidget(foot)
    return made


class Columns(QSplitter):
    """Left, middle and right of a place."""

    def __init__(self, widths: ColumnWidths, left: QWidget, middle: QWidget, right: QWidget) -> None:
        super().__init__(Qt.Orientation.Horizontal)
        self._widths = widths
        self.setHandleWidth(HANDLE)
        self.setChildrenCollapsible(False)
        for part in (left, middle, right):
            self.addWidget(part)
        self.setStretchFactor(1, 1)
        self.splitterMoved.connect(self._moved)
        widths.changed.connect(self.fit)

    def fit(self) -> None:
        """Take the widths that hold now."""
        left, right = self._widths.at(self.width())
        room = self.width() - 2 * self.handleWidth() - left - right
        if self.sizes() != [left, room, right]:
            self.setSizes([left, room, right])

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.fit()

    def _moved(self, _place: int, index: int) -> None:
        left, _, right = self.sizes()
        was_left, was_right = self._widths.chosen
        self._widths.choose(left + HANDLE if index == 1 else was_left, right if index == 2 else was_right)
