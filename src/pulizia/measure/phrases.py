# SPDX-License-Identifier: GPL-3.0-or-later
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
from pulizia.measure.loudness import MOMENTARY_BLOCKS, OFFSET_DB, RELATIVE_GATE_LU
from pulizia.measure.speech_activity import FRAMES_PER_S, speech_between
from pulizia.units import powers_to_db

GAP_S, SHORTEST_S = 0.2, 0.15
JOINED_GAPS_S, JOINED_DB = (0.2, 0.5), (8.0, 4.0)  # words this far apart in time and level are one phrase
LEAST_ENERGY = 1e-10
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
    found = speech_between(source, 0, source.frames, lambda p: progress(0.5 * p))
    levels, core = found.level_db, found.core.copy()
    if spans:
        at = np.arange(len(core)) * source.rate // FRAMES_PER_S
        inside = np.zeros(len(core), dtype=bool)
        for span in spans:
            inside |= (at >= span.start) & (at < span.stop)
        core &= inside
    stretches = [s for s in merged(runs(core), round(GAP_S * FRAMES_PER_S)) if s[1] - s[0] >= SHORTEST_S * FRAMES_PER_S]
    energy = measure_energies(source, lambda p: progress(0.5 + 0.5 * p))
    kept, means = [], []
    for a, b in stretches:
        if (mean := _gated_mean(energy, a, b)) > LEAST_ENERGY:
            kept.append((a, b))
            means.append(mean)
    kept = _joined(kept, powers_to_db(np.array(means)))
    places = np.array(kept, dtype=np.int64).reshape(-1, 2)
    loud = OFFSET_DB + powers_to_db(np.array([_gated_mean(energy, a, b) for a, b in kept]))
    return Phrases(places, loud, _reach(places, levels, found.floor_db))


def _gated_mean(energy: NDArray[np.float64], start: int, stop: int) -> float:
    """Mean weighted energy of a phrase's 400 ms blocks above the relative gate (ITU-R BS.1770-5 Annex 1)."""
    part = energy[start * BLOCKS_PER_SECOND // FRAMES_PER_S : stop * BLOCKS_PER_SECOND // FRAMES_PER_S]
    if not len(part):
        return 0.0
    length = min(MOMENTARY_BLOCKS, len(part))
    blocks = np.convolve(part, np.full(length, 1.0 / length), "valid")
    return float(blocks[blocks >= 10.0 ** (RELATIVE_GATE_LU / 10.0) * blocks.mean()].mean())


def _joined(kept: list[tuple[int, int]], levels: NDArray[np.float64]) -> list[tuple[int, int]]:
    """Words of about one level with little between them are one phrase: its gain shall stand still."""
    places: list[tuple[int, int]] = []
    level = 0.0
    for (a, b), own in zip(kept, levels.tolist(), strict=True):
        gap_s = (a - places[-1][1]) / FRAMES_PER_S if places else np.inf
        if gap_s < JOINED_GAPS_S[1] and abs(own - level) < np.interp(gap_s, JOINED_GAPS_S, JOINED_DB):
            before = places[-1][1] - places[-1][0]
            power = (before * 10.0 ** (level / 10.0) + (b - a) * 10.0 ** (own / 10.0)) / (before + b - a)
            places[-1], level = (places[-1][0], b), 10.0 * float(np.log10(power))
        else:
            places.append((a, b))
            level = own
    return places


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
