# SPDX-License-Identifier: GPL-3.0-or-later
"""Loudness of speech alone: the mean of the blocks in which somebody speaks."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from pulizia.audio.source import Source
from pulizia.measure.blocks import BLOCKS_PER_SECOND, measure_energies
from pulizia.measure.speech_activity import FRAMES_PER_S, speech_between

SHORTEST_S = 1.0


@dataclass(frozen=True, slots=True)
class Dialogue:
    """Loudness of speech in LUFS (None where hardly anybody speaks), and the share of speech in percent."""

    lufs: float | None
    share_percent: float


def dialogue(source: Source, progress: Callable[[float], None] = lambda _: None) -> Dialogue:
    """Measure the speech of a source.

    Weighted after ITU-R BS.1770, gated by the program's own speech detection (``measure.speech_activity``):
    figures of other detectors differ by some tenths. All channels count with weight 1.
    """
    active = speech_between(source, 0, source.frames, lambda p: progress(0.5 * p)).active
    energy = measure_energies(source, lambda p: progress(0.5 + 0.5 * p))
    at = np.minimum(np.arange(len(energy)) * FRAMES_PER_S // BLOCKS_PER_SECOND, max(0, len(active) - 1))
    speaking = active[at] if len(active) else np.zeros(len(energy), dtype=bool)
    share = 100.0 * float(speaking.mean()) if len(speaking) else 0.0
    if speaking.sum() < SHORTEST_S * BLOCKS_PER_SECOND:
        return Dialogue(None, share)
    mean = float(energy[speaking].mean())
    return Dialogue(float(-0.691 + 10.0 * np.log10(mean)) if mean > 1e-7 else None, share)
