# SPDX-License-Identifier: GPL-3.0-or-later
"""The recordings at the left of the Assembly, which are dragged onto lanes."""

from __future__ import annotations

from PySide6.QtCore import QMimeData, QPoint, Qt, Signal
from PySide6.QtGui import QDrag, QMouseEvent

from pulizia.desktop.assembly.lanes_view import RECORDING_MIME
from pulizia.desktop.bench.pictures import Pictures
from pulizia.desktop.bench.recordings_list import CARD_HEIGHT, Cards
from pulizia.session.session import Session
from pulizia.words import tr

APART_PX = 6  # from a press to a drag


class RecordingCards(Cards):
    """The recordings: a double click adds one, a drag lays it onto a lane."""

    added = Signal(str)

    def __init__(self, session: Session, pictures: Pictures) -> None:
        super().__init__(session, pictures)
        self._pressed: tuple[str, QPoint] | None = None
        self.setToolTip(tr("Double-click to add behind the last clip; drag onto a lane"))

    def _under(self, event: QMouseEvent) -> str:
        row = int(event.position().y() // CARD_HEIGHT)
        return self.recordings[row].id if 0 <= row < len(self.recordings) else ""

    def mousePressEvent(self, event: QMouseEvent) -> None:
        super().mousePressEvent(event)
        self._pressed = (self._under(event), event.position().toPoint())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._pressed is None or not self._pressed[0]:
            return
        if (event.position().toPoint() - self._pressed[1]).manhattanLength() < APART_PX:
            return
        data = QMimeData()
        data.setData(RECORDING_MIME, self._pressed[0].encode())
        self._pressed = None
        drag = QDrag(self)
        drag.setMimeData(data)
        drag.exec(Qt.DropAction.CopyAction)

    def mouseReleaseEvent(self, _event: QMouseEvent) -> None:
        self._pressed = None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if wanted := self._under(event):
            self.added.emit(wanted)
