# SPDX-License-Identifier: GPL-3.0-or-later
"""The ledger of troubles at the left: what was found, how it stands now, and which step treats it."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPoint, Qt, QTimer
from PySide6.QtWidgets import QHBoxLayout, QProgressBar, QVBoxLayout, QWidget

from pulizia.desktop.bench.finding_row import (
    IGNORED,
    RESOLVED,
    STATES,
    TREATED,
    UNTREATED,
    FindingRow,
    name_of_entry,
)
from pulizia.desktop.controls import button, label
from pulizia.desktop.menu import Menu
from pulizia.inspection.inspect import not_found
from pulizia.inspection.names import looked_for, name_of
from pulizia.session.inspection_service import Entry
from pulizia.session.session import Session
from pulizia.tools.finding import Finding
from pulizia.words import tr, translated

SETTLED_MS = 1500
ALL_KINDS = (
    "overload",
    "clicks",
    "plosives",
    "hum",
    "breaths",
    "sound",
    "noise",
    "ringing",
    "sibilance",
    "room",
    "dull",
    "level",
    "silence",
)


class FindingsList(QWidget):
    """Filled by Inspect; kept up to date after edits."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.service = session.inspection
        self.chosen = ""
        self.rows: dict[str, FindingRow] = {}
        self._shown: object = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 10)
        column.setSpacing(2)
        head = QHBoxLayout()
        head.setContentsMargins(8, 0, 0, 0)
        head.addWidget(label(tr("Findings"), bold=True))
        head.addStretch(1)
        self.run_button = button(
            tr("Inspect"), self._run_or_stop, tip=tr("Check the recording and list its problems (Ctrl+I)"), quiet=True
        )
        head.addWidget(self.run_button)
        column.addLayout(head)
        self.progress = QProgressBar()
        self.progress.setRange(0, 1000)
        self.progress.setTextVisible(False)
        self.progress.setFixedHeight(4)
        column.addWidget(self.progress)
        self.words = label("", 12, token="soft", wrap=True)
        self.words.setContentsMargins(8, 0, 8, 2)
        self.all_button = button(
            tr("Treat all"),
            self._treat_all,
            tip=tr("Add a step for each problem that a step can treat (Ctrl+Shift+I)"),
        )
        over = QHBoxLayout()  # over the rows: in view however many there are
        over.setContentsMargins(8, 2, 8, 4)
        over.addWidget(self.all_button)
        over.addStretch(1)
        column.addLayout(over)
        self._body = QWidget()
        self._rows = QVBoxLayout(self._body)
        self._rows.setContentsMargins(0, 0, 0, 0)
        self._rows.setSpacing(2)
        column.addWidget(self._body)
        column.addWidget(self.words)
        self._settled = QTimer(self)
        self._settled.setSingleShot(True)
        self._settled.setInterval(SETTLED_MS)
        self._settled.timeout.connect(self.service.renew)
        for event in (session.events.findings, session.events.current):
            event.connect(self.refresh)
        session.events.document.connect(self._edited)
        self.refresh()

    def _edited(self) -> None:
        if self.service.is_inspected and not self.service.is_current:
            self._settled.start()
        self.refresh()

    def _run_or_stop(self) -> None:
        self.service.stop() if self.service.listening_to else self.service.run()

    def refresh(self) -> None:
        """Show the ledger as it is now."""
        recording, service = self.session.recording, self.service
        self.setVisible(recording is not None)
        if recording is None:
            return
        busy = bool(service.listening_to)
        self.run_button.setText(tr("Stop") if busy else tr("Inspect"))
        self.run_button.setEnabled(self.session.chain is not None)
        self.progress.setVisible(busy)
        self.progress.setValue(round(1000 * service.share))
        entries = service.entries()
        self.words.setText(translated(self._told(entries, busy=busy)))
        self.words.setVisible(bool(self.words.text()))
        shown = (recording.id, [(e, service.treating_step(e)) for e in entries], self.chosen)
        if shown != self._shown:
            self._shown = shown
            self._fill(entries, recording.frames)
        self.all_button.setEnabled(not service.is_treating)
        self.all_button.setVisible(
            any(
                e.after is not None and e.after.tool_id and not e.left and service.treating_step(e) is None
                for e in entries
            )
        )

    def _told(self, entries: list[Entry], *, busy: bool) -> str:
        service = self.service
        if service.fault:
            return service.fault
        if busy:
            return (
                tr("Looking for {listening_to}…", listening_to=translated(looked_for(service.listening_to)))
                if service.listening_to not in ("listening", "done")
                else tr("Inspecting…")
            )
        if not service.is_inspected:
            return tr("Checks the recording and lists problems with their places.")
        if service.only_kind:
            return tr("Only {kind} is shown in the pictures.", kind=self._only_name(entries))
        unfound = not_found([e.now for e in entries])
        missing = [translated(looked_for(k)) for k in ALL_KINDS if k in unfound]
        if not entries:
            return tr("Nothing was found.")
        return tr("Not found: {missing}.", missing=", ".join(missing)) if missing else ""

    def _only_name(self, entries: list[Entry]) -> str:
        return next(
            (name_of_entry(e) for e in entries if e.id == self.service.only_kind), name_of(self.service.only_kind)
        )

    def _fill(self, entries: list[Entry], frames: int) -> None:
        focused = next((kind for kind, row in self.rows.items() if row.hasFocus()), "")
        while (item := self._rows.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.hide()
                widget.deleteLater()
        self.rows = {}
        entries = sorted(entries, key=lambda e: STATES.index(self._state(e)))
        states = [self._state(e) for e in entries]
        for n, entry in enumerate(entries):
            if len(set(states)) > 1 and states[n] not in states[:n]:
                words = label(states[n], 11, token="soft")
                words.setContentsMargins(8, 6 if n else 0, 0, 0)
                self._rows.addWidget(words)
            row = FindingRow(entry, self.service.treating_step(entry), frames)
            row.chosen = entry.id == self.chosen
            row.pressed.connect(self.choose)
            row.menu.connect(self._show_menu)
            row.setAccessibleDescription(translated(states[n]))
            self._rows.addWidget(row)
            self.rows[entry.id] = row
            if row.chosen:
                self._rows.addWidget(self._details(entry))
        self._order_keys()
        if focused in self.rows:
            self.rows[focused].setFocus()

    def _order_keys(self) -> None:
        """Tab goes through the rows where they stand, behind the buttons over them."""
        QWidget.setTabOrder(self.run_button, self.all_button)
        before: QWidget = self.all_button
        items = [self._rows.itemAt(n) for n in range(self._rows.count())]
        parts = [item.widget() for item in items if item is not None]
        inner = [p for part in parts if part is not None for p in (part, *part.findChildren(QWidget))]
        for part in inner:
            if part.focusPolicy() & Qt.FocusPolicy.TabFocus:
                QWidget.setTabOrder(before, part)
                before = part

    def _treat_all(self) -> None:
        """The button goes grey meanwhile: the keys stay in the list."""
        had_keys = self.all_button.has_keys
        self.service.treat_all()
        if had_keys and not self.all_button.hasFocus() and self.rows:
            next(iter(self.rows.values())).setFocus()

    def _state(self, entry: Entry) -> str:
        if entry.left:
            return IGNORED
        if entry.is_gone:
            return RESOLVED
        return UNTREATED if self.service.treating_step(entry) is None else TREATED

    def walk(self, direction: int) -> None:
        """To the next or previous place of all findings; the row it belongs to opens."""
        kind = self.service.walk(direction)
        if kind and kind != self.chosen:
            self.chosen = kind
            self.refresh()

    def menu_of(self, kind: str) -> Menu:
        """What can be done with a finding."""
        entry = self.rows[kind].entry
        menu = Menu(self)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)

        def add(words: str, call: Callable[[], None], *, on: bool = True) -> None:
            action = menu.addAction(words)
            action.setEnabled(on)
            action.triggered.connect(lambda _on=False: call())

        places = bool(entry.now.marks)
        add(tr("Next place"), lambda: self.service.visit(entry.now), on=places)
        add(tr("Previous place"), lambda: self.service.visit(entry.now, -1), on=places)
        menu.addSeparator()
        untreated = entry.after is not None and bool(entry.after.tool_id) and self.service.treating_step(entry) is None
        add(tr("Treat"), lambda: self.service.treat(entry.now), on=untreated)
        words = tr("Stop ignoring") if entry.left else tr("Ignore")
        add(words, lambda: self.service.leave(kind, leave=not entry.left), on=not entry.is_gone)
        menu.addSeparator()
        only = self.service.only_kind == kind
        add(
            tr("Show all kinds") if only else tr("Show only this kind"),
            lambda: self.service.show_only("" if only else kind),
        )
        return menu

    def _show_menu(self, kind: str, place: QPoint) -> None:
        self.menu_of(kind).popup(place)

    def choose(self, kind: str) -> None:
        """Open a row, or go to its next place when it is open."""
        row = self.rows.get(kind)
        if row is None:
            return
        if self.chosen != kind:
            self.chosen = kind
            self.refresh()
        self.service.visit(row.entry.now)

    def _details(self, entry: Entry) -> QWidget:
        made = QWidget()
        column = QVBoxLayout(made)
        column.setContentsMargins(26, 2, 8, 6)
        column.setSpacing(2)
        column.addWidget(label(entry.now.sentence, 12, wrap=True))
        sure = entry.now.certainty
        told = tr("certain") if sure >= 0.9 else tr("likely") if sure >= 0.7 else tr("possible")
        column.addWidget(
            label(tr("{finding}, resolved by the steps", finding=told) if entry.is_gone else told, 12, token="soft")
        )
        row = QHBoxLayout()
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        finding: Finding = entry.now
        if finding.marks:
            row.addWidget(
                button(
                    tr("Next"),
                    lambda: self.service.visit(finding),
                    tip=tr("Go to the next place and play it"),
                    quiet=True,
                )
            )
        if finding.tool_id and entry.after is not None and self.service.treating_step(entry) is None:
            row.addWidget(
                button(
                    tr("Treat"),
                    lambda: self.service.treat(finding),
                    tip=tr("Add the step, with settings from the measurement"),
                    quiet=True,
                )
            )
        if not entry.is_gone:
            words, tip = (
                (tr("Stop ignoring"), tr("List it as a problem again"))
                if entry.left
                else (tr("Ignore"), tr("Leave this problem untreated and do not list it as open"))
            )
            row.addWidget(
                button(words, lambda: self.service.leave(entry.id, leave=not entry.left), tip=tip, quiet=True)
            )
        row.addStretch(1)
        column.addLayout(row)
        return made
