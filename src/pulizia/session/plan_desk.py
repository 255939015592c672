# SPDX-License-Identifier: GPL-3.0-or-later
"""What delivering a programme would do to it: plans, made in the background and kept by what they depend on."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from pulizia.delivery.normalise import Plan, Way, plan
from pulizia.delivery.targets import Target
from pulizia.measure.loudness import DUAL_MONO, Measures
from pulizia.session.jobs import SOON, Job
from pulizia.session.room import Room
from pulizia.words import tr

MOST_PLANS = 12
SETTLE_S = 0.15  # a plan after an edit waits this long for the next one


@dataclass(frozen=True, slots=True)
class Aim:
    """What a programme is brought to, and how; ``dual`` counts mono as two loudspeakers."""

    target: Target
    way: Way
    dual: bool


class PlanDesk:
    """Plans of all programmes."""

    def __init__(self, room: Room) -> None:
        self.room = room
        self._known: dict[tuple[str, Aim], Plan] = {}
        self._wanted: tuple[str, Aim] | None = None

    def of(self, recording_id: str, aim: Aim) -> Plan | None:
        """The plan of a worked programme as it is now, when it is known."""
        key = self._key(recording_id, aim)
        return self._known.get(key) if key is not None else None

    def counted(self, recording_id: str, aim: Aim) -> Measures | None:
        """Its measures as the target counts: speech alone, or mono as two loudspeakers, where it says so."""
        known = self.of(recording_id, aim)
        if known is not None:
            return known.measured
        programme = self.room.document.programme(recording_id)
        if programme is None or aim.target.gate == "dialogue" or (aim.dual and programme.channels == 1):
            return None
        return self.room.measures("after", recording_id)

    def want(self, recording_id: str, aim: Aim, done: Callable[[], None], failed: Callable[[str], None]) -> None:
        """Make the plan of a programme, unless it is known or being made; the newest wish goes first."""
        key, programme = self._key(recording_id, aim), self.room.document.programme(recording_id)
        if key is None or programme is None or key == self._wanted or key in self._known:
            return
        self._wanted = key
        document = self.room.document
        names = document.media[recording_id].channel_names
        if aim.dual and programme.channels == 1:
            names = (DUAL_MONO,)

        def work(job: Job) -> Plan:
            if job.cancelled_within(SETTLE_S):
                job.progress(0.0)
            return plan(
                programme, aim.target, store=document.segments, cache=document.cache, names=names, way=aim.way,
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

        self.room.pool.submit(work, title=tr("Predicting"), priority=SOON, slot="plan", on_done=made, on_error=broken)

    def _key(self, recording_id: str, aim: Aim) -> tuple[str, Aim] | None:
        programme = self.room.document.programme(recording_id)
        return None if programme is None else (programme.key, aim)
