# SPDX-License-Identifier: GPL-3.0-or-later
"""Where clicks are: by linear prediction and its matched filter in robust sigmas (Godsill and Rayner 1998).

A voice is a row of pulses of like height, a click stands alone: each is compared with the other pulses around, unless it
is higher than those of any voice, as crackle in pauses is.
A click of the mouth rings behind its onset: it reaches as far as the treble stands over what is usual.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.dsp.autoregression import detection, models
from pulizia.dsp.moments import Stretch, merged, runs
from pulizia.dsp.stft import hann_window
from pulizia.units import db_to_gain

FRAME_S = 0.0427  # 2048 at 48 kHz; models of 24 at 48 kHz
ORDER_PER_KHZ = 0.55
NEIGHBOURS_MS = 24.0
RANK = 3  # the third highest pulse around says how high pulses are here
SILENCE, EDGE = 64, 16  # frames
DYING_S, DYING_SIGMAS = 0.0006, 2.2
RINGING_OVER, GROWING = 1.4, 1.6
AROUND_S = 0.045
DENSE_S, DENSE = 0.15, 6  # so many clicks so near are crackle
LIP_WIDEST_MS = 12.0
BESIDE_FRAMES, BESIDE_DB = 6, -45.0  # a sigma at least, under the loudest around; a click is eight of them
QUIETEST = 2e-5
NO_VOICE = 25.0  # sigmas that no pulse of a voice has: 16 at most in 140 clean recordings
THRESHOLDS = {"clicks": (8.0, 2.3), "lip": (6.0, 1.7), "crackle": (5.0, 0.0)}  # sigmas; over the other pulses


@dataclass(frozen=True, slots=True)
class Sought:
    """What counts as a click: "clicks", "lip" (of the mouth) or "crackle", how quiet ones, and the longest."""

    kind: str
    sensitivity_db: float
    widest_ms: float


def context_s(widest_ms: float) -> float:
    """What the detector looks at around a click: its frames, its neighbours, and how dense clicks lie."""
    return (2 + BESIDE_FRAMES / 2) * FRAME_S + NEIGHBOURS_MS / 1000.0 + DENSE_S + max(widest_ms, LIP_WIDEST_MS) / 500.0


def clicks_in(samples: NDArray[np.float32], start: int, sought: Sought, rate: int) -> list[Stretch]:
    """Clicks of one channel in frames of the recording; ``start`` is the frame at ``samples[0]``."""
    size = int(2 ** round(math.log2(FRAME_S * rate)))
    hop = size // 2
    skip = -start % hop
    count = (len(samples) - skip - size) // hop + 1
    if count < 1:
        return []
    height = (
        _treble_onsets(samples, start, rate) if sought.kind == "lip" else _heights(samples, skip, count, size, rate)
    )
    sigmas, over = THRESHOLDS[sought.kind]
    sigmas *= db_to_gain(-sought.sensitivity_db)
    over = max(1.0, over * db_to_gain(-0.5 * sought.sensitivity_db)) if over else 0.0
    found = _stretches(height, start, sigmas, over, sought, rate)
    found = [(max(0, a - 2), min(len(samples), b + 2)) for a, b in _with_rings(samples, start, found, sought, rate)]
    return [(a + start, b + start) for a, b in merged(found, 3)]


def _heights(samples: NDArray[np.float32], skip: int, count: int, size: int, rate: int) -> NDArray[np.float32]:
    """Detection in sigmas for each sample; 0 where frames lack context."""
    hop = size // 2
    frames = np.lib.stride_tricks.sliding_window_view(samples[skip:], size)[::hop][:count]
    order = max(8, round(ORDER_PER_KHZ * min(rate, 64_000) / 1000))
    height = np.zeros(len(samples), dtype=np.float32)
    floor = _heard_beside(frames)
    for a in range(0, count, 128):
        part = frames[a : a + 128]
        found = np.abs(detection(part, models(part * hann_window(size), order), floor[a : a + 128]))
        middle = found[:, hop // 2 : hop // 2 + hop].reshape(-1)
        at = skip + a * hop + hop // 2
        height[at : at + len(middle)] = middle
    height[np.abs(samples) < 1e-7] = 0.0  # digital silence has no sigma
    for a, b in runs(samples == 0.0, at_least=SILENCE):
        # where sound begins out of digital silence, or ends in it, there is no click
        height[max(0, a - EDGE) : b + EDGE] = 0.0
    return height


def _heard_beside(frames: NDArray[np.float32]) -> NDArray[np.float32]:
    """(frames,) amplitude of one sigma of a click that can just be heard beside the sound around."""
    from scipy.ndimage import maximum_filter1d

    level = np.sqrt(np.mean(frames.astype(np.float32) ** 2, axis=1))
    loudest = maximum_filter1d(level, 2 * BESIDE_FRAMES + 1, mode="nearest")
    return np.asarray(np.maximum(loudest * np.float32(db_to_gain(BESIDE_DB)), np.float32(QUIETEST)), dtype=np.float32)


def _treble_onsets(samples: NDArray[np.float32], start: int, rate: int) -> NDArray[np.float32]:
    """Short rises of the treble over the median of what surrounds them, as amplitude ratios."""
    slope = np.diff(samples.astype(np.float32), n=2, prepend=samples[:1].repeat(2))
    step = max(1, round(0.0005 * rate))
    lead = -start % step
    count = max(1, (len(samples) - lead) // step)
    slope = slope[lead:] if len(slope) >= lead + step else np.zeros(step, dtype=np.float32)
    power = (slope[: count * step].reshape(count, step) ** 2).mean(axis=1)
    reach = round(0.04 / 0.0005)
    padded = np.pad(power, reach, mode="reflect") if count > reach else np.pad(power, reach)
    around = np.lib.stride_tricks.sliding_window_view(padded, 2 * reach + 1)[:: max(1, reach // 8)]
    middle = np.quantile(around, 0.6, axis=1)
    middle = np.interp(np.arange(count), np.arange(len(middle)) * max(1, reach // 8), middle)
    ratio = np.sqrt(power / np.maximum(middle, 1e-14))
    out = np.zeros(len(samples), dtype=np.float32)
    out[lead : lead + count * step] = np.repeat(ratio, step)[: max(0, len(out) - lead)]
    return out


def _stretches(
    height: NDArray[np.float32], start: int, sigmas: float, over: float, sought: Sought, rate: int
) -> list[Stretch]:
    """Where the height passes the threshold and stands alone, widened to where it has died away."""
    candidates = merged(runs(height > sigmas), max(2, round(0.0006 * rate)))
    if not candidates:
        return []
    step = max(1, round(0.001 * rate))
    lead = -start % step  # milliseconds lie on the recording's own grid
    count = max(0, (len(height) - lead) // step)
    tops = height[lead : lead + count * step].reshape(count, step).max(axis=1) if count else np.zeros(0)
    reach = round(NEIGHBOURS_MS / 2 * rate / 1000 / step)
    widest = _widest(sought, rate)
    found = []
    for a, b in candidates:
        top = float(height[a:b].max())
        if (
            over
            and top < NO_VOICE
            and not _stands_alone(tops, max(0, a - lead) // step, max(0, b - 1 - lead) // step, reach, top, over)
        ):
            continue
        low = max(sigmas / 3.0, 0.08 * top if sought.kind != "lip" else sigmas / 2)
        room = widest
        begin, end = a, b
        while begin > 0 and a - begin < room and height[begin - 1] > low:
            begin -= 1
        while end < len(height) and end - b < room and height[end] > low:
            end += 1
        end += _dying(height, end, widest, rate)
        if end - begin <= widest:
            found.append((begin, end))
    return found


def _widest(sought: Sought, rate: int) -> int:
    """The longest click that is mended, in samples."""
    widest_ms = max(sought.widest_ms, LIP_WIDEST_MS) if sought.kind == "lip" else sought.widest_ms
    return max(2, round(widest_ms * rate / 1000.0))


def _with_rings(
    samples: NDArray[np.float32], start: int, found: list[Stretch], sought: Sought, rate: int
) -> list[Stretch]:
    """Single clicks made longer by what rings behind them; where clicks are dense the treble is that of the others."""
    starts = np.array([a for a, _b in found], dtype=np.int64)
    near, widest = round(DENSE_S * rate), _widest(sought, rate)
    others = np.searchsorted(starts, starts + near) - np.searchsorted(starts, starts - near)
    made = []
    for (a, b), count in zip(found, others.tolist(), strict=True):
        most = widest - (b - a)
        if count > DENSE or most <= 0:
            made.append((a, b))
            continue
        low, high = max(0, a - round(AROUND_S * rate)), min(len(samples), b + most + round(AROUND_S * rate))
        rings = _treble_onsets(samples[low:high], start + low, rate)
        made.append((a, b + _ringing(rings, b - low, most, rate)))
    return made


def _dying(height: NDArray[np.float32], end: int, most: int, rate: int) -> int:
    """How many samples more a click rings on: while the height, smoothed, stays over what is usual."""
    span = round(DYING_S * rate)
    power = height[end : end + most + span].astype(np.float64) ** 2
    if len(power) <= span:
        return 0
    mean = np.convolve(power, np.full(span, 1.0 / span), mode="valid")
    calm = np.flatnonzero(mean < DYING_SIGMAS**2)
    return int(calm[0]) if len(calm) else most


def _ringing(rings: NDArray[np.float32], end: int, most: int, rate: int) -> int:
    """How many samples more the treble stands over what is usual: a mouth click rings for some milliseconds."""
    step = max(1, round(0.0005 * rate))
    steps = rings[end : end + max(0, most) : step]
    if not len(steps):  # the recording ends here
        return 0
    grows = steps[1:] > GROWING * np.minimum.accumulate(steps)[:-1]
    calm = np.flatnonzero((steps < RINGING_OVER) | np.concatenate([[False], grows]))
    return int(calm[0] if len(calm) else len(steps)) * step


def _stands_alone(tops: NDArray[np.floating], first: int, last: int, reach: int, top: float, over: float) -> bool:
    """Whether few pulses around are nearly as high: a voice has one every few milliseconds."""
    before, behind = tops[max(0, first - reach) : max(0, first - 1)], tops[last + 2 : last + 2 + reach]
    others = np.sort(np.concatenate([before, behind]))[::-1]
    return len(others) <= RANK or top > over * float(others[RANK - 1])
