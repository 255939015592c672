# SPDX-License-Identifier: GPL-3.0-or-later
"""Going from clip to clip and from lane to lane by keys, and what is done to the lane that was come to. No Qt."""

from __future__ import annotations

from pulizia.project.clips import Clip
from pulizia.session.assembly_lanes import switch_words
from pulizia.session.assembly_service import AssemblyService
from pulizia.session.core import SessionCore
from pulizia.words import tr


class ClipWalk:
    """One clip is selected at a time, on the chosen lane."""

    def __init__(self, session: SessionCore, assembly: AssemblyService) -> None:
        self._session, self._assembly = session, assembly

    def next_clip(self, direction: int) -> None:
        """Select the next (1) or previous (-1) clip of the chosen lane, and put the playhead at its start."""
        lane = self._assembly.lane
        if lane is None:
            return
        ids = [c.id for c in lane.clips]
        chosen = [n for n, clip_id in enumerate(ids) if clip_id in self._assembly.clip_ids]
        here = self._session.transport.position
        if chosen:
            number = chosen[-1] + 1 if direction > 0 else chosen[0] - 1
        elif direction > 0:
            number = next((n for n, c in enumerate(lane.clips) if c.stop > here), len(ids))
        else:
            number = next((n for n in reversed(range(len(ids))) if lane.clips[n].start <= here), -1)
        if 0 <= number < len(ids):
            self._go_to(lane.clips[number])
        else:
            self._session.say(
                tr("{lane}: no further clip.", lane=lane.name) if ids else tr("{lane}: no clip yet.", lane=lane.name)
            )

    def clip_here(self) -> None:
        """Select the clip under the playhead: of the chosen lane, and then of the lanes below, one after the other."""
        programme, lane = self._assembly.programme, self._assembly.lane
        if programme is None or lane is None:
            return
        here = self._session.transport.position
        first = programme.lanes.index(lane)
        lanes = [*programme.lanes[first:], *programme.lanes[:first]]
        found = [c for one in lanes for c in one.clips if c.start <= here < c.stop]
        if not found:
            self._session.say(tr("No clip lies at the playhead."))
            return
        chosen = [n for n, c in enumerate(found) if c.id in self._assembly.clip_ids]
        self._assembly.select([found[(chosen[-1] + 1) % len(found) if chosen else 0].id])

    def next_lane(self, direction: int) -> None:
        """Choose the lane below (1) or above (-1); no clip stays selected."""
        programme, lane = self._assembly.programme, self._assembly.lane
        if programme is None or lane is None:
            return
        number = programme.lanes.index(lane) + direction
        if 0 <= number < len(programme.lanes):
            self._assembly.select(())
            self._assembly.choose_lane(programme.lanes[number].id)

    def switch(self, field: str) -> None:
        """Mute or solo the chosen lane with its group, or end it; ``field`` is "muted" or "soloed"."""
        lane = self._assembly.lane
        if lane is None:
            return
        on = not getattr(lane, field)
        self._assembly.switch_lane(lane.id, switch_words(field, on=on), field, on=on)

    def _go_to(self, clip: Clip) -> None:
        self._session.seek(clip.start)
        self._assembly.select([clip.id])
