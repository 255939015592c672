# SPDX-License-Identifier: GPL-3.0-or-later
"""Cross-fades at cuts: two clips that follow each other overlap around the place where one gave way to the other."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace

from pulizia.audio.fades import Law
from pulizia.audio.timeline import Edge
from pulizia.errors import ProjectError
from pulizia.project import programme_edits as edits
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.handles import Handles
from pulizia.words import tr


def cross_fade(
    programme: Programme, clip_id: str, frames: int, law: Law | None = None, handles: Handles | None = None
) -> Programme:
    """Let a clip and the one before it, which it follows without a gap, overlap around their cut.

    Where a recording holds nothing beyond the cut (``handles``), they overlap on the side where the other one does, and
    no longer than that. ProjectError when there is no such clip, one of both is too short, or neither goes on.
    """
    lane = programme.lane_of(clip_id)
    index = next(n for n, c in enumerate(lane.clips) if c.id == clip_id)
    before, clip = _crossed(lane.clips[index - 1] if index else None, lane.clips[index], frames, law, handles)
    return edits.exchanged(programme, clip_id, {before.id: before, clip.id: clip})


def cross_fades(
    programme: Programme, clip_ids: Collection[str], frames: int, handles: Handles | None = None
) -> tuple[Programme, int]:
    """The same for each of several clips; where it cannot be, the cut stays. Gives the programme and how many cuts stay."""
    stay = 0

    def crossed(lane: Lane) -> list[Clip]:
        nonlocal stay
        row = list(lane.clips)
        for n, clip in enumerate(row):
            if clip.id in clip_ids:
                try:
                    pair = _crossed(row[n - 1] if n else None, clip, frames, None, handles)
                    beside = row[max(0, n - 2) : max(0, n - 1)], row[n + 1 : n + 2]
                    lane.with_clips([*beside[0], *pair, *beside[1]])  # refuses three clips at once
                except ProjectError:
                    stay += 1
                else:
                    row[n - 1 : n + 1] = pair
        return row

    return edits.each_lane(programme, crossed), stay


def _crossed(
    before: Clip | None, clip: Clip, frames: int, law: Law | None, handles: Handles | None
) -> tuple[Clip, Clip]:
    """Two clips that follow each other, overlapping around their cut; ProjectError where they cannot."""
    if before is None or before.stop < clip.start:
        message = tr("No clip ends where this one begins. Close the gap first.")
        raise ProjectError(message)
    middle = (before.stop + clip.start) // 2
    first = middle - frames // 2
    if handles is not None:
        earliest, latest = handles.start(clip, first - frames), handles.stop(before, first + 2 * frames)
        first = max(earliest, min(first, latest - frames))
        frames = min(frames, latest - first)
        if frames <= 0:
            message = tr("Neither recording goes on beyond the cut. Trim one of the clips first.")
            raise ProjectError(message)
    last = first + frames
    if first <= before.start or last >= clip.stop or first < 0:
        message = tr("The clips are too short for this cross-fade. Choose a shorter one.")
        raise ProjectError(message)
    clip = edits.trimmed(clip, start=first)
    fade_in = Edge(min(frames, clip.frames), law or clip.fade_in.law)
    return edits.trimmed(before, stop=last), replace(clip, fade_in=fade_in)
