# SPDX-License-Identifier: GPL-3.0-or-later
"""Edits of a programme as pure functions: each takes one and gives another; refusals are a sentence."""

from __future__ import annotations

import itertools
from bisect import bisect_left, bisect_right
from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import replace
from operator import attrgetter

from pulizia.audio.fades import Law
from pulizia.audio.timeline import Edge
from pulizia.dsp.moments import merged
from pulizia.errors import ProjectError
from pulizia.project.clips import Clip, Lane, Programme, new_clip_id
from pulizia.project.handles import Handles
from pulizia.words import tr

_start, _stop = attrgetter("start"), attrgetter("stop")


def each_lane(programme: Programme, change: Callable[[Lane], Iterable[Clip]]) -> Programme:
    """With other clips on every lane."""
    return replace(programme, lanes=tuple(lane.with_clips(change(lane)) for lane in programme.lanes))


def each_free_lane(programme: Programme, change: Callable[[Lane], Iterable[Clip]]) -> Programme:
    """Of an edit of the whole programme: locked lanes stay as they are."""
    return each_lane(programme, lambda lane: lane.clips if lane.locked else change(lane))


def check_locks(before: Programme, after: Programme) -> None:
    """Refuse an edit that changes clips of a locked lane.

    Raises
    ------
    ProjectError
        With the name of the lane.
    """
    now = {lane.id: lane for lane in after.lanes}
    for lane in before.lanes:
        known = now.get(lane.id)
        if lane.locked and (known is None or (known.locked and known.clips != lane.clips)):
            message = tr("The lane {name} is locked. Unlock it first.", name=lane.name)
            raise ProjectError(message)


def put(programme: Programme, lane_id: str, clips: Iterable[Clip]) -> Programme:
    """Lay clips onto a lane; what lies under them there gives way."""
    lane, new = programme.lane(lane_id), sorted(clips, key=_start)
    try:
        return programme.with_lane(
            lane.with_clips([*_without(lane.clips, new), *replace(lane, clips=()).with_clips(new).clips])
        )
    except ProjectError:  # those of several lanes on one: what comes later goes over what came before
        row = list(lane.clips)
        for clip in new:
            row = [*cleared(row, clip.start, clip.stop), clip]
        return programme.with_lane(lane.with_clips(row))


def _without(row: Sequence[Clip], others: Iterable[Clip]) -> list[Clip]:
    """A row of clips with what lies under others cleared; only the clips around each of them are looked at."""
    left = list(row)
    for begin, end in merged(((c.start, c.stop) for c in others), 0):
        first = max(bisect_right(left, begin, key=_stop) - 1, 0)
        last = bisect_left(left, end, key=_start) + 1
        left[first:last] = sorted(cleared(left[first:last], begin, end), key=_start)
    return left


def cleared(clips: Iterable[Clip], begin: int, end: int) -> list[Clip]:
    """Clips without what of them lies in [begin, end); one that reaches over both sides becomes two.

    Where an edge lies inside a cross-fade, what is left of it is the clip that it came from, or went to.
    """
    left: list[Clip] = []
    heads: list[Clip] = []
    tails: list[Clip] = []
    for clip in clips:
        if clip.stop <= begin or clip.start >= end:
            left.append(clip)
            continue
        if clip.start < begin:
            heads.append(clip.part_of(clip.start, begin))
        if clip.stop > end:
            rest = clip.part_of(end, clip.stop)
            tails.append(replace(rest, id=new_clip_id()) if clip.start < begin else rest)
    if heads and any(c.stop == begin for c in left):  # the edge is the very end of a cross-fade
        heads = []
    if tails and any(c.start == end for c in left):
        tails = []
    return [*left, *heads[:1], *tails[-1:]]


