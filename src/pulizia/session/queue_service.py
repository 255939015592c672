# SPDX-License-Identifier: GPL-3.0-or-later
"""Files to be written, one after the other: what each is, how far it is, and what became of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from pulizia.delivery.deliver import Delivered, check_output, deliver
from pulizia.delivery.deliverable import Deliverable, file_name
from pulizia.delivery.reels import paths_of
from pulizia.delivery.targets import Target
from pulizia.errors import PuliziaError
from pulizia.measure.loudness import DUAL_MONO
from pulizia.media.folders import state_folder
from pulizia.media.names import safe_name
from pulizia.media.write import write_text
from pulizia.report.clip_table import ClipRow
from pulizia.report.loudness_report import report_csv, report_html, report_json
from pulizia.score.steps import Step
from pulizia.session.core import SessionCore
from pulizia.session.jobs import SOON, Job
from pulizia.session.orders import Order, OrderFile, Stage, interrupted
from pulizia.session.subject import Subject
from pulizia.words import plural, tr


def step_words(steps: Sequence[Step]) -> tuple[str, ...]:
    """Steps that are on, in plain words."""
    return tuple(f"{s.tool.title}: {s.tool.caption(s.settings)}" for s in steps if s.enabled)


class QueueService:
    """Works through orders in the background; the event "queue" tells of every change."""

    def __init__(self, session: SessionCore) -> None:
        self.session = session
        self.orders: list[Order] = []
        self._job: Job | None = None
        self._file = OrderFile(state_folder("orders"))
        self._recordings: frozenset[str] = frozenset()
        session.document.listen(self._look_for_interrupted)

    @property
    def is_working(self) -> bool:
        """Whether an order is being worked on."""
        return self._job is not None

    @property
    def current(self) -> Order | None:
        """The order that is being worked on, or was last."""
        working = [o for o in self.orders if o.stage is Stage.WORKING]
        ended = [o for o in self.orders if o.stage in (Stage.DONE, Stage.FAILED, Stage.STOPPED)]
        return working[0] if working else ended[-1] if ended else None

    def add(self, orders: Sequence[Order]) -> None:
        """Queue orders and begin when nothing is being written."""
        waiting = {o.path for o in self.orders if o.stage in (Stage.WAITING, Stage.WORKING)}
        for order in orders:
            if order.path in waiting:
                self.session.say(tr("{name} is queued already.", name=order.path.name), bad=True)
                continue
            waiting.add(order.path)
            self.orders.append(order)
        self._next()

    def clear(self) -> None:
        """Forget what has ended."""
        self.orders = [o for o in self.orders if o.stage in (Stage.WAITING, Stage.WORKING)]
        self._keep()
        self.session.events.queue.emit()

    def stop(self) -> None:
        """Stop the order that is being written and all that wait."""
        if self._job is not None:
            self._job.cancel()
            self._job = None
        for order in self.orders:
            if order.stage in (Stage.WAITING, Stage.WORKING):
                order.stage, order.message = Stage.STOPPED, tr("Stopped. Nothing was left half-written.")
        self._keep()
        self.session.events.queue.emit()

    def again(self) -> None:
        """Queue what failed or was stopped once more."""
        for order in self.orders:
            if order.stage in (Stage.FAILED, Stage.STOPPED):
                order.stage, order.message, order.share = Stage.WAITING, "", 0.0
        self._next()

    def _look_for_interrupted(self) -> None:
        """When recordings have come: show what an ended session left unwritten of them."""
        project = self.session.document.project
        known = frozenset([*(r.id for r in project.recordings), *(p.id for p in project.programmes)])
        if known == self._recordings:
            return
        self._recordings = known
        if known and (found := interrupted(state_folder("orders"), known)):
            self.orders += found
            self._keep()
            self.session.say(
                plural(
                    "{name} was still to be written when Pulizia ended. Click Retry in Delivery.",
                    "{n} files were still to be written when Pulizia ended. Click Retry in Delivery.",
                    len(found),
                    name=found[0].path.name,
                )
            )
            self.session.events.queue.emit()

    def _keep(self) -> None:
        try:
            self._file.keep(self.orders)
        except PuliziaError as error:
            self.session.say(tr("The queue cannot be saved against a crash: {error}", error=error), bad=True)

    def _next(self) -> None:
        self._keep()
        self.session.events.queue.emit()
        if self._job is not None:
            return
        order = next((o for o in self.orders if o.stage is Stage.WAITING), None)
        if order is None:
            return
        document = self.session.document
        subject = document.subject(order.subject_id)
        if subject is None:
            self._failed(order, self._why_not(order))
            return
        inputs = [r.path for r in document.project.recordings]
        inputs += [Path(p.film) for p in document.project.programmes if p.film]
        mono = subject.channels == 1 or order.wanted.layout == "mono"
        names = (DUAL_MONO,) if order.dual_mono and mono else subject.names
        programme, made = subject.after, order.plan
        if order.wanted.kind == "picture" and subject.lies_elsewhere:
            programme, made = subject.in_video(programme), None
        order.stage, order.steps, order.clips = Stage.WORKING, subject.steps, subject.clip_table()
        silent = subject.sound.silent if subject.sound is not None else ()

        def work(job: Job) -> Delivered:
            for path in paths_of(order.path, order.wanted, subject.metadata.markers, programme.frames):
                check_output(path, inputs=inputs, overwrite=order.overwrite)

            def told(share: float, what: str) -> None:
                job.progress(share)
                self.session.post(lambda: self._told(order, share, what))

            subject.prepare()
            done = deliver(
                programme, order.target, order.path, wanted=order.wanted, made=made, names=names, metadata=subject.metadata,
                way=order.way, hard=order.hard, store=document.segments, cache=document.cache, progress=told,
            )  # fmt: skip
            if silent:
                note = tr("Silent, because their files are missing: {names}.", names=", ".join(silent))
                done = replace(done, notes=(*done.notes, note))
            if order.with_report:
                write_reports(done, order.path, order.steps, order.clips)
            return done

        self._job = self.session.pool.submit(
            work, title=tr("Delivering {name}", name=order.path.name), priority=SOON, on_done=lambda done: self._done(order, done),
            on_error=lambda text: self._failed(order, text),
        )  # fmt: skip
        self.session.events.queue.emit()

    def _why_not(self, order: Order) -> str:
        if any(p.id == order.subject_id for p in self.session.document.project.programmes):
            return tr("The programme holds no clips. Add recordings to it first.")
        return tr("{name}: its file is missing or changed. Relink it on the Bench.", name=order.name)

    def _told(self, order: Order, share: float, what: str) -> None:
        if order.stage is Stage.WORKING:
            order.share, order.doing = share, what
            self.session.events.queue.emit()

    def _done(self, order: Order, done: Delivered) -> None:
        order.stage, order.delivered, order.share = Stage.DONE, done, 1.0
        self._job = None
        self._next()

    def _failed(self, order: Order, sentence: str) -> None:
        order.stage, order.message = Stage.FAILED, sentence
        self._job = None
        self.session.say(sentence, bad=True)
        self._next()


def write_reports(done: Delivered, path: Path, steps: Sequence[Step], clips: Sequence[ClipRow] = ()) -> None:
    """The report beside the file, as a page, as JSON and as a log."""
    words = step_words(steps)
    write_text(path.with_suffix(".html"), report_html(done, words, clips))
    write_text(path.with_suffix(".json"), report_json(done, words, clips))
    write_text(path.with_suffix(".csv"), report_csv(done, words))


def order_path(subject: Subject, wanted: Deliverable, target: Target, pattern: str, folder: Path, number: int) -> Path:
    """Where an order is written, from a name pattern; DeliveryError when the pattern is wrong."""
    steps = "-".join(step.tool_id for step in subject.steps if step.enabled)
    values = {
        "name": safe_name(subject.name), "target": target.id, "steps": steps, "number": f"{number:02d}",
        "rate": f"{(wanted.rate_hz or subject.rate) / 1000:g}k",
    }  # fmt: skip
    suffix = ""
    if wanted.kind == "picture":
        own = subject.video.suffix.lower() if subject.video is not None else ""
        suffix = own if own in (".mp4", ".mov", ".mkv", ".m4v") else ".mkv"
    return folder / file_name(pattern, values, wanted.kind, suffix)
