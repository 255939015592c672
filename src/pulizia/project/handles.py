# SPDX-License-Identifier: GPL-3.0-or-later
"""How far clips can be opened: to where their recordings begin and end."""

from __future__ import annotations

import math
from collections.abc import Iterable

from pulizia.project.clips import Clip
from pulizia.project.model import Recording

ENDLESS = 1 << 62


def ends_of(clip: Clip, frames: float) -> tuple[int, int]:
    """Frames of the programme between which a recording of so many frames is heard, were its clip opened as far as it goes."""
    return math.ceil(clip.place_of(0.0) - 1e-6), math.floor(clip.place_of(frames) + 1e-6)


class Handles:
    """What the recordings hold beyond the edges of clips, on the clock of a programme.

    Room tone, and recordings that are not there, are endless. A clip that reaches beyond its recording already (a list
    that came may want it) keeps what it has.
    """

    def __init__(self, recordings: Iterable[Recording], rate: int) -> None:
        self._frames = {r.id: r.frames * rate / r.rate for r in recordings}

    def ends(self, clip: Clip) -> tuple[int, int]:
        """Frames of the programme between which the recording of a clip can be heard; see :func:`ends_of`."""
        frames = self._frames.get(clip.recording_id)
        if clip.tone or frames is None:
            return -ENDLESS, ENDLESS
        return ends_of(clip, frames)

    def start(self, clip: Clip, wanted: int) -> int:
        """Where a clip begins that was asked to begin at a frame."""
        return max(wanted, min(self.ends(clip)[0], clip.start))

    def stop(self, clip: Clip, wanted: int) -> int:
        """Where a clip ends that was asked to end at a frame."""
        return min(wanted, max(self.ends(clip)[1], clip.stop))

    def slip(self, clips: Iterable[Clip], frames: int) -> int:
        """By how much all these clips can be slipped, asked for so many frames."""
        for clip in clips:
            first, last = self.ends(clip)
            frames = min(max(frames, min(0, first - clip.start)), max(0, last - clip.stop))
        return frames
