# SPDX-License-Identifier: GPL-3.0-or-later
"""How much a step takes from the voice, as a bar with its figures."""

from __future__ import annotations

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from pulizia.desktop.theme import colour, font, theme_notice
from pulizia.measure.harm import LOWEST_DB, Harm
from pulizia.units import format_number
from pulizia.words import tr, translated


class HarmGauge(QWidget):
    """One plain bar: how much was taken from the voice, with its figures."""

    accessible_role = "meter"

    def __init__(self) -> None:
        super().__init__()
        self.harm: Harm | None = None
        self.setFixedHeight(34)
        self.setAccessibleName(tr("Harm to the voice"))
        theme_notice().changed.connect(self.update)

    def show_harm(self, harm: Harm | None) -> None:
        """Show a measure; None leaves a dash."""
        if harm is self.harm:
            return
        self.harm = harm
        if harm is not None:
            low, middle, high = (format_number(v, 0) for v in harm.regions_db)
            self.setToolTip(
                tr(
                    "Level taken from the voice, relative to the voice.\nLow {low}, mid {middle}, high {high} dB; {touched_percent} % of its time and frequency cells lost more than 3 dB.",
                    low=low,
                    middle=middle,
                    high=high,
                    touched_percent=format_number(harm.touched_percent),
                )
            )
            self.setAccessibleDescription(
                tr("{words}, {level_db} dB", words=translated(harm.words), level_db=format_number(harm.level_db))
            )
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setFont(font(12))
        painter.setPen(colour("ink"))
        painter.drawText(QRectF(0, 0, self.width(), 18), Qt.AlignmentFlag.AlignVCenter, tr("Harm to the voice"))
        painter.fillRect(QRectF(0, 22, self.width(), 5), colour("track"))
        if self.harm is None:
            painter.setPen(colour("soft"))
            painter.drawText(
                QRectF(0, 0, self.width(), 18), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, "\u2013"
            )
            return
        share = min(max((self.harm.level_db + 40.0) / 35.0, 0.0), 1.0)
        token = "verd" if self.harm.level_db < -19 else "ochre" if self.harm.level_db < -13 else "madder"
        painter.fillRect(QRectF(0, 22, self.width() * share, 5), colour(token))
        figure = (
            tr("none")
            if self.harm.level_db <= LOWEST_DB
            else tr(
                "{words}, {level_db} dB",
                words=translated(self.harm.words),
                level_db=format_number(self.harm.level_db, 0),
            )
        )
        painter.drawText(
            QRectF(0, 0, self.width(), 18),
            Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
            translated(figure),
        )
