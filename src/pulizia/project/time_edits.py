# SPDX-License-Identifier: GPL-3.0-or-later
"""Edits of a programme that take time out of it, or make room: what lies behind them moves."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from pulizia.audio.spans import Span
from pulizia.errors import ProjectError
from pulizia.project.clips import Clip, Programme
from pulizia.project.programme_edits import cleared, each_free_lane, each_lane
from pulizia.words import tr


def shift_behind(programme: Programme, frame: int, frames: int) -> Programme:
    """Move every clip and marker that begins at or behind a frame; those before, and locked lanes, stay.

    ProjectError when a clip would be pushed onto one before it, or the picture or every lane is locked.
    """
    if programme.picture_locked:
        message = tr(
            "The picture is locked, so nothing may move up or back. Leave a gap instead, or unlock the picture."
        )
        raise ProjectError(message)
    if programme.lanes and all(lane.locked for lane in programme.lanes):
        message = tr("Every lane is locked. Unlock one first.")
        raise ProjectError(message)
    made = each_free_lane(programme, lambda lane: [c.moved(frames) if c.start >= frame else c for c in lane.clips])
    markers = tuple(replace(m, frame=m.frame + frames) if m.frame >= frame else m for m in programme.markers)
    return replace(made, markers=tuple(sorted(markers)))


def ripple_delete(programme: Programme, begin: int, end: int) -> Programme:
    """Take [begin, end) out of all lanes that are not locked and close the gap; markers inside it go as well."""
    if end <= begin:
        return programme
    left = each_free_lane(programme, lambda lane: _closed(lane.clips, begin, end))
    kept = replace(left, markers=tuple(m for m in left.markers if not begin <= m.frame < end))
    return shift_behind(kept, end, begin - end)


def _closed(clips: Iterable[Clip], begin: int, end: int) -> list[Clip]:
    """As :func:`cleared`; room tone that reaches over both sides becomes shorter, and stays one clip."""
    row, shorter = [], []
    for clip in clips:
        if _runs_on(clip, begin, end):
            frames = clip.frames - (end - begin)
            comes, goes = (replace(e, frames=min(e.frames, frames)) for e in (clip.fade_in, clip.fade_out))
            shorter.append(replace(clip, frames=frames, fade_in=comes, fade_out=goes))
        else:
            row.append(clip)
    return [*cleared(row, begin, end), *shorter]


def gap_at(programme: Programme, frame: int) -> Span | None:
    """The gap in which a frame lies, with its ends: nothing sounds there on any lane that would close up.

    Atmosphere and room tone run on under gaps, and locked lanes do not close up: none of these fills one. None when
    something sounds at the frame, or nothing follows.
    """
    speaking = [
        clip.span
        for lane in programme.lanes
        if not lane.locked and lane.kind not in ("atmosphere", "fill")
        for clip in lane.clips
        if not clip.tone
    ]
    first = max((s.stop for s in speaking if s.stop <= frame), default=0)
    last = min((s.start for s in speaking if s.start >= frame), default=0)
    if first >= last or any(s.start < frame < s.stop for s in speaking):
        return None
    return Span(first, last)


def insert_time(programme: Programme, frame: int, frames: int) -> Programme:
    """Make room at a frame: clips under it are parted, room tone there becomes longer, and all behind it moves."""
    free = [lane for lane in programme.lanes if not lane.locked]
    under = {lane.id: [c for c in lane.clips if c.start < frame < c.stop] for lane in free}
    long = {row[0].id for row in under.values() if len(row) == 1 and _runs_on(row[0], frame, frame)}
    parted = each_free_lane(
        programme,
        lambda lane: lane.clips if any(c.id in long for c in under[lane.id]) else cleared(lane.clips, frame, frame),
    )
    made = shift_behind(parted, frame, frames)
    return each_lane(
        made, lambda lane: [replace(c, frames=c.frames + frames) if c.id in long else c for c in lane.clips]
    )


def _runs_on(clip: Clip, begin: int, end: int) -> bool:
    """Whether it is room tone that reaches over a stretch, which can become longer or shorter there without a cut."""
    return clip.tone and not clip.gain_line and clip.start < begin and clip.stop > end
