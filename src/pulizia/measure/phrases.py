"""Phrases: stretches of speech between pauses, each with its loudness, and how far speech reaches into the pauses."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.dsp.moments import merged, runs
from pulizia.measure.blocks import BLOCKS_PER_SECOND, measure_energies
from pulizia.measure.speech_activity import FRAMES_PER_S, band_levels, speech_activity, speech_core

GAP_S, SHORTEST_S = 0.2, 0.15
JOINED_GAP_S, JOINED_DB = 0.5, 5.0
GATING_S, RELATIVE_GATE = 0.4, 0.1  # ITU-R BS.1770-5: blocks of 400 ms, -10 LU
FADES_OVER_DB = (2.0, 10.0)  # over the floor: from where to where speech dies away into the pause


@dataclass(frozen=True, slots=True, eq=False)
class Phrases:
    """What is known of a recording's phrases; times in hundredths of a second.

    Attributes
    ----------
    spans : (phrases, 2) int64
        First and last step of each, where speech is heard for certain.
    lufs : (phrases,)
        Loudness of each (ITU-R BS.1770, with the relative gate).
    speech : (steps,) 0..1
        1 inside phrases, dying away with the level at their ends, 0 in pauses.
    """

    spans: NDArray[np.int64]
    lufs: NDArray[np.float64]
    speech: NDArray[np.float32]


def find_phrases(source: Source, spans: Sequence[Span], progress: Callable[[float], None] = lambda _: None) -> Phrases:
    """Go through a recording; nothing is found where nobody speaks."""
    levels = band_levels(source, 0, source.frames, lambda p: progress(0.5 * p))
    found = speech_activity(levels)
    core = speech_core(found)
    if spans:
        at = np.arange(len(core)) * source.rate // FRAMES_PER_S
        inside = np.zeros(len(core), dtype=bool)
        for span in spans:
            inside |= (at >= span.start) & (at < span.stop)
        core &= inside
    stretches = [s for s in merged(runs(core), round(GAP_S * FRAMES_PER_S)) if s[1] - s[0] >= SHORTEST_S * FRAMES_PER_S]
    energy = measure_energies(source, lambda p: progress(0.5 + 0.5 * p))
    loud, kept = [], []
    for a, b in stretches:
        part = energy[a * BLOCKS_PER_SECOND // FRAMES_PER_S : b * BLOCKS_PER_SECOND // FRAMES_PER_S]
        mean = _gated_mean(part)
        if mean > 1e-10:
            loud.append(-0.691 + 10.0 * np.log10(mean))
            kept.append((a, b))
    kept, loud = _joined(kept, loud)
    places = np.array(kept, dtype=np.int64).reshape(-1, 2)
    return Phrases(places, np.array(loud), _reach(places, levels, found.floor_db))


def _gated_mean(energy: NDArray[np.float64]) -> float:
    """Mean weighted energy of a phrase's 400 ms blocks above the relative gate (ITU-R BS.1770-5 clause 2, -10 LU)."""
    if not len(energy):
        return 0.0
    length = min(round(GATING_S * BLOCKS_PER_SECOND), len(energy))
    blocks = np.convolve(energy, np.full(length, 1.0 / length), "valid")
    return float(blocks[blocks >= RELATIVE_GATE * blocks.mean()].mean())


def _joined(kept: list[tuple[int, int]], loud: list[float]) -> tuple[list[tuple[int, int]], list[float]]:
    """Words of about one level with little between them are one phrase: its gain shall stand still."""
    places: list[tuple[int, int]] = []
    levels: list[float] = []
    for (a, b), level in zip(kept, loud, strict=True):
        if places and a - places[-1][1] < JOINED_GAP_S * FRAMES_PER_S and abs(level - levels[-1]) < JOINED_DB:
            before, own = places[-1][1] - places[-1][0], b - a
            power = (before * 10.0 ** (levels[-1] / 10.0) + own * 10.0 ** (level / 10.0)) / (before + own)
            places[-1], levels[-1] = (places[-1][0], b), 10.0 * float(np.log10(power))
        else:
            places.append((a, b))
            levels.append(level)
    return places, levels


def _reach(places: NDArray[np.int64], levels: NDArray[np.float64], floor_db: float) -> NDArray[np.float32]:
    """1 inside phrases; beyond their ends it falls with the level and never rises again."""
    low, high = FADES_OVER_DB
    over = np.clip((levels - floor_db - low) / (high - low), 0.0, 1.0)
    reach = np.zeros(len(levels), dtype=np.float32)
    edges = [*places[:, 0].tolist(), len(levels)]
    for n, (a, b) in enumerate(places.tolist()):
        reach[a:b] = 1.0
        after = np.minimum.accumulate(over[b : edges[n + 1]])
        np.maximum(reach[b : edges[n + 1]], after, out=reach[b : edges[n + 1]])
        begin = places[n - 1, 1] if n else 0
        before = np.minimum.accumulate(over[begin:a][::-1])[::-1]
        np.maximum(reach[begin:a], before, out=reach[begin:a])
    return reach
