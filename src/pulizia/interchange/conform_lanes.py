# SPDX-License-Identifier: GPL-3.0-or-later
"""The lanes of a conformed programme: which stand for those of the new list, and clips put in a row on them."""

from __future__ import annotations

from dataclasses import replace

from pulizia.interchange.conform_match import Asked
from pulizia.project.clips import Clip, Lane, Programme, new_clip_id
from pulizia.project.received import Received


def bases(old: Programme, new: Programme, asked: Asked) -> dict[str, Lane]:
    """For each lane of the new cut by identity the lane of the programme that stands for it: each at most once, or itself."""
    by_id, by_name = {lane.id: lane for lane in old.lanes}, {lane.name: lane for lane in reversed(old.lanes)}
    used: set[str] = set()
    found: dict[str, Lane] = {}
    for number, lane in enumerate(new.lanes):
        same = by_id.get(asked.lane_of.get(lane.name, ""))  # also when it was given another name since
        base = same if same is not None and same.id not in used else by_name.get(lane.name)
        if base is None and number < len(old.lanes) and not (asked and old.lanes[number].id not in asked.lanes):
            base = replace(old.lanes[number], name=lane.name)
        if base is None or base.id in used:
            base = replace(lane, clips=())
        used.add(base.id)
        found[lane.id] = base
    return found


def with_lanes(received: Received | None, bases: dict[str, Lane]) -> Received | None:
    """The new list, with what it asks for on the lanes on which it was laid."""
    if received is None:
        return None
    laid = (replace(c, lane_id=bases[c.lane_id].id if c.lane_id in bases else c.lane_id) for c in received.laid)
    return replace(received, laid=tuple(laid))


def is_bed(lane: Lane) -> bool:
    """Nothing but room tone: it lies under everything, whatever the cut."""
    return all(c.tone for c in lane.clips)


def in_a_row(clips: list[Clip]) -> list[Clip]:
    """Clips by place, none inside another and no three at once."""
    made: list[Clip] = []
    for clip in sorted(clips, key=lambda c: (c.start, c.stop)):
        before = made[-1] if made else None
        if before is not None and clip.stop <= before.stop:
            continue  # twice the same stretch
        if before is not None and clip.start == before.start:
            made.pop()
        if len(made) > 1 and made[-2].stop > clip.start:
            clip = clip.part_of(made[-2].stop, clip.stop)  # noqa: PLW2901 - three would sound at once
        made.append(clip)
    ids: set[str] = set()
    for n, clip in enumerate(made):
        if clip.id in ids:
            made[n] = replace(clip, id=new_clip_id())
        ids.add(made[n].id)
    return made
