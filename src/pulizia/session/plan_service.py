# SPDX-License-Identifier: GPL-3.0-or-later
"""What delivering a programme would do to it: plans, made in the background and kept by what they depend on."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from pulizia.delivery.normalise import Plan, Way, plan
from pulizia.delivery.targets import Target
from pulizia.measure.loudness import DUAL_MONO, Measures
from pulizia.session.core import SessionCore
from pulizia.session.jobs import SOON, Job
from pulizia.words import tr

MOST_PLANS = 12
SETTLE_S = 0.15  # a plan after an edit waits this long for the next one


@dataclass(frozen=True, slots=True)
class Aim:
    """What a programme is brought to, and how; ``dual`` counts mono as two loudspeakers."""

    target: Target
    way: Way
    dual: bool


class PlanService:
    """Plans of all programmes."""

    def __init__(self, session: SessionCore) -> None:
        self.session = session
        self._known: dict[tuple[str, Aim], Plan] = {}
        self._wanted: tuple[str, Aim] | None = None

    def of(self, subject_id: str, aim: Aim) -> Plan | None:
        """The plan of a worked programme as it is now, when it is known."""
        key = self._key(subject_id, aim)
        return self._known.get(key) if key is not None else None

    def counted(self, subject_id: str, aim: Aim) -> Measures | None:
        """Its measures as the target counts: speech alone, or mono as two loudspeakers, where it says so."""
        known = self.of(subject_id, aim)
        if known is not None:
            return known.measured
        programme = self.session.document.programme(subject_id)
        if programme is None or aim.target.gate == "dialogue" or (aim.dual and programme.channels == 1):
            return None
        return self.session.measures("after", subject_id)

    def want(self, subject_id: str, aim: Aim, done: Callable[[], None], failed: Callable[[str], None]) -> None:
        """Make the plan of a programme, unless it is known or being made; the newest wish goes first."""
        key, subject = self._key(subject_id, aim), self.session.document.subject(subject_id)
        if key is None or subject is None or key == self._wanted or key in self._known:
            return
        self._wanted = key
        document = self.session.document
        mono = aim.dual and subject.channels == 1
        names = (DUAL_MONO,) if mono else subject.names

        def work(job: Job) -> Plan:
            if job.cancelled_within(SETTLE_S):
                job.progress(0.0)
            subject.prepare()
            return plan(
                subject.after, aim.target, store=document.segments, cache=document.cache, names=names, way=aim.way,
                progress=job.progress,
            )  # fmt: skip

        def made(found: Plan) -> None:
            self._known[key] = found
            while len(self._known) > MOST_PLANS:
                del self._known[next(iter(self._known))]
            if key == self._wanted:
                self._wanted = None
                done()

        def broken(sentence: str) -> None:
            if key == self._wanted:
                failed(sentence)

        self.session.pool.submit(
            work, title=tr("Predicting"), priority=SOON, slot="plan", on_done=made, on_error=broken
        )

    def _key(self, subject_id: str, aim: Aim) -> tuple[str, Aim] | None:
        programme = self.session.document.programme(subject_id)
        return None if programme is None else (programme.key, aim)
