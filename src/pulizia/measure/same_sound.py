# SPDX-License-Identifier: GPL-3.0-or-later
"""Where a worked passage comes from: the same sound found in raw recordings, whatever was done to its level and tone.

Sound is described by how the level of eight bands rises and falls from one step to the next, as signs: gain
and equalisation do not change them, noise reduction only where little sounds (after the idea of J. Haitsma,
T. Kalker, "A highly robust audio fingerprinting system", ISMIR 2002). The match is refined by
cross-correlation of the waves, and drift follows from the offsets of several places.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source, read_padded
from pulizia.dsp.fourier import fast_length, irfft, rfft
from pulizia.measure.band_curves import band_curves

STEPS_PER_S = 50
EDGES_HZ = (200.0, 330.0, 500.0, 750.0, 1100.0, 1600.0, 2300.0, 3400.0, 5000.0)
SHORTEST_S = 1.0
LIKENESS = 0.35  # of signs from which a place is believed: chance gives 0 +- 0.02 over ten seconds
REFINED_S, REACH_S = 2.0, 0.08
PLACES = 8
WINDOW_MS = 64.0
ON_LINE_S = 0.0005  # how near places lie to the line of a clock


@dataclass(frozen=True, slots=True)
class SameSound:
    """A passage and its source.

    Attributes
    ----------
    offset_s : where frame 0 of the passage lies in the recording
    drift_ppm : how much faster the recording's clock runs; 0 where the passage is too short to tell
    gain_db : level of the passage over that of the recording
    likeness : 0..1
    inverted : the passage swings the other way
    """

    offset_s: float
    drift_ppm: float
    gain_db: float
    likeness: float
    inverted: bool = False


def signs(source: Source, progress: Callable[[float], None] = lambda _: None) -> NDArray[np.int8]:
    """(bands, steps) -1, 0 or 1: how each band's share of the level moves."""
    bands = list(pairwise(EDGES_HZ))
    power = band_curves(
        source, bands, 0, source.frames, step_ms=1000.0 / STEPS_PER_S, window_ms=WINDOW_MS, progress=progress
    )
    if not power.shape[1]:
        return np.zeros((len(bands), 0), dtype=np.int8)
    level = np.log(np.maximum(power, 1e-14))
    loud = (
        level > np.quantile(level, 0.95, axis=1, keepdims=True) - 7.0
    )  # 30 dB: below lies what noise reduction changes
    step = np.zeros_like(level)
    step[:, 2:] = level[:, 2:] - level[:, :-2]
    return np.where(loud, np.sign(step), 0.0).astype(np.int8)


def find_same(worked: Source, raw: Source, progress: Callable[[float], None] = lambda _: None) -> SameSound | None:
    """The place of a worked passage in a raw recording; None when it is not there."""
    if worked.frames < SHORTEST_S * worked.rate or raw.frames < SHORTEST_S * raw.rate:
        return None
    a, b = signs(worked, lambda p: progress(0.4 * p)), signs(raw, lambda p: progress(0.4 + 0.4 * p))
    size = fast_length(a.shape[1] + b.shape[1])
    cross = sum(
        irfft(np.conj(rfft(x.astype(np.float32), size)) * rfft(y.astype(np.float32), size), size)
        for x, y in zip(a, b, strict=True)
    )
    overlap = sum(
        irfft(np.conj(rfft(np.abs(x).astype(np.float32), size)) * rfft(np.abs(y).astype(np.float32), size), size)
        for x, y in zip(a, b, strict=True)
    )
    needed = 0.3 * float(np.abs(a).sum())
    likeness = np.where(overlap > max(needed, 30.0), cross / np.maximum(overlap, 1.0), 0.0)
    best = int(np.argmax(likeness))
    if likeness[best] < LIKENESS:
        return None
    lag = best if best < b.shape[1] else best - size
    return _refined(worked, raw, lag / STEPS_PER_S, float(likeness[best]), progress)


def _refined(
    worked: Source, raw: Source, offset_s: float, likeness: float, progress: Callable[[float], None]
) -> SameSound:
    """Offset, drift and gain from the waves around several loud places."""
    length = min(REFINED_S, worked.frames / worked.rate)
    starts = np.linspace(0.0, worked.frames / worked.rate - length, PLACES)
    found = [row for start in starts.tolist() if (row := _at(worked, raw, start, offset_s, length)) is not None]
    progress(1.0)
    if not found:
        return SameSound(offset_s, 0.0, 0.0, likeness)
    rows = np.array(found)
    sure = rows[rows[:, 3] >= 0.6 * rows[:, 3].max()]
    offset, drift = float(np.median(sure[:, 1])), 0.0
    if len(sure) >= 4 and np.ptp(sure[:, 0]) > 20.0:
        slope, base = np.polyfit(sure[:, 0], sure[:, 1], 1)
        beside = np.abs(sure[:, 1] - base - slope * sure[:, 0])
        if float(np.median(beside)) < ON_LINE_S:  # two microphones hear speakers here and there: that is no clock
            offset, drift = float(base), float(slope * 1e6)
    return SameSound(offset, drift, float(np.median(sure[:, 2])), likeness, bool(np.median(sure[:, 4]) < 0.0))


def _at(
    worked: Source, raw: Source, start_s: float, offset_s: float, length_s: float
) -> tuple[float, float, float, float, float] | None:
    """(place, offset, gain in dB, correlation, sign) at one place, both at the raw recording's rate."""
    rate, reach = raw.rate, round(REACH_S * raw.rate)
    block = read_padded(worked, round(start_s * worked.rate), round((start_s + length_s) * worked.rate)).mean(axis=0)
    if worked.rate != rate:
        at = np.arange(round(length_s * rate)) * worked.rate / rate
        block = np.interp(at, np.arange(len(block)), block).astype(np.float32)
    begin = round((start_s + offset_s) * rate)
    other = read_padded(raw, begin - reach, begin + len(block) + reach).mean(axis=0)
    power, own = float(np.sum(block.astype(np.float64) ** 2)), other.astype(np.float64)
    if power <= 0.0 or not own.any():
        return None
    size = fast_length(len(other) + len(block))
    cross = irfft(rfft(other, size) * np.conj(rfft(block, size)), size)[: 2 * reach + 1]
    sums = np.concatenate([[0.0], np.cumsum(own**2)])
    energy = sums[len(block) : len(block) + 2 * reach + 1] - sums[: 2 * reach + 1]
    score = np.abs(cross) / np.sqrt(np.maximum(energy, 1e-12) * power)
    best = int(np.argmax(score))
    gain = 10.0 * np.log10(power / max(float(energy[best]), 1e-12))
    return (
        start_s,
        (begin - reach + best) / rate - start_s,
        float(gain),
        float(score[best]),
        float(np.sign(cross[best])),
    )
