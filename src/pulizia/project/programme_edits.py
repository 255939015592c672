# SPDX-License-Identifier: GPL-3.0-or-later
"""Edits of a programme as pure functions: each takes one and gives another; refusals are a sentence."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable
from dataclasses import replace

from pulizia.audio.fades import Law
from pulizia.audio.timeline import Edge
from pulizia.errors import ProjectError
from pulizia.project.clips import Clip, Lane, Programme, new_clip_id
from pulizia.words import tr


def _each_lane(programme: Programme, change: Callable[[Lane], Iterable[Clip]]) -> Programme:
    return replace(programme, lanes=tuple(lane.with_clips(change(lane)) for lane in programme.lanes))


def put(programme: Programme, lane_id: str, clips: Iterable[Clip]) -> Programme:
    """Lay clips onto a lane; what lies under them there gives way."""
    lane, new = programme.lane(lane_id), sorted(clips, key=lambda c: c.start)
    row = list(lane.clips)
    for clip in new:
        row = [*_cleared(row, clip.start, clip.stop), clip]
    return programme.with_lane(lane.with_clips(row))


def _cleared(clips: Iterable[Clip], begin: int, end: int) -> list[Clip]:
    """Clips without what of them lies in [begin, end); one that reaches over both sides becomes two."""
    left: list[Clip] = []
    for clip in clips:
        if clip.stop <= begin or clip.start >= end:
            left.append(clip)
            continue
        if clip.start < begin:
            left.append(clip.part_of(clip.start, begin))
        if clip.stop > end:
            rest = clip.part_of(end, clip.stop)
            left.append(replace(rest, id=new_clip_id()) if clip.start < begin else rest)
    return left


def split(programme: Programme, frame: int, lane_ids: Collection[str] | None = None) -> Programme:
    """Part every clip under a frame in two; nothing is heard of it."""

    def parted(lane: Lane) -> list[Clip]:
        row: list[Clip] = []
        for clip in lane.clips:
            if clip.start < frame < clip.stop and (lane_ids is None or lane.id in lane_ids):
                row += [clip.part_of(clip.start, frame), replace(clip.part_of(frame, clip.stop), id=new_clip_id())]
            else:
                row.append(clip)
        return row

    return _each_lane(programme, parted)


def remove(programme: Programme, clip_ids: Collection[str]) -> Programme:
    """Lift clips: silence stays where they were."""
    return _each_lane(programme, lambda lane: [c for c in lane.clips if c.id not in clip_ids])


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
        others = list(made.lane(wanted).clips)
        for clip in clips:
            others = _cleared(others, clip.start, clip.stop)
        made = made.with_lane(made.lane(wanted).with_clips([*others, *together.clips]))
    return made


def trim(programme: Programme, clip_id: str, *, start: int | None = None, stop: int | None = None) -> Programme:
    """Move an edge of a clip to a frame of the programme; what is heard stays where it is.

    ProjectError when nothing of the clip would be left or another clip is in the way.
    """
    clip = programme.lane_of(clip_id).clip(clip_id)
    first = clip.start if start is None else max(0, start)
    last = clip.stop if stop is None else stop
    if last <= first:
        message = tr("Nothing of the clip would be left. Remove it instead.")
        raise ProjectError(message)
    shift = first - clip.start
    longer = replace(
        clip, start=first, inner=clip.inner + shift, frames=last - first,
        gain_line=tuple((at - shift, db) for at, db in clip.gain_line),
        fade_in=replace(clip.fade_in, frames=min(clip.fade_in.frames, last - first)),
        fade_out=replace(clip.fade_out, frames=min(clip.fade_out.frames, last - first)),
    )  # fmt: skip
    return programme.with_changed(clip_id, lambda _: longer)


def slip(programme: Programme, clip_ids: Collection[str], frames: int) -> Programme:
    """Let clips play another stretch of their recordings at the same place: later by ``frames``."""
    return _each_lane(
        programme, lambda lane: [replace(c, inner=c.inner + frames) if c.id in clip_ids else c for c in lane.clips]
    )


def shift_behind(programme: Programme, frame: int, frames: int) -> Programme:
    """Move every clip and marker that begins at or behind a frame; those before stay.

    ProjectError when a clip would be pushed onto one before it.
    """
    made = _each_lane(programme, lambda lane: [c.moved(frames) if c.start >= frame else c for c in lane.clips])
    markers = tuple(replace(m, frame=m.frame + frames) if m.frame >= frame else m for m in programme.markers)
    return replace(made, markers=tuple(sorted(markers)))


def ripple_delete(programme: Programme, begin: int, end: int) -> Programme:
    """Take [begin, end) out of all lanes and close the gap; markers inside it go as well."""
    if end <= begin:
        return programme
    cleared = _each_lane(programme, lambda lane: _cleared(lane.clips, begin, end))
    kept = replace(cleared, markers=tuple(m for m in cleared.markers if not begin <= m.frame < end))
    return shift_behind(kept, end, begin - end)


def insert_time(programme: Programme, frame: int, frames: int) -> Programme:
    """Make room at a frame: clips under it are parted, and all behind it moves."""
    return shift_behind(split(programme, frame), frame, frames)


def fade(
    programme: Programme, clip_ids: Collection[str], *, side: str, frames: int, law: Law | None = None
) -> Programme:
    """Set the fade at the "in" or "out" side of clips, at most as long as each; None keeps the law."""
    if side not in ("in", "out"):
        message = tr("A fade is at the in or out side of a clip, not {side}.", side=side)
        raise ProjectError(message)

    def changed(clip: Clip) -> Clip:
        edge = clip.fade_in if side == "in" else clip.fade_out
        new = Edge(max(0, min(frames, clip.frames)), law or edge.law)
        return replace(clip, fade_in=new) if side == "in" else replace(clip, fade_out=new)

    return _each_lane(programme, lambda lane: [changed(c) if c.id in clip_ids else c for c in lane.clips])


def cross_fade(programme: Programme, clip_id: str, frames: int, law: Law | None = None) -> Programme:
    """Let a clip and the one before it, which it follows without a gap, overlap around their cut.

    ProjectError when there is no such clip, or one of both is too short.
    """
    lane = programme.lane_of(clip_id)
    index = next(n for n, c in enumerate(lane.clips) if c.id == clip_id)
    clip = lane.clips[index]
    before = lane.clips[index - 1] if index else None
    if before is None or before.stop < clip.start:
        message = tr("No clip ends where this one begins. Close the gap first.")
        raise ProjectError(message)
    middle = (before.stop + clip.start) // 2
    first, last = middle - frames // 2, middle - frames // 2 + frames
    if first <= before.start or last >= clip.stop or first < 0:
        message = tr("The clips are too short for this cross-fade. Choose a shorter one.")
        raise ProjectError(message)
    made = trim(programme, before.id, stop=last) if last >= before.stop else trim(programme, clip.id, start=first)
    made = trim(made, clip.id, start=first) if last >= before.stop else trim(made, before.id, stop=last)
    return fade(made, [clip_id], side="in", frames=frames, law=law)


def set_gain(programme: Programme, clip_ids: Collection[str], gain_db: float) -> Programme:
    """Set the gain of clips."""
    return _each_lane(
        programme, lambda lane: [replace(c, gain_db=gain_db) if c.id in clip_ids else c for c in lane.clips]
    )


def duplicate(programme: Programme, clip_ids: Collection[str], frames: int) -> Programme:
    """Lay copies of clips ``frames`` later; what lies under them gives way."""
    made = programme
    for lane in programme.lanes:
        copies = [replace(c, id=new_clip_id(), start=c.start + frames) for c in lane.clips if c.id in clip_ids]
        if copies:
            made = put(made, lane.id, copies)
    return made


def gaps(lane: Lane, frames: int) -> list[tuple[int, int]]:
    """Stretches of [0, frames) in which no clip of a lane lies."""
    found, at = [], 0
    for clip in lane.clips:
        if clip.start > at:
            found.append((at, clip.start))
        at = max(at, clip.stop)
    return [*found, (at, frames)] if at < frames else found


def fill_gaps(
    programme: Programme, lane_id: str, recording_id: str, *, cross: int, longest: int | None = None
) -> Programme:
    """Lay room tone of a recording into the gaps of a lane, passing over ``cross`` frames into the clips on both sides."""
    lane = programme.lane(lane_id)
    row = list(lane.clips)
    ends, starts = {c.stop: c for c in row}, {c.start: c for c in row}
    for begin, end in gaps(lane, lane.frames):
        if longest is not None and end - begin > longest:
            continue
        before, behind = (
            min(cross, near.frames // 2) if (near := side.get(at)) else 0 for side, at in ((ends, begin), (starts, end))
        )
        first, last = begin - before, end + behind
        row.append(
            Clip(recording_id=recording_id, tone=True, start=first, inner=first, frames=last - first, name=tr("Room tone"),
                 fade_in=Edge(before))
        )  # fmt: skip
    return programme.with_lane(lane.with_clips(row))


def copied(clip: Clip, start: int) -> Clip:
    """A copy of a clip at another place, never before the programme."""
    return replace(clip, id=new_clip_id(), start=max(0, start))


def lift(programme: Programme, begin: int, end: int) -> Programme:
    """Leave silence in [begin, end) of all lanes; clips that reach over it are parted."""
    return _each_lane(programme, lambda lane: _cleared(lane.clips, begin, end))


def cuts(programme: Programme) -> list[int]:
    """Where clips begin and end, in order, each place once."""
    return sorted({edge for lane in programme.lanes for c in lane.clips for edge in (c.start, c.stop)})