def split(programme: Programme, frame: int, lane_ids: Collection[str] | None = None) -> Programme:
    """Part the clips under a frame in two, on these lanes or on all that are not locked; nothing is heard of it.

    A cross-fade under the frame stays whole; ProjectError where nothing else is parted.
    """
    crossed: list[str] = []

    def parted(lane: Lane) -> list[Clip]:
        asked = not lane.locked if lane_ids is None else lane.id in lane_ids
        under = [c for c in lane.clips if c.start < frame < c.stop] if asked else []
        if len(under) > 1:
            crossed.append(lane.id)
            return list(lane.clips)
        row: list[Clip] = []
        for clip in lane.clips:
            if clip in under:
                row += [clip.part_of(clip.start, frame), replace(clip.part_of(frame, clip.stop), id=new_clip_id())]
            else:
                row.append(clip)
        return row

    made = each_lane(programme, parted)
    if crossed and made == programme:
        message = tr("The playhead lies inside a cross-fade. Split beside it, or make the fade shorter first.")
        raise ProjectError(message)
    return made


def remove(programme: Programme, clip_ids: Collection[str]) -> Programme:
    """Lift clips: silence stays where they were."""
    return each_lane(programme, lambda lane: [c for c in lane.clips if c.id not in clip_ids])


def move(programme: Programme, clip_ids: Collection[str], frames: int, lane_id: str | None = None) -> Programme:
    """Move clips together by frames, and to another lane; what lies under them there gives way.

    Raises
    ------
    ProjectError
        When one would begin before the programme, or clips of several lanes would go to one.
    """
    moved = [(lane, c) for lane in programme.lanes for c in lane.clips if c.id in clip_ids]
    if any(c.start + frames < 0 for _, c in moved):
        message = tr("The clips cannot begin before the programme. Move them by less.")
        raise ProjectError(message)
    made = remove(programme, clip_ids)
    by_lane: dict[str, list[Clip]] = {}
    for lane, clip in moved:
        by_lane.setdefault(lane_id or lane.id, []).append(replace(clip, start=clip.start + frames))
    for wanted, clips in by_lane.items():
        together = made.lane(wanted).with_clips(clips)  # refuses clips of several lanes that would lie over each other
        others = _without(made.lane(wanted).clips, together.clips)
        made = made.with_lane(made.lane(wanted).with_clips([*others, *together.clips]))
    return made


def trim(programme: Programme, clip_id: str, *, start: int | None = None, stop: int | None = None) -> Programme:
    """Move an edge of a clip to a frame of the programme; what is heard stays where it is.

    ProjectError when nothing of the clip would be left or another clip is in the way.
    """
    lane = programme.lane_of(clip_id)
    made = trimmed(next(c for c in lane.clips if c.id == clip_id), start, stop)
    for other in lane.clips:
        if other.id != clip_id and made.start <= other.start and other.stop <= made.stop:
            message = tr("The clip would cover the whole clip beside it. Trim it less far, or remove that one first.")
            raise ProjectError(message)
    return programme.with_changed(clip_id, lambda _clip: made)


def trimmed(clip: Clip, start: int | None = None, stop: int | None = None) -> Clip:
    """A clip with an edge at another frame of the programme; ProjectError when nothing of it would be left."""
    first = clip.start if start is None else max(0, start)
    last = clip.stop if stop is None else stop
    if last <= first:
        message = tr("Nothing of the clip would be left. Remove it instead.")
        raise ProjectError(message)
    shift = first - clip.start
    return replace(
        clip, start=first, inner=clip.inner + shift, frames=last - first,
        gain_line=tuple((at - shift, db) for at, db in clip.gain_line),
        fade_in=replace(clip.fade_in, frames=min(clip.fade_in.frames, last - first)),
        fade_out=replace(clip.fade_out, frames=min(clip.fade_out.frames, last - first)),
    )  # fmt: skip


def slip(programme: Programme, clip_ids: Collection[str], frames: int) -> Programme:
    """Let clips play another stretch of their recordings at the same place: later by ``frames``."""
    return programme.with_all_changed(clip_ids, lambda c: replace(c, inner=c.inner + frames))


