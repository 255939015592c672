# SPDX-License-Identifier: GPL-3.0-or-later
"""The S of a speaker: its band, its usual level beside the voice, and how hard it is.

A moment counts as S when its treble outweighs the rest; the band lies around the highest place of their mean
spectrum. How hard an S is shows in how far its band stands over the treble on both sides (common practice).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source, read_padded
from pulizia.dsp.band_frames import band_frames, step_frames
from pulizia.dsp.moments import merged, runs
from pulizia.dsp.stft import analyse as spectra_of
from pulizia.units import power_to_db, powers_to_db

Progress = Callable[[float], None]
STEP_MS, WINDOW_MS = 4.0, 10.6  # 512 at 48 kHz
VOICE_HZ = (150.0, 3000.0)
TREBLE_HZ = (3500.0, 12_000.0)
USUAL_BAND_HZ = (4500.0, 9500.0)
AROUND_S = 1.2  # of voice that an S is compared with
MOST_LISTENED_S = 240.0
PIECE_S = 20
SHORTEST_STEPS, LONGEST_STEPS, GAP_STEPS = 5, 200, 4  # 20 ms to 0.8 s
EDGE_DB = 9.0  # the band ends where the S has fallen by this much
PEAK_HZ, BELOW_PEAK_HZ, ABOVE_PEAK_HZ = (5200.0, 8800.0), (3200.0, 4700.0), (9300.0, 11_500.0)
HARD_DB, LEAST_UPPER_DB, NO_TREBLE_DB, HOT_DB = 7.0, 10.0, 40.0, -3.0
NATURAL_DB, MOST_SIDE_DB = 5.0, 15.0


@dataclass(frozen=True, slots=True)
class Speaker:
    """A speaker's S: its band, its usual level relative to the voice, and its spectrum."""

    band_hz: tuple[float, float]
    usual_db: float
    count: int  # steps that were taken for S
    hz: NDArray[np.float64]
    level_db: NDArray[np.float64]


def _sides_db(speaker: Speaker) -> tuple[float, float]:
    """How far the usual band of S sounds stands over the treble below and above it."""

    def level(low: float, high: float) -> float:
        inside = (speaker.hz >= low) & (speaker.hz < high)
        return power_to_db(float(np.mean(10.0 ** (speaker.level_db[inside] / 10.0)))) if inside.any() else -160.0

    peak = level(*PEAK_HZ)
    return peak - level(*BELOW_PEAK_HZ), peak - level(*ABOVE_PEAK_HZ)


def hardness_db(speaker: Speaker) -> float:
    """How far the S stands out: of its own band over the treble on both sides, and what is hot on the whole.

    A natural S rises to its band and falls slowly beyond it; one that is hard peaks between 5 and 9 kHz (common
    practice; in eleven voices natural ones stay under 7 dB over the lower side or under 10 dB over the upper one).
    """
    if not speaker.count:
        return 0.0
    lower, upper = _sides_db(speaker)
    banded = upper > NO_TREBLE_DB  # nothing is above: its fall says nothing
    found = 0.0 if banded or upper < LEAST_UPPER_DB else lower
    return max(found, HARD_DB + speaker.usual_db - HOT_DB)


def excess_db(speaker: Speaker) -> float:
    """How far this speaker's S exceeds a natural one; 0 where it is not hard.

    The mean of how far its band stands over the treble on both sides, over what natural ones reach there (about 5 dB
    in eleven voices, 2 to 9), or what is hot on the whole.
    """
    if hardness_db(speaker) < HARD_DB:
        return 0.0
    lower, upper = _sides_db(speaker)
    return max((lower + min(upper, MOST_SIDE_DB)) / 2.0 - NATURAL_DB, 1.0)


def bands_of(rate: int, band_hz: tuple[float, float]) -> tuple[tuple[float, float], ...]:
    """The bands that tell an S: of the voice, of the treble, and that of the S, as far as the rate reaches."""
    top = 0.47 * rate
    return (VOICE_HZ, (min(TREBLE_HZ[0], top * 0.7), min(TREBLE_HZ[1], top)), (band_hz[0], min(band_hz[1], top)))


