# SPDX-License-Identifier: GPL-3.0-or-later
"""How the two sides of a stereo recording lie to each other: level, delay, correlation."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pulizia.audio.source import Source

LISTENED_S, REACH = 60, 2048
LOWEST_POWER, MOST_DB = 1e-12, 120.0


@dataclass(frozen=True, slots=True)
class Sides:
    """The sides of a recording.

    Attributes
    ----------
    louder_db
        Power of the left over the right side.
    late_frames
        How much later the right side comes; negative when the left one does.
    correlation
        There, -1..1.
    """

    louder_db: float
    late_frames: int
    correlation: float


def sides_of(source: Source) -> Sides | None:
    """The middle minute of a stereo recording; None for other layouts and for silence."""
    from scipy.fft import irfft, next_fast_len, rfft

    if source.channels != 2:
        return None
    middle = max(0, source.frames // 2 - LISTENED_S * source.rate // 2)
    left, right = source.read(middle, min(source.frames, middle + LISTENED_S * source.rate)).astype(np.float64)
    power = np.array([np.mean(left**2), np.mean(right**2)])
    if power.max() <= LOWEST_POWER:
        return None
    louder = float(10.0 * np.log10(max(power[0], 1e-20) / max(power[1], 1e-20)))
    louder = min(max(louder, -MOST_DB), MOST_DB)
    if power.min() <= 0.0:
        return Sides(louder, 0, 0.0)
    size = next_fast_len(len(left) + 2 * REACH, real=True)
    cross = irfft(rfft(right, size) * np.conj(rfft(left, size)), size) / np.sqrt(power.prod()) / len(left)
    near = np.concatenate([cross[-REACH:], cross[:REACH]])
    at = int(np.argmax(np.abs(near)))
    return Sides(louder, at - REACH, float(near[at]))
