# SPDX-License-Identifier: GPL-3.0-or-later
"""Lanes that give way to another one, turn by turn, by points in the gain lines of their clips."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import replace

from pulizia.project.clips import Clip, Programme, level_at

Points = tuple[tuple[int, float], ...]


def duck(
    programme: Programme, chosen: Sequence[tuple[int, int, str]], lane_ids: Sequence[str], by_db: float, ramp: int
) -> Programme:
    """Lower these lanes by ``by_db`` wherever another of them is chosen.

    Parameters
    ----------
    chosen
        (first frame, frame after the last, lane) of the turns, in order and without gaps.
    ramp
        Frames over which a gain moves; it is centred on the change.
    """
    made = programme
    for lane_id in lane_ids:
        line = _line([(a, b, 0.0 if lane == lane_id else -abs(by_db)) for a, b, lane in chosen], ramp)
        lane = made.lane(lane_id)
        made = made.with_lane(lane.with_clips(_with_line(clip, line) for clip in lane.clips))
    return made


def _line(turns: Sequence[tuple[int, int, float]], ramp: int) -> Points:
    """Points of a gain that is level inside the turns and moves around their borders."""
    if not turns:
        return ()
    found = [(turns[0][0], turns[0][2])]
    for (a, b, before), (_, c, behind) in itertools.pairwise(turns):
        if before != behind:
            half = min(ramp // 2, (b - a) // 2, (c - b) // 2)
            found += [(b - half, before), (b + max(1, half), behind)]
    return (*found, (turns[-1][1], turns[-1][2]))


def _with_line(clip: Clip, line: Points) -> Clip:
    """The clip with the gain of a line of the programme's clock added to its own."""
    inside = {at - clip.start for at, _ in line if clip.start < at < clip.stop}
    places = sorted({0, clip.frames} | inside | {at for at, _ in clip.gain_line})
    added = [level_at(line, at + clip.start) for at in places]
    if not any(added):
        return clip
    points = tuple((at, level_at(clip.gain_line, at) + db) for at, db in zip(places, added, strict=True))
    flat = len({db for _, db in points}) == 1
    return replace(clip, gain_line=(points[0], points[-1]) if flat else points)
