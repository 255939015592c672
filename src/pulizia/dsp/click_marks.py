# SPDX-License-Identifier: GPL-3.0-or-later
"""Where the click lies in a section that somebody marked around it: marks are drawn by hand, wider than the click.

A pop whose spectrum is like the voice's leaves little prediction error, but it stands over the sound around it; this is
looked for first, by the level over half a millisecond (common practice).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from pulizia.dsp.click_detection import Sought, clicks_in
from pulizia.dsp.moments import Stretch, merged, runs

AROUND_S, SMOOTH_S, SWAY_S = 0.024, 0.0005, 0.02
STANDS_OUT, ENDS_AT, BESIDE_S = 2.0, 1.0, 0.0003  # of the loudest around; where it has died away; taken on both sides
SENSITIVE_DB, LOOK_S = 9.0, 0.2


def clicks_marked(samples: NDArray[np.float32], a: int, b: int, rate: int, longest: int) -> list[Stretch]:
    """What of ``samples[a:b]`` is a click of at most ``longest`` samples; [] where nothing stands out.

    ``samples`` hold more on both sides, which shows what is usual here.
    """
    around = round(AROUND_S * rate)
    low, high = max(0, a - around), min(len(samples), b + around)
    height = _level(samples[low:high], rate)
    usual = _usual(height, around, longest // 2)
    inside = np.zeros(high - low, dtype=bool)
    inside[a - low : b - low] = True
    stands = inside & (height > np.maximum(STANDS_OUT * usual, 1e-6))
    found = [
        _until_it_dies(height, first, last, ENDS_AT * float(usual[first:last].min()), inside)
        for first, last in runs(stands)
    ]
    beside = round(BESIDE_S * rate)
    widened = [(max(a, low + first - beside), min(b, low + last + beside)) for first, last in found]
    clicks = [s for s in merged(widened, beside) if s[1] - s[0] <= longest]
    if clicks:
        return clicks
    look = round(LOOK_S * rate)
    begin = max(0, a - look)
    sought = Sought("lip", SENSITIVE_DB, 1000.0 * longest / rate)
    # counted from the mark, so that it is the same wherever a block begins
    heard = clicks_in(samples[begin : b + look], begin - a, sought, rate)
    return [(max(a, a + s), min(b, a + e)) for s, e in heard if a + s < b and a + e > a]


def _level(samples: NDArray[np.float32], rate: int) -> NDArray[np.float64]:
    """Amplitude over half a millisecond, without what moves slowly."""
    x = samples.astype(np.float64)
    sway, smooth = max(1, round(SWAY_S * rate)), max(1, round(SMOOTH_S * rate))
    slow = np.convolve(np.pad(x, sway // 2, mode="edge"), np.full(sway, 1.0 / sway), mode="same")
    x = x - slow[sway // 2 :][: len(x)]
    return np.sqrt(np.convolve(x**2, np.full(smooth, 1.0 / smooth), mode="same"))


def _usual(height: NDArray[np.float64], around: int, beside: int) -> NDArray[np.float64]:
    """For each sample the loudest that lies further than ``beside`` and not further than ``around``."""
    from scipy.ndimage import maximum_filter1d

    size = around - beside
    loudest = maximum_filter1d(np.pad(height, around), size, mode="constant")  # of the window around each sample
    reach, count = beside + size // 2, len(height)
    before, behind = loudest[around - reach :][:count], loudest[around + reach :][:count]
    return np.asarray(np.maximum(before, behind))


def _until_it_dies(
    height: NDArray[np.float64], first: int, last: int, low: float, inside: NDArray[np.bool_]
) -> Stretch:
    while first > 0 and inside[first - 1] and height[first - 1] > low:
        first -= 1
    while last < len(height) and inside[last] and height[last] > low:
        last += 1
    return first, last
