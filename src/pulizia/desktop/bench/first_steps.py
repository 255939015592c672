# SPDX-License-Identifier: GPL-3.0-or-later
"""The way to a first result, in the left column: each row does its step, and is ticked once that was done."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from pulizia.desktop.controls import button, hairline, label
from pulizia.session.heard import Listening
from pulizia.session.orders import Stage
from pulizia.session.session import Session
from pulizia.words import N_, tr, translated

OPEN, INSPECT, TREAT, COMPARE, DELIVER = range(5)
ROWS = (
    (N_("Open a recording, or the demo"), N_("Sound and video files, also dropped anywhere (Ctrl+O)")),
    (N_("Inspect it"), N_("Lists its problems with their places (Ctrl+I)")),
    (N_("Treat what was found"), N_("Tries a step for each problem and keeps what helps")),
    (N_("Compare Before and After"), N_("B switches while it plays; Space plays and stops")),
    (N_("Deliver a file"), N_("At the loudness of a target, verified (Ctrl+D)")),
)


class FirstSteps(QWidget):
    """Shown at the first start, and whenever it is asked for; it covers nothing."""

    asked = Signal(int)  # a row was pressed
    dismissed = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._done = [False] * len(ROWS)
        self.setAccessibleName(tr("First steps"))
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 4, 8, 8)
        column.setSpacing(0)
        column.addWidget(hairline())
        head = QHBoxLayout()
        head.setContentsMargins(8, 4, 0, 0)
        head.addWidget(label(tr("First steps"), bold=True))
        head.addStretch(1)
        head.addWidget(button(tr("Hide"), self._dismiss, tip=tr("Help, First steps shows them again"), quiet=True))
        column.addLayout(head)
        self.rows: list[QPushButton] = []
        for n, (_, tip) in enumerate(ROWS):
            made = button("", self._asking(n), tip=tip, quiet=True)
            self.rows.append(made)
            column.addWidget(made, alignment=Qt.AlignmentFlag.AlignLeft)
        for event in (
            session.events.document,
            session.events.current,
            session.events.findings,
            session.events.listening,
            session.events.queue,
        ):
            event.connect(self.refresh)
        self.hide()
        self.refresh()

    def _asking(self, n: int) -> Callable[[], None]:
        return lambda: self.asked.emit(n)

    def _dismiss(self) -> None:
        self.hide()
        self.dismissed.emit()

    @property
    def next(self) -> int | None:
        """The first step that was not done yet; None when all were."""
        return self._done.index(False) if False in self._done else None

    def refresh(self) -> None:
        """Tick what was done; once done it stays so."""
        session, recording = self._session, self._session.recording
        now = (
            recording is not None,
            session.inspection.is_inspected,
            recording is not None and bool(recording.score),
            session.listening is Listening.BEFORE,
            any(order.stage is Stage.DONE for order in session.queue.orders),
        )
        self._done = [was or done for was, done in zip(self._done, now, strict=True)]
        for n, made in enumerate(self.rows):
            words = translated(ROWS[n][0])
            made.setText(f"\u2713  {words}" if self._done[n] else f"{n + 1}.  {words}")
            state = tr("done") if self._done[n] else tr("next") if n == self.next else tr("later")
            made.setAccessibleName(f"{words}, {state}")
            made.setProperty("main", False)
            made.setEnabled(n == OPEN or self._done[OPEN])
