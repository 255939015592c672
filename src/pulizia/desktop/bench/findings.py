# SPDX-License-Identifier: GPL-3.0-or-later
"""In the sheet: what the step found, as a sentence, a small table and moments to visit."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QFontMetricsF, QPainter, QPaintEvent
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from pulizia.desktop.controls import button, label
from pulizia.desktop.theme import colour, font, theme_notice
from pulizia.session.session import Session
from pulizia.session.survey_service import Found
from pulizia.tools.base import Table
from pulizia.tools.finding import Mark
from pulizia.words import tr, translated

MOST_ROWS = 14
HEAD_HEIGHT, ROW_HEIGHT = 15, 17
BEFORE_S = 0.4


class PlainTable(QWidget):
    """A few rows of words, drawn in one go: the first column at the left, figures at the right of theirs."""

    accessible_role = "table"

    def __init__(self) -> None:
        super().__init__()
        self._table: Table | None = None
        self._head = 0
        self.setAccessibleName(tr("Places found"))
        theme_notice().changed.connect(self.update)
        self.hide()

    def show_table(self, table: Table | None) -> None:
        """Show a table; None shows nothing."""
        if table == self._table:
            return
        self._table = table
        self.setVisible(table is not None)
        if table is not None:
            rows = table.rows[:MOST_ROWS]
            self._head = HEAD_HEIGHT if any(table.head) else 0
            self.setFixedHeight(self._head + ROW_HEIGHT * len(rows))
            self.setAccessibleDescription("; ".join(" ".join(cells) for cells in rows))
            self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        if self._table is None:
            return
        painter = QPainter(self)
        edges = self._edges([self._table.head, *self._table.rows[:MOST_ROWS]])
        for n, cells in enumerate((self._table.head, *self._table.rows[:MOST_ROWS])):
            painter.setFont(font(12 if n else 11))
            painter.setPen(colour("ink" if n else "soft"))
            top, height = (self._head + (n - 1) * ROW_HEIGHT, ROW_HEIGHT) if n else (0, self._head)
            for column, cell in enumerate(cells):
                side = Qt.AlignmentFlag.AlignLeft if column == 0 else Qt.AlignmentFlag.AlignRight
                box = QRectF(edges[column], top, edges[column + 1] - edges[column], height)
                painter.drawText(box, side | Qt.AlignmentFlag.AlignVCenter, translated(cell))

    def _edges(self, rows: Sequence[Sequence[str]]) -> list[float]:
        """Where columns begin: the first is as wide as its words, the others share what is left by what they need."""
        head, body = QFontMetricsF(font(11)), QFontMetricsF(font(12))
        needs = [
            max((body if n else head).horizontalAdvance(translated(cells[column])) for n, cells in enumerate(rows))
            for column in range(len(rows[0]))
        ]
        spare = max(0.0, self.width() - sum(needs)) / max(1, len(needs) - 1)
        edges = [0.0, needs[0]]
        for need in needs[1:]:
            edges.append(edges[-1] + need + spare)
        return edges


class Findings(QWidget):
    """Filled when the survey of the selected step is known."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.marks: tuple[Mark, ...] = ()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        self.sentence = label("", 12, wrap=True)
        self.table = PlainTable()
        self._visit = QWidget()
        row = QHBoxLayout(self._visit)
        row.setContentsMargins(0, 0, 0, 0)
        self.next_button = button(
            tr("Go to next"), lambda: self.go(1), tip=tr("Go to the next place and play it (Shift+N)")
        )
        self.leave_button = button(
            tr("Skip this place"), self.toggle_here, tip=tr("Skip the place at the playhead, or include it again (X)")
        )
        row.addWidget(self.next_button)
        row.addWidget(self.leave_button)
        row.addStretch(1)
        for part in (self.sentence, self.table, self._visit):
            column.addWidget(part)
        self.show_found(None)

    def show_found(self, found: Found | None) -> None:
        """Show what is known; None clears."""
        survey = found.survey if found else None
        self.sentence.setText(translated(survey.sentence if survey else ""))
        self.sentence.setVisible(survey is not None)
        self.marks = survey.marks if survey else ()
        self._visit.setVisible(bool(self.marks))
        step = self.session.step
        self.leave_button.setVisible(bool(step and step.tool.skip_field))
        self.table.show_table(survey.table if survey else None)

    def go(self, direction: int) -> None:
        """To the next moment, and play around it."""
        owner = self.session.owner
        if owner is None or not self.marks:
            return
        lead = round(BEFORE_S * owner.rate)
        here = self.session.owner_position
        starts = sorted({max(0, m.start - lead) for m in self.marks})
        later = [s for s in starts if s > here + 1] if direction > 0 else [s for s in starts if s < here - 1][::-1]
        place = later[0] if later else starts[0 if direction > 0 else -1]
        self.session.transport.stop()
        self.session.seek_owner(place)

    def toggle_here(self) -> None:
        """Leave the moment nearest to the play head alone, or treat it again."""
        step, owner = self.session.step, self.session.owner
        if step is None or owner is None or not step.tool.skip_field or not self.marks:
            return
        here = self.session.owner_position + round(BEFORE_S * owner.rate)
        mark = min(self.marks, key=lambda m: abs((m.start + m.stop) / 2 - here))
        known = getattr(step.settings, step.tool.skip_field)
        a, b = mark.start / owner.rate, max(mark.stop, mark.start + 1) / owner.rate
        inside = tuple(p for p in known if p[0] < b and p[1] > a)
        changed = tuple(p for p in known if p not in inside) if inside else (*known, (round(a, 6), round(b, 6)))
        self.session.document.change_settings(owner.id, step.id, **{step.tool.skip_field: tuple(sorted(changed))})
        self.session.document.history.settle()