def _beside(programme: Programme, clip_id: str) -> tuple[Clip | None, Clip, Clip | None]:
    """A clip with those that touch or overlap it on its lane."""
    row = programme.lane_of(clip_id).clips
    at = next(n for n, c in enumerate(row) if c.id == clip_id)
    clip, before, behind = row[at], row[at - 1] if at else None, row[at + 1] if at + 1 < len(row) else None
    return (
        before if before is not None and before.stop >= clip.start else None, clip,
        behind if behind is not None and behind.start <= clip.stop else None,
    )  # fmt: skip


def slide(programme: Programme, clip_id: str, frames: int, handles: Handles | None = None) -> Programme:
    """Move a clip by frames between those that it touches: their edges follow it as far as they go, nothing else moves.

    ProjectError when nothing would be left of a neighbour, or the clip would begin before the programme.
    """
    before, clip, behind = _beside(programme, clip_id)
    shift = max(frames, -clip.start)
    if before is None and behind is None:
        return move(programme, [clip_id], shift)
    if handles is not None:
        shift = handles.stop(before, before.stop + shift) - before.stop if before is not None else shift
        shift = handles.start(behind, behind.start + shift) - behind.start if behind is not None else shift
    changed = {clip.id: clip.moved(shift)}
    if before is not None:
        changed[before.id] = trimmed(before, stop=before.stop + shift)
    if behind is not None:
        changed[behind.id] = trimmed(behind, start=behind.start + shift)
    return exchanged(programme, clip_id, changed)


def roll(programme: Programme, clip_id: str, side: str, frame: int, handles: Handles | None = None) -> Programme:
    """Move the cut at the "start" or "stop" of a clip: one side grows by what the other loses. A lone edge is trimmed."""
    before, clip, behind = _beside(programme, clip_id)
    neighbour = before if side == "start" else behind
    if handles is not None:
        frame = _within(handles, clip, neighbour, side, frame)
    if neighbour is None:
        return trim(programme, clip_id, **{side: frame})
    if side == "start":
        own, other = trimmed(clip, start=frame), trimmed(neighbour, stop=neighbour.stop + frame - clip.start)
    else:
        own, other = trimmed(clip, stop=frame), trimmed(neighbour, start=neighbour.start + frame - clip.stop)
    return exchanged(programme, clip_id, {clip.id: own, neighbour.id: other})


def _within(handles: Handles, clip: Clip, neighbour: Clip | None, side: str, frame: int) -> int:
    """Where a cut can be at most, of which the edge of ``clip`` is moved to a frame."""
    if side == "start":
        frame, beyond = handles.start(clip, frame), clip.start
        return (
            frame
            if neighbour is None
            else handles.stop(neighbour, neighbour.stop + frame - beyond) - neighbour.stop + beyond
        )
    frame, beyond = handles.stop(clip, frame), clip.stop
    return (
        frame
        if neighbour is None
        else handles.start(neighbour, neighbour.start + frame - beyond) - neighbour.start + beyond
    )


def exchanged(programme: Programme, clip_id: str, changed: dict[str, Clip]) -> Programme:
    """With clips of one lane exchanged in one go."""
    lane = programme.lane_of(clip_id)
    return programme.with_lane(lane.with_clips(changed.get(c.id, c) for c in lane.clips))


def fade(
    programme: Programme, clip_ids: Collection[str], *, side: str, frames: int | None, law: Law | None = None
) -> Programme:
    """Set the fade at the "in" or "out" side of clips, at most as long as each; None keeps the length or the law."""
    if side not in ("in", "out"):
        message = tr("A fade is at the in or out side of a clip, not {side}.", side=side)
        raise ProjectError(message)

    def changed(clip: Clip) -> Clip:
        edge = clip.fade_in if side == "in" else clip.fade_out
        length = edge.frames if frames is None else max(0, min(frames, clip.frames))
        new = Edge(length, law or edge.law)
        return replace(clip, fade_in=new) if side == "in" else replace(clip, fade_out=new)

    return programme.with_all_changed(clip_ids, changed)