def usual_s(source: Source, start: int, stop: int, progress: Progress = lambda _: None) -> Speaker:
    """The band of this speaker's S and how it usually stands to the voice; of the middle of a long recording."""
    most = round(MOST_LISTENED_S * source.rate)
    if stop - start > most:
        start = (start + stop - most) // 2
        stop = start + most
    rate, step = source.rate, step_frames(source.rate, STEP_MS)
    size = int(2 ** np.ceil(np.log2(rate * 0.02)))
    total, count = np.zeros(size // 2 + 1), 0
    places_of: list[NDArray[np.int64]] = []
    excess: list[NDArray[np.float64]] = []
    for begin in range(start, stop, PIECE_S * rate):
        end = min(begin + PIECE_S * rate, stop)
        block = read_padded(source, begin - size, end + size)
        powers, first = band_frames(
            block, begin - size, rate, bands_of(rate, USUAL_BAND_HZ), step_ms=STEP_MS, window_ms=WINDOW_MS
        )
        inside = is_s(powers)
        at = (first + np.flatnonzero(inside)) * step - size // 2 - (begin - size)
        at = at[(at >= 0) & (at + size <= block.shape[1])][::3]
        for channel in block:
            if len(at):
                frames = np.concatenate([channel[p : p + size] for p in at])
                total += np.sum(np.abs(spectra_of(frames, size, size)) ** 2, axis=0)
        count += len(at)
        places_of.append(at)
        excess.append((powers_to_db(powers[2]) - voice_db(powers[0]))[inside])
        progress(min(1.0, (end - start) / max(1, stop - start)))
    hz = np.arange(size // 2 + 1) * rate / size
    if count < 4:
        return Speaker((USUAL_BAND_HZ[0], min(USUAL_BAND_HZ[1], 0.45 * rate)), -8.0, 0, hz, np.full(len(hz), -160.0))
    level = powers_to_db(np.convolve(total / count, np.ones(9) / 9, mode="same") / size**2)
    usual = float(np.median(np.concatenate(excess)))
    return Speaker(_band_of(hz, level, rate), usual, count, hz, level)


def _band_of(hz: NDArray[np.float64], level: NDArray[np.float64], rate: int) -> tuple[float, float]:
    """Around the highest place of the S, to where it has fallen by EDGE_DB."""
    inside = (hz >= 3500.0) & (hz <= min(11_000.0, 0.42 * rate))
    if not inside.any():
        return USUAL_BAND_HZ
    at = np.flatnonzero(inside)
    top = int(at[np.argmax(level[at])])
    low = high = top
    while low > 1 and hz[low] > 2500.0 and level[low] > level[top] - EDGE_DB:
        low -= 1
    while high < len(hz) - 2 and hz[high] < min(14_000.0, 0.45 * rate) and level[high] > level[top] - EDGE_DB:
        high += 1
    return float(hz[low]), float(max(hz[high], hz[low] * 1.25))


def voice_db(voice: NDArray[np.float64]) -> NDArray[np.float64]:
    """Level of the voice around each step: the mean of its louder half over AROUND_S to both sides."""
    reach = min(round(AROUND_S * 1000.0 / STEP_MS), max(0, (len(voice) - 1) // 2))
    square = np.convolve(voice**2, np.ones(2 * reach + 1), mode="same")
    plain = np.convolve(voice, np.ones(2 * reach + 1), mode="same")
    return powers_to_db(square / np.maximum(plain, 1e-16))  # a mean weighted by itself leans to the loud steps


def is_s(powers: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Steps in which the treble outweighs the voice and is loud enough to matter."""
    voice, treble, _ = powers
    loud = powers_to_db(treble) > voice_db(voice) - 22.0
    over = (treble > 1.2 * voice) & loud & (treble > 1e-9)
    kept = np.zeros(len(over), dtype=bool)
    for a, b in merged(runs(over), GAP_STEPS):
        if SHORTEST_STEPS <= b - a <= LONGEST_STEPS:
            kept[a:b] = True
    return kept
