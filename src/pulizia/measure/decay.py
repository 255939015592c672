# SPDX-License-Identifier: GPL-3.0-or-later
"""How long a room rings on, estimated from speech: the slopes with which sound dies away after words.

No decay in a room is steeper than the room's own; speech itself often dies away more slowly. So of all
free decays found in a band the steep ones tell the room (after the idea of R. Ratnam et al., "Blind
estimation of reverberation time", JASA 114(5), 2003, with least squares in dB in place of their model).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source
from pulizia.measure.band_curves import band_curves
from pulizia.units import powers_to_db

CENTRES_HZ = (250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0)
STEPS_PER_S = 100
WINDOW_MS = 32.0
MOST_LISTENED_S = 600
SHORTEST_STEPS, LONGEST_STEPS = 9, 60
LEAST_DROP_DB, OVER_FLOOR_DB = 12.0, 6.0
STEADY = 0.94  # r squared of a decay that counts
STEEP_SHARE = 0.35  # of all decays of a band, the quantile that tells the room
LEAST_DECAYS = 4


@dataclass(frozen=True, slots=True)
class Decays:
    """Reverberation time of each band in seconds; NaN where too little was heard."""

    centres_hz: tuple[float, ...]
    t60_s: tuple[float, ...]
    count: int

    @property
    def middle_s(self) -> float | None:
        """Mean over the bands from 500 to 4000 Hz; None where nothing is known."""
        inside = [
            t for hz, t in zip(self.centres_hz, self.t60_s, strict=True) if 500.0 <= hz <= 4000.0 and np.isfinite(t)
        ]
        return float(np.mean(inside)) if inside else None

    def at(self, hz: NDArray[np.floating], fallback_s: float) -> NDArray[np.float64]:
        """Reverberation time at any frequency, straight over the logarithm of it."""
        known = [(c, t) for c, t in zip(self.centres_hz, self.t60_s, strict=True) if np.isfinite(t)]
        if not known:
            return np.full(len(hz), fallback_s)
        centres, times = zip(*known, strict=True)
        return np.asarray(np.interp(np.log(np.maximum(hz, 1.0)), np.log(centres), times))


def decays_of(source: Source, progress: Callable[[float], None] = lambda _: None) -> Decays:
    """Reverberation times of a recording; of the middle ten minutes of a long one."""
    most = MOST_LISTENED_S * source.rate
    start = max(0, (source.frames - most) // 2)
    bands = [(centre / np.sqrt(2.0), centre * np.sqrt(2.0)) for centre in CENTRES_HZ]
    stop = min(source.frames, start + most)
    curves = powers_to_db(
        band_curves(source, bands, start, stop, step_ms=1000.0 / STEPS_PER_S, window_ms=WINDOW_MS, progress=progress)
    )
    times, total = [], 0
    for centre, level in zip(CENTRES_HZ, curves, strict=True):
        found = free_decays(level) if centre * np.sqrt(2) < source.rate / 2 else []
        total += len(found)
        times.append(float(np.quantile(found, STEEP_SHARE)) if len(found) >= LEAST_DECAYS else float("nan"))
    return Decays(CENTRES_HZ, tuple(times), total)


def free_decays(level: NDArray[np.float64]) -> list[float]:
    """Reverberation times in seconds of all steady decays in a level curve."""
    if len(level) < 3 * SHORTEST_STEPS:
        return []
    calm = np.convolve(level, np.ones(3) / 3.0, mode="same")
    floor = float(np.quantile(calm[calm > -150.0], 0.05)) if (calm > -150.0).any() else 0.0
    falling = np.diff(calm) < 0.3
    found: list[float] = []
    n = 0
    while n < len(falling):
        if not falling[n]:
            n += 1
            continue
        stop = n
        while stop < len(falling) and falling[stop] and stop - n < LONGEST_STEPS:
            stop += 1
        t60 = _steepest_line(calm[n : stop + 1], floor + OVER_FLOOR_DB)
        if t60 is not None:
            found.append(t60)
        n = stop + 1
    return found


def _steepest_line(part: NDArray[np.float64], lowest: float) -> float | None:
    """Time for 60 dB of the steady part of one decay, from 4 dB under its top to where the floor comes near."""
    begin = int(np.argmax(part < part[0] - 4.0)) if (part < part[0] - 4.0).any() else len(part)
    end = int(np.argmax(part < lowest)) if (part < lowest).any() else len(part)
    line = part[begin:end]
    if len(line) < SHORTEST_STEPS or line[0] - line[-1] < LEAST_DROP_DB:
        return None
    x = np.arange(len(line)) / STEPS_PER_S
    slope, offset = np.polyfit(x, line, 1)
    left = line - (slope * x + offset)
    if slope >= -1.0 or 1.0 - left.var() / max(float(line.var()), 1e-9) < STEADY:
        return None
    return float(-60.0 / slope)
