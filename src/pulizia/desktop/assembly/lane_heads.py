# SPDX-License-Identifier: GPL-3.0-or-later
"""The heads of lanes: number, name and what else is to be known, gain, mute and solo."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QPointF, QRectF, QSizeF, Qt
from PySide6.QtGui import QPainter, QPixmap

from pulizia.desktop.assembly.geometry import HEAD_PX
from pulizia.desktop.assembly.menus import KIND_WORDS
from pulizia.desktop.bench.time_axis import GUTTER
from pulizia.desktop.theme import colour, font, theme
from pulizia.project.clips import Lane
from pulizia.words import plural, tr, translated

BESIDE_HEAD = 5  # of a lane's name: the playhead at the start does not lie on it
NAME_WIDTH_PX, MOST_KEPT = 360, 400

Switches = Sequence[tuple[QRectF, str, str]]


class LaneHeads:
    """Draws heads; what was drawn is kept, as it stays the same while clips are scrolled under it."""

    def __init__(self) -> None:
        self._kept: dict[object, QPixmap] = {}

    def paint(
        self, painter: QPainter, lane: Lane, number: int, head: QRectF, switches: Switches, *, current: bool
    ) -> None:
        """The head of a lane over its whole width, from the edge of the window on."""
        scale, width = painter.device().devicePixelRatioF(), head.right()
        look = (
            number, lane.name, lane.kind, lane.group, lane.locked, len(lane.steps), lane.muted, lane.soloed, current, width, scale,
            theme().name, *(text for _, _, text in switches),
        )  # fmt: skip
        picture = self._kept.get(look)
        if picture is None:
            if len(self._kept) > MOST_KEPT:
                self._kept.clear()
            picture = self._kept[look] = self._made(lane, number, head, switches, scale, current=current)
        painter.drawPixmap(QPointF(0.0, head.top()), picture)

    def _made(
        self, lane: Lane, number: int, head: QRectF, switches: Switches, scale: float, *, current: bool
    ) -> QPixmap:
        made = QPixmap((QSizeF(head.right(), HEAD_PX) * scale).toSize())
        made.setDevicePixelRatio(scale)
        made.fill(colour("paper"))
        painter = QPainter(made)
        painter.setFont(font(12, bold=current))
        painter.setPen(colour("ink" if current else "soft"))
        aside = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        painter.drawText(QRectF(0, 0, GUTTER - 8, 18), aside, str(number + 1))
        words = painter.fontMetrics().elidedText(", ".join(_about(lane)), Qt.TextElideMode.ElideRight, NAME_WIDTH_PX)
        beside = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        painter.drawText(QRectF(GUTTER + BESIDE_HEAD, 0, NAME_WIDTH_PX, 18), beside, words)
        for box, field, text in switches:
            on = bool(getattr(lane, field))
            painter.setFont(font(11, bold=on))
            painter.setPen(colour(("madder" if field == "muted" else "verd_text") if on else "soft"))
            painter.drawText(box.translated(0, -head.top()), Qt.AlignmentFlag.AlignCenter, text)
        painter.end()
        return made


def _about(lane: Lane) -> list[str]:
    """Its name, its kind where that says more, its group, its lock and its steps."""
    about = [translated(lane.name)]
    kind = translated(KIND_WORDS[lane.kind])
    if lane.kind != "voice" and kind.lower() != about[0].lower():
        about.append(kind)
    if lane.group:
        about.append(tr("group {name}", name=lane.group))
    if lane.locked:
        about.append(tr("locked"))
    if lane.steps:
        about.append(plural("1 step", "{n} steps", len(lane.steps)))
    return list(dict.fromkeys(about))
