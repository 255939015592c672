# SPDX-License-Identifier: GPL-3.0-or-later
"""Programmes against the target: cards, verdicts with mark and word, the table of limits."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QGridLayout, QLabel, QWidget

from pulizia.delivery.normalise import State, Verdict, overall, verdicts
from pulizia.desktop.controls import ArrowKeys, hairline, label, show_part
from pulizia.desktop.theme import colour, font, theme_notice
from pulizia.measure.loudness import Measures
from pulizia.session.session import Session
from pulizia.units import format_number, format_time
from pulizia.words import tr, translated

ROW, APART = 50, 30


class ProgrammeCards(ArrowKeys):
    """The programmes with their state against the target; up and down go from one to the next."""

    accessible_role = "list"

    chosen = Signal(str)

    def __init__(self, session: Session, counted: Callable[[str], Measures | None]) -> None:
        super().__init__()
        self.session, self._counted = session, counted
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(tr("Programmes"))
        theme_notice().changed.connect(self.update)

    @property
    def rows(self) -> list[tuple[str, str, float]]:
        """What can be delivered: identity, name and length in seconds; programmes first."""
        project = self.session.document.project
        programmes = [(p.id, p.name, p.frames / p.rate) for p in project.programmes]
        return programmes + [(r.id, r.name, r.kept_seconds) for r in project.recordings]

    def accessible_words(self) -> str:
        """Each programme with its verdict."""
        rows = []
        for subject_id, name, _ in self.rows:
            target, measures = self.session.target_of(subject_id), self._counted(subject_id)
            words = (
                overall(verdicts(measures, target)).words if measures and target else translated(State.MISSING.value)
            )
            rows.append(f"{name}: {words}")
        return "; ".join(rows)

    @property
    def _apart(self) -> int:
        """Room for the word over the recordings, where there are programmes as well."""
        project = self.session.document.project
        return APART if project.programmes and project.recordings else 0

    def _top(self, row: int) -> int:
        return row * ROW + (self._apart if row >= len(self.session.document.project.programmes) else 0)

    def fit(self) -> None:
        """Be as tall as the cards need."""
        self.setFixedHeight(max(1, len(self.rows)) * ROW + 4 + self._apart)
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for row, (subject_id, _, _) in enumerate(self.rows):
            if self._top(row) <= event.position().y() < self._top(row) + ROW:
                self.chosen.emit(subject_id)
                return

    def keyPressEvent(self, event: QKeyEvent) -> None:
        ids = [subject_id for subject_id, _, _ in self.rows]
        if event.key() not in (Qt.Key.Key_Up, Qt.Key.Key_Down) or self.session.subject_id not in ids:
            super().keyPressEvent(event)
            return
        row = ids.index(self.session.subject_id) + (1 if event.key() == Qt.Key.Key_Down else -1)
        if 0 <= row < len(ids):
            self.chosen.emit(ids[row])
            show_part(self, self._top(row), ROW)

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        shown = self.session.subject_id
        if self._apart:
            top = self._top(len(self.session.document.project.programmes)) - APART
            painter.setFont(font(13, bold=True))
            painter.setPen(colour("ink"))
            painter.drawText(QRectF(8, top, self.width(), APART), Qt.AlignmentFlag.AlignVCenter, tr("Recordings"))
        seen = self.visibleRegion().boundingRect() if self.isVisible() else self.rect()
        for row, (subject_id, name, seconds) in enumerate(self.rows):
            if self._top(row) + ROW < seen.top() or self._top(row) > seen.bottom():
                continue  # of hundreds only those in view are drawn
            box = QRectF(0.5, self._top(row) + 0.5, self.width() - 1, ROW - 1)
            chosen = subject_id == shown
            if chosen:
                painter.setPen(QPen(colour("verd" if self.hasFocus() else "strong"), 1))
                painter.setBrush(colour("panel"))
                painter.drawRoundedRect(box, 6, 6)
            else:
                painter.fillRect(QRectF(box.left() + 8, box.bottom(), box.width() - 16, 1), colour("line"))
            painter.setPen(colour("ink"))
            painter.setFont(font(13, bold=chosen))
            fits = painter.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, int(box.width()) - 16)
            painter.drawText(box.adjusted(8, 5, -8, 0), Qt.AlignmentFlag.AlignTop, fits)
            painter.setFont(font(12))
            painter.setPen(colour("soft"))
            second = box.adjusted(8, 26, -8, -4)
            painter.drawText(second, Qt.AlignmentFlag.AlignVCenter, format_time(seconds))
            measures = self._counted(subject_id)
            target = self.session.target_of(subject_id)
            if target is not None:
                verdict = overall(verdicts(measures, target)) if measures else None
                paint_verdict(painter, second, verdict)


def paint_verdict(painter: QPainter, box: QRectF, verdict: Verdict | None) -> None:
    """Mark, word and colour, right-aligned."""
    state = verdict.state if verdict else State.MISSING
    words = verdict.words if verdict else translated(State.MISSING.value)
    token = {State.WITHIN: "verd_text", State.MISSING: "soft"}.get(state, "madder")
    painter.setFont(font(12, bold=state is not State.MISSING))
    painter.setPen(colour(token))
    flags = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
    metrics, room = painter.fontMetrics(), box.width() - 16
    if verdict is not None and state in (State.OVER, State.UNDER) and metrics.horizontalAdvance(words) > room:
        words = verdict.amount  # the mark beside it says the rest
    words = metrics.elidedText(words, Qt.TextElideMode.ElideRight, int(room))
    used = painter.boundingRect(box, flags, words)
    painter.drawText(box, flags, words)
    x, y = used.left() - 14, box.center().y()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(colour(token), 1.6))
    shapes = {
        State.WITHIN: ((0, 0), (3, 3), (8, -4)),
        State.OVER: ((0, 2), (4, -2), (8, 2)),
        State.UNDER: ((0, -2), (4, 2), (8, -2)),
        State.MISSING: ((0, 0), (8, 0)),
    }[state]
    painter.drawPolyline([QPointF(x + dx, y + dy) for dx, dy in shapes])


class VerdictLabel(QWidget):
    """A verdict in a table."""

    accessible_role = "section"

    def __init__(self) -> None:
        super().__init__()
        self._verdict: Verdict | None = None
        self.setFixedHeight(18)
        self.setMinimumWidth(84)

    def show_verdict(self, verdict: Verdict | None) -> None:
        """Show mark, word and colour."""
        self._verdict = verdict
        self.setAccessibleName(verdict.words if verdict else translated(State.MISSING.value))
        self.setToolTip(self.accessibleName())
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        paint_verdict(painter, QRectF(self.rect()).adjusted(0, 0, -1, 0), self._verdict)


class LimitTable(QWidget):
    """One row per limit: name and limit at the left, measured and predicted with their verdicts."""

    def __init__(self) -> None:
        super().__init__()
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setVerticalSpacing(1)
        self._grid.setHorizontalSpacing(4)
        self._grid.setColumnStretch(0, 1)
        self._names: tuple[str, ...] = ()
        self._cells: list[tuple[QLabel, VerdictLabel, QLabel, VerdictLabel]] = []

    def show_rows(self, measured: tuple[Verdict, ...], predicted: tuple[Verdict, ...] | None) -> None:
        """Show the verdicts of both columns."""
        names = tuple(f"{v.name}|{v.limit}" for v in measured)
        if names != self._names:
            self._build(measured)
            self._names = names
        for row, verdict in enumerate(measured):
            value, word, value2, word2 = self._cells[row]
            other = predicted[row] if predicted else None
            for figure, shown, mark in ((value, verdict, word), (value2, other, word2)):
                near = shown is not None and shown.state in (State.OVER, State.UNDER) and shown.by < 0.1
                figure.setText(format_number(shown.measured if shown else None, 2 if near else 1))
                mark.show_verdict(shown)

    def _build(self, rows: tuple[Verdict, ...]) -> None:
        while (item := self._grid.takeAt(0)) is not None:
            if (old := item.widget()) is not None:
                old.deleteLater()
        self._cells = []
        right = Qt.AlignmentFlag.AlignRight
        self._grid.addWidget(label(tr("limit"), 11, token="soft"), 0, 0)
        self._grid.addWidget(label(tr("measured"), 11, token="soft"), 0, 1, right)
        self._grid.addWidget(label(tr("predicted"), 11, token="soft"), 0, 2, right)
        for n, verdict in enumerate(rows):
            at = 1 + 3 * n
            self._grid.addWidget(hairline(), at, 0, 1, 3)
            name = label(verdict.name, 13, bold=True, wrap=True)
            value, value2 = label("", 15, bold=True), label("", 15, bold=True)
            word, word2 = VerdictLabel(), VerdictLabel()
            self._grid.addWidget(name, at + 1, 0)
            self._grid.addWidget(value, at + 1, 1, right)
            self._grid.addWidget(value2, at + 1, 2, right)
            self._grid.addWidget(label(verdict.limit, 11, token="soft", wrap=True), at + 2, 0)
            self._grid.addWidget(word, at + 2, 1)
            self._grid.addWidget(word2, at + 2, 2)
            self._cells.append((value, word, value2, word2))
