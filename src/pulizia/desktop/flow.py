# SPDX-License-Identifier: GPL-3.0-or-later
"""A row of widgets that goes on in the next line where the room ends, as longer languages need it."""

from __future__ import annotations

from PySide6.QtCore import QRect, QSize, Qt
from PySide6.QtWidgets import QLayout, QLayoutItem, QWidget


class FlowLayout(QLayout):
    """Widgets from left to right, then in the next line; lines may end at the right edge, or stand in the middle."""

    def __init__(self, *, gap: int = 6, at_right: bool = False, centred: bool = False) -> None:
        super().__init__()
        self._items: list[QLayoutItem] = []
        self._gap, self._spare = gap, 1.0 if at_right else 0.5 if centred else 0.0  # before a line
        self.setContentsMargins(0, 0, 0, 0)

    def add(self, widget: QWidget) -> None:
        """Put a widget at the end."""
        self.addWidget(widget)

    def addItem(self, item: QLayoutItem) -> None:
        self._items.append(item)

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        edges = self.contentsMargins()
        inner = width - edges.left() - edges.right()
        return self._place(QRect(0, 0, inner, 0), move=False) + edges.top() + edges.bottom()

    def sizeHint(self) -> QSize:
        shown = [item.sizeHint() for item in self._items if not item.isEmpty()]
        width = sum(size.width() for size in shown) + self._gap * max(0, len(shown) - 1)
        return QSize(width, max((size.height() for size in shown), default=0)).grownBy(self.contentsMargins())

    def minimumSize(self) -> QSize:
        return self._widest([item.minimumSize() for item in self._items if not item.isEmpty()])

    def _widest(self, sizes: list[QSize]) -> QSize:
        size = QSize(max((s.width() for s in sizes), default=0), max((s.height() for s in sizes), default=0))
        return size.grownBy(self.contentsMargins())

    def setGeometry(self, rect: QRect) -> None:
        super().setGeometry(rect)
        self._place(rect.marginsRemoved(self.contentsMargins()), move=True)

    def _place(self, rect: QRect, *, move: bool) -> int:
        """Lay the widgets out; returns the height that they take."""
        y = rect.y()
        for line in self._lines(rect.width()):
            height = max(item.sizeHint().height() for item in line)
            width = sum(item.sizeHint().width() for item in line) + self._gap * (len(line) - 1)
            x = rect.x() + round(self._spare * max(0, rect.width() - width))
            for item in line:
                size = item.sizeHint()
                if move:
                    item.setGeometry(QRect(x, y + (height - size.height()) // 2, size.width(), size.height()))
                x += size.width() + self._gap
            y += height + self._gap
        return max(0, y - rect.y() - self._gap)

    def _lines(self, width: int) -> list[list[QLayoutItem]]:
        lines: list[list[QLayoutItem]] = []
        used = 0
        for item in self._items:
            if item.isEmpty():
                continue
            wanted = item.sizeHint().width()
            if not lines or used + self._gap + wanted > width:
                lines.append([item])
                used = wanted
            else:
                lines[-1].append(item)
                used += self._gap + wanted
        return lines