def that_follow(programme: Programme, clip_ids: Collection[str]) -> list[str]:
    """Those of some clips that begin where another ends, or before."""
    return [
        b.id for lane in programme.lanes for a, b in itertools.pairwise(lane.clips) if b.id in clip_ids and b.start <= a.stop
    ]  # fmt: skip


def set_gain(programme: Programme, clip_ids: Collection[str], gain_db: float) -> Programme:
    """Set the gain of clips."""
    return programme.with_all_changed(clip_ids, lambda c: replace(c, gain_db=gain_db))


def duplicate(programme: Programme, clip_ids: Collection[str], frames: int) -> Programme:
    """Lay copies of clips ``frames`` later; what lies under them gives way."""
    made = programme
    for lane in programme.lanes:
        copies = [replace(c, id=new_clip_id(), start=c.start + frames) for c in lane.clips if c.id in clip_ids]
        if copies:
            made = put(made, lane.id, copies)
    return made


def alone(row: Sequence[Clip], clip: Clip) -> int:
    """For how many frames a clip of a row shares its place with no other."""
    at = next(n for n, c in enumerate(row) if c.id == clip.id)
    first = max(clip.start, row[at - 1].stop) if at else clip.start
    last = min(clip.stop, row[at + 1].start) if at + 1 < len(row) else clip.stop
    return max(0, last - first)


def gaps(lane: Lane, frames: int) -> list[tuple[int, int]]:
    """Stretches of [0, frames) in which no clip of a lane lies."""
    found, at = [], 0
    for clip in lane.clips:
        if clip.start > at:
            found.append((at, clip.start))
        at = max(at, clip.stop)
    return [*found, (at, frames)] if at < frames else found


def fill_gaps(programme: Programme, lane_id: str, *, cross: int, longest: int | None = None) -> Programme:
    """Lay room tone into the gaps of a lane, passing over ``cross`` frames into the clips on both sides.

    The tone is that of the recording before the gap; where another one follows, it passes in the middle of the gap into
    the tone of that one.
    """
    lane = programme.lane(lane_id)
    row = list(lane.clips)
    voices = [c for c in row if not c.tone]
    ends, starts = {c.stop: c for c in row}, {c.start: c for c in row}
    for begin, end in gaps(lane, lane.frames):
        if longest is not None and end - begin > longest:
            continue
        before, behind = (
            min(cross, alone(lane.clips, near) // 2) if (near := side.get(at)) else 0
            for side, at in ((ends, begin), (starts, end))
        )
        first, last = begin - before, end + behind
        left = next((c for c in reversed(voices) if c.stop <= begin), None)
        right = next((c for c in voices if c.start >= end), None)
        sides = [c for c in (left, right) if c is not None]
        if not sides:
            continue
        alike = len({c.recording_id for c in sides}) == 1
        half = min(cross * 4, end - begin) // 2
        middle = (begin + end) // 2
        rows = (
            [(sides[0], first, last, before)]
            if alike
            else [(sides[0], first, middle + half, before), (sides[1], middle - half, last, 2 * half)]
        )
        row += [
            Clip(recording_id=c.recording_id, tone=True, start=a, inner=a, frames=b - a, gain_db=c.gain_db, name=tr("Room tone"), fade_in=Edge(f))
            for c, a, b, f in rows
        ]  # fmt: skip
    return programme.with_lane(lane.with_clips(row))


def copied(clip: Clip, start: int) -> Clip:
    """A copy of a clip at another place, never before the programme."""
    return replace(clip, id=new_clip_id(), start=max(0, start))


def lift(programme: Programme, begin: int, end: int) -> Programme:
    """Leave silence in [begin, end) of all lanes that are not locked; clips that reach over it are parted."""
    return each_free_lane(programme, lambda lane: cleared(lane.clips, begin, end))


def cuts(programme: Programme) -> list[int]:
    """Where clips begin and end, in order, each place once."""
    return sorted({edge for lane in programme.lanes for c in lane.clips for edge in (c.start, c.stop)})
