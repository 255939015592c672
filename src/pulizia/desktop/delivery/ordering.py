# SPDX-License-Identifier: GPL-3.0-or-later
"""What Delivery queues: names, folders, what is there already."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import (
    QFileDialog,
    QWidget,
)

from pulizia.delivery.deliverable import Deliverable
from pulizia.delivery.reels import paths_of
from pulizia.delivery.targets import Target
from pulizia.desktop.controls import Tick
from pulizia.desktop.delivery.order_sheet import OrderSheet
from pulizia.desktop.existing import CHOOSE, KEEP_BOTH, REPLACE, ask_existing
from pulizia.desktop.folders import proposed_folder
from pulizia.errors import DeliveryError, PuliziaError
from pulizia.media.names import free_name
from pulizia.session.orders import Order
from pulizia.session.plan_service import Aim
from pulizia.session.queue_service import order_path
from pulizia.session.session import Session
from pulizia.session.subject import Subject
from pulizia.words import tr


class Ordering(QWidget):
    """The part of the Delivery place that asks where to and gives orders."""

    session: Session
    orders: OrderSheet
    all_tick: Tick
    report_tick: Tick
    hard_tick: Tick
    delivered: Order | None
    _folder: Path | None

    @property
    def target(self) -> Target | None:
        """The chosen target."""
        raise NotImplementedError

    def aim_at(self, target: Target) -> Aim:
        """What a plan for a target is made of."""
        raise NotImplementedError

    def _wanted(self) -> list[Deliverable]:
        try:
            return self.orders.all()
        except PuliziaError as error:
            self.session.say(str(error), bad=True)
            return []

    def ask_and_deliver(self) -> None:
        """Ask where to, then queue everything that is to be written."""
        subject, target, wanted = self.session.subject, self.target, self._wanted()
        if subject is None or target is None or not wanted:
            return
        folder = self._folder or proposed_folder(self.session, subject.recording)
        if len(wanted) == 1 and not self.all_tick.isChecked() and not wanted[0].by_reel:  # reels are several files
            proposal = order_path(subject, wanted[0], target, self.orders.pattern.text(), folder, 1)
            name, _ = QFileDialog.getSaveFileName(
                self, tr("Deliver as"), str(proposal), tr("Files (*{suffix})", suffix=proposal.suffix)
            )
            if name:
                path = Path(name) if Path(name).suffix else Path(name + proposal.suffix)
                self.deliver_to(path, overwrite=True)  # the dialog has asked already
            return
        chosen = QFileDialog.getExistingDirectory(self, tr("Deliver to"), str(folder))
        if chosen:
            self.ask_into(Path(chosen))

    def deliver_to(self, path: Path, *, overwrite: bool = False) -> None:
        """Queue the programme on the bench for one file."""
        subject, wanted = self.session.subject, self._wanted()
        if subject is None or self.target is None or not wanted:
            return
        self._folder = path.parent
        try:
            suffix = order_path(subject, wanted[-1], self.target, "x", path.parent, 1).suffix
        except PuliziaError as error:
            self.session.say(str(error), bad=True)
            return
        path = path if path.suffix.lower() == suffix else path.with_name(path.name + suffix)
        self.delivered = None
        self.session.queue.add([self._order(subject, wanted[-1], path, overwrite=overwrite)])

    def deliver_into(self, folder: Path, *, overwrite: bool = False, keep_both: bool = False) -> None:
        """Queue all deliverables of the chosen programme, or of all; ``keep_both`` gives new names beside what is there."""
        if self.target is None or self.session.subject is None or not self._wanted():
            return
        self._folder = folder
        try:
            rows = self._rows_into(folder)
        except PuliziaError as error:
            self.session.say(str(error), bad=True)
            return
        self.delivered = None
        self.session.queue.add([
            self._order(subject, one, free_name(path) if keep_both else path, overwrite=overwrite)
            for subject, one, path in rows
        ])  # fmt: skip

    def _rows_into(self, folder: Path) -> list[tuple[Subject, Deliverable, Path]]:
        """What is written into a folder; DeliveryError when a name or a target is wrong."""
        current = self.session.subject
        subjects = self._all() if self.all_tick.isChecked() else [current] if current is not None else []
        return [
            (subject, one, self._path_of(subject, one, folder, n))
            for n, subject in enumerate(subjects, 1)
            for one in self.orders.of(subject)
        ]

    def ask_into(self, folder: Path) -> None:
        """Queue everything for a folder; where files are there already, ask first."""
        try:
            there = [
                file
                for subject, one, path in self._rows_into(folder)
                for file in paths_of(path, one, subject.metadata.markers, subject.after.frames)
                if file.exists()
            ]
        except PuliziaError as error:
            self.session.say(str(error), bad=True)
            return
        way = ask_existing(self, there) if there else ""
        if way == CHOOSE:
            self.ask_and_deliver()
        elif way is not None:
            self.deliver_into(folder, overwrite=way == REPLACE, keep_both=way == KEEP_BOTH)

    def _path_of(self, subject: Subject, wanted: Deliverable, folder: Path, number: int) -> Path:
        target = self.session.target_of(subject.id)
        if target is None:
            message = tr("{name} has a target that is not known here. Choose another one for it.", name=subject.name)
            raise DeliveryError(message)
        return order_path(subject, wanted, target, self.orders.pattern.text(), folder, number)

    def _all(self) -> list[Subject]:
        """All programmes and recordings that can be heard; of a project with programmes, the programmes alone."""
        document = self.session.document
        rows = document.project.programmes or document.project.recordings
        found = [document.subject(row.id) for row in rows]
        return [subject for subject in found if subject is not None]

    def _order(self, subject: Subject, wanted: Deliverable, path: Path, *, overwrite: bool) -> Order:
        target = self.session.target_of(subject.id)
        assert target is not None  # noqa: S101 - the callers have looked
        plain = wanted == Deliverable(
            kind=wanted.kind, sample_format=wanted.sample_format, dither=wanted.dither, bitrate_kbps=wanted.bitrate_kbps
        )
        return Order(
            subject_id=subject.id, name=subject.name, path=path, wanted=wanted, target=target, way=self.orders.way,
            dual_mono=self.orders.dual_tick.isChecked(), with_report=self.report_tick.isChecked(), overwrite=overwrite,
            hard=self.hard_tick.isChecked() and self.hard_tick.isVisible(),
            plan=self.session.plans.of(subject.id, self.aim_at(target)) if plain else None,
        )  # fmt: skip
