# SPDX-License-Identifier: GPL-3.0-or-later
"""Clips laid so that they hear one moment at the same frame, on one clock."""

from __future__ import annotations

import math
from dataclasses import replace

from pulizia.errors import ProjectError
from pulizia.project.clips import Clip, Programme
from pulizia.project.model import Recording
from pulizia.words import tr


def line_up_clip(
    programme: Programme, first: Clip, clip_id: str, offset_s: float, drift_ppm: float, *, inverted: bool
) -> Programme:
    """Move a clip, and put it on the clock of ``first``, as its recording lies against what ``first`` hears.

    Parameters
    ----------
    offset_s, drift_ppm, inverted
        See :class:`pulizia.measure.line_up.LineUp`; the first recording counts from the start of what the clip ``first`` is
        heard of, its own drift and shift included.

    Raises
    ------
    ProjectError
        When the clip would lie before the start of the programme, or inside another.
    """
    exact = offset_s * programme.rate
    whole = math.floor(exact)
    shift = (whole - exact) * (1.0 + 1e-6 * drift_ppm)

    def changed(clip: Clip) -> Clip:
        # what was its first frame stays its first frame, to half a frame
        heard = clip.inner * (1.0 + 1e-6 * clip.drift_ppm) + clip.shift
        inner = round((heard - shift) / (1.0 + 1e-6 * drift_ppm))
        start = first.start - first.inner + inner + whole
        lost = max(0, -start)
        if lost >= clip.frames:
            message = tr(
                "{name} would lie before the start of the programme. Move the other clips later first.", name=clip.name
            )
            raise ProjectError(message)
        moved = replace(
            clip,
            start=max(clip.start, lost),
            inner=inner,
            drift_ppm=drift_ppm,
            shift=shift,
            warp=(),
            listed=_still_listed(clip, clip.inner - inner),
            inverted=first.inverted != inverted,
        )
        cut = moved.part_of(moved.start + lost, moved.stop) if lost else moved
        return replace(cut, start=start + lost)

    return programme.with_changed(clip_id, changed)


def exchanged(
    clip: Clip, recording: Recording, rate: int, offset_s: float, drift_ppm: float, *, inverted: bool
) -> Clip | None:
    """The clip with another recording of the same moment in its place; None when that one does not cover it.

    ``offset_s``, ``drift_ppm`` and ``inverted`` tell how it lies against what the clip hears now, on the clock of the
    programme with ``rate`` frames a second.
    """
    exact = offset_s * rate
    whole = math.floor(exact)
    made = replace(
        clip, recording_id=recording.id, name=recording.name, inner=clip.inner - whole, drift_ppm=drift_ppm, warp=(), channel=None,
        shift=(whole - exact) * (1.0 + 1e-6 * drift_ppm), inverted=clip.inverted != inverted, listed=_still_listed(clip, whole),
    )  # fmt: skip
    covered = made.heard_at(clip.start) >= 0.0 and made.heard_at(clip.stop) <= recording.frames * rate / recording.rate
    return made if covered else None


def _still_listed(clip: Clip, later: int) -> tuple[str, int]:
    """What an edit list names for a clip after its ``inner`` became ``later`` frames smaller."""
    recording, more = clip.listed or (clip.recording_id, 0)
    return recording, more + later
