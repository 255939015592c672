# SPDX-License-Identifier: GPL-3.0-or-later
"""Clips of a recorder's file laid out: each microphone on a lane of its own, at the same places. Pure functions."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Sequence
from dataclasses import replace

from pulizia.errors import ProjectError
from pulizia.project.clips import Clip, Lane, Programme, new_clip_id
from pulizia.words import tr

LIST_LANE = re.compile(r"(A|V|NONE|Audio|Track) ?\d{0,3}", re.IGNORECASE)
"""Names that lists give to tracks, which say nothing of what lies there."""


def on_lanes(
    programme: Programme, clip_ids: Collection[str], names_of: Callable[[str], Sequence[str]]
) -> tuple[Programme, int]:
    """Let the chosen clips hear the first microphone of their recording, and lay the others onto lanes below.

    Parameters
    ----------
    names_of
        Names of a recording's channels; none where it is missing.

    Returns
    -------
    The programme, and how many clips were laid out: those that hear several channels. A lane that is called like a
    microphone is used; where there is none one is made below, of the kind and with the placement of the first. The first
    is called like its microphone where it had a track's name from a list and now holds this microphone alone.

    Raises
    ------
    ProjectError
        When no chosen clip hears several channels, or there is no room on a lane.
    """
    made, count = programme, 0
    for lane in programme.lanes:
        chosen = [c for c in lane.clips if c.id in clip_ids and _hears_several(c, names_of)]
        if not chosen:
            continue
        count += len(chosen)
        taken = {c.id for c in chosen}
        kept = made.lane(lane.id)
        clips = [replace(c, channel=0) if c.id in taken else c for c in kept.clips]
        made = made.with_lane(replace(kept, name=_first_name(kept, clips, names_of)).with_clips(clips))
        below = lane.id
        for number in range(1, max(len(names_of(c.recording_id)) for c in chosen)):
            rows = [c for c in chosen if number < len(names_of(c.recording_id))]
            made, below = _laid(made, lane, below, names_of(rows[0].recording_id)[number], number, rows)
    if not count:
        message = tr("Select clips of a recording with several channels first.")
        raise ProjectError(message)
    return made, count


def _first_name(lane: Lane, clips: Sequence[Clip], names_of: Callable[[str], Sequence[str]]) -> str:
    sounding = [c for c in clips if not c.tone]
    first_of = ((names_of(c.recording_id) if c.channel == 0 else ()) for c in sounding)
    names = {known[0] if known else "" for known in first_of}
    (name,) = names if len(names) == 1 else ("",)
    return name if name and LIST_LANE.fullmatch(lane.name) else lane.name


def _hears_several(clip: Clip, names_of: Callable[[str], Sequence[str]]) -> bool:
    return clip.channel is None and not clip.tone and len(names_of(clip.recording_id)) > 1


def _laid(
    programme: Programme, first: Lane, below: str, name: str, channel: int, clips: Sequence[Clip]
) -> tuple[Programme, str]:
    """Clips of one microphone on its lane, which is made below another where there is none; the lane's identity."""
    lane = next((la for la in programme.lanes if la.name == name and la.id != first.id), None)
    if lane is None:
        lane = Lane(name=name, kind=first.kind, placement=first.placement, group=first.group)
        at = [la.id for la in programme.lanes].index(below) + 1
        programme = replace(programme, lanes=(*programme.lanes[:at], lane, *programme.lanes[at:]))
    new = [replace(c, id=new_clip_id(), channel=channel) for c in clips]
    return programme.with_lane(lane.with_clips([*lane.clips, *new])), lane.id
