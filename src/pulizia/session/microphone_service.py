# SPDX-License-Identifier: GPL-3.0-or-later
"""The best of several microphones from turn to turn: a plan that can be changed before it is applied. No Qt."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from pulizia.measure.best_microphone import best_microphones
from pulizia.project.clips import Programme
from pulizia.project.ducking import duck
from pulizia.project.microphone_lanes import on_lanes
from pulizia.session.assembly_service import AssemblyService
from pulizia.session.core import SessionCore
from pulizia.units import seconds_to_frames
from pulizia.words import plural, tr

RAMP_S = 0.12


@dataclass(frozen=True, slots=True)
class PlannedTurn:
    """A section in frames of the programme, the lane that is heard in it, and how clearly it is the nearest (0..1)."""

    start: int
    stop: int
    lane_id: str
    certainty: float


@dataclass(frozen=True, slots=True)
class MicrophonePlan:
    """Turns of the lanes of a programme, in order and without gaps."""

    programme_id: str
    lane_ids: tuple[str, ...]
    turns: tuple[PlannedTurn, ...]

    def with_lane(self, number: int, lane_id: str) -> MicrophonePlan:
        """With another lane for one turn."""
        turns = list(self.turns)
        turns[number] = replace(turns[number], lane_id=lane_id, certainty=1.0)
        return replace(self, turns=tuple(turns))


class MicrophoneService:
    """Lays microphones onto lanes, makes plans of the lanes that hold selected clips, and applies them."""

    def __init__(self, session: SessionCore, assembly: AssemblyService) -> None:
        self._session, self._assembly = session, assembly

    def plan(self, done: Callable[[MicrophonePlan], None]) -> None:
        """Listen to the lanes of the selected clips, before their steps; ``done`` gets the plan."""
        programme, sound = self._assembly.programme, self._assembly.sound
        lanes = (
            [la for la in programme.lanes if any(c.id in self._assembly.clip_ids for c in la.clips)]
            if programme is not None
            else []
        )
        if programme is None or sound is None or len(lanes) < 2:
            several = any(
                len(self._session.channels_of(c.recording_id)) > 1 and c.channel is None for c in self._assembly.clips
            )
            self._session.say(
                tr("Lay each microphone onto a lane of its own first (menu Assembly, Microphones).")
                if several
                else tr("Select clips on two or more lanes that heard one moment first."),
                bad=True,
            )
            return
        ids = tuple(lane.id for lane in lanes)
        sources = [s.chain.before for s in sound.lanes if s.lane.id in ids]

        def made(turns: list[PlannedTurn]) -> None:
            if turns:
                done(MicrophonePlan(programme.id, ids, tuple(turns)))

        self._session.job(
            lambda job: [PlannedTurn(t.start, t.stop, ids[t.microphone], t.certainty) for t in best_microphones(sources, job.progress)],
            tr("Choosing microphones"), made,
        )  # fmt: skip

    def on_lanes(self) -> None:
        """Lay each microphone of the selected clips onto a lane of its own; all of them are selected then."""
        chosen, count, before = self._assembly.clip_ids, 0, self._assembly.programme

        def laid(programme: Programme) -> Programme:
            nonlocal count
            made, count = on_lanes(programme, chosen, self._session.channels_of)
            return made

        if self._assembly.apply(laid, tr("Lay microphones onto lanes")):
            self._assembly.select([*chosen, *_clip_ids(self._assembly.programme).difference(_clip_ids(before))])
            self._session.say(
                plural(
                    "1 clip was laid out, each microphone on a lane of its own.",
                    "{n} clips were laid out, each microphone on a lane of its own.",
                    count,
                )
            )

    def apply(self, plan: MicrophonePlan, by_db: float) -> None:
        """Lower the other lanes in each turn, as one entry of history."""
        programme = self._assembly.programme
        if programme is None or programme.id != plan.programme_id:
            return
        ramp = seconds_to_frames(RAMP_S, programme.rate)
        turns = [(t.start, t.stop, t.lane_id) for t in plan.turns]
        if self._assembly.apply(lambda p: duck(p, turns, plan.lane_ids, by_db, ramp), tr("Choose the best microphone")):
            self._session.say(
                plural(
                    "1 turn; the other lanes are lower in it.",
                    "{n} turns; the other lanes are lower in each.",
                    len(turns),
                )
            )


def _clip_ids(programme: Programme | None) -> set[str]:
    return {c.id for lane in programme.lanes for c in lane.clips} if programme is not None else set()
