# SPDX-License-Identifier: GPL-3.0-or-later
"""Which of several microphones of one moment is nearest to who speaks, from turn to turn.

Three things speak for a microphone: its level in the bands of speech, over its own floor and against its own usual level;
that this level stays in the bands where speech is clear (dry sound falls faster after a sound than a far one); and that it
hears first, by the generalised cross-correlation with phase transform (C. Knapp and G. Carter, IEEE Trans. ASSP 24(4),
1976). Lined-up recordings share one talker's delay, so not its sign but its side of the middle between both extremes is
counted. The turns are the best path through these scores, with a price for every change (A. Viterbi, IEEE Trans. Inf.
Theory 13(2), 1967) that is small in pauses. The weights are our own, found on two talkers in simulated rooms.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source, read_padded
from pulizia.dsp.fourier import irfft, rfft
from pulizia.dsp.stft import hann_window

HOP_S, WINDOW_S = 0.05, 0.17
BANDS_HZ = (300.0, 600.0, 1100.0, 1900.0, 3100.0, 5000.0)
BLOCK_STEPS = 400
DELAY_S, APART_S = 0.025, 0.001  # how far a delay is looked for; extremes closer than this say nothing
DELAY_STEPS = 7  # spectra that are added for one delay
USUAL_SHARE, FLOOR_SHARE = 0.9, 0.1
LEVEL_MOST_DB, DELAY_DB, FALL_WEIGHT = 12.0, 9.0, 0.2
CHANGE_DB, PAUSE_CHANGE_DB = 90.0, 18.0  # price of a change, in sums of dB over steps
SPEAKS_DB = 9.0


@dataclass(frozen=True, slots=True)
class Turn:
    """A section in frames in which one microphone, by number, is nearest, and how clearly (0..1)."""

    start: int
    stop: int
    microphone: int
    certainty: float


def best_microphones(sources: Sequence[Source], progress: Callable[[float], None] = lambda _: None) -> list[Turn]:
    """Turns from the first frame to the last of the longest recording.

    All sources have one rate and lie on one clock; channels of each are added. ``progress`` (0..1) may raise to stop.

    Raises
    ------
    ValueError
        For fewer than two sources, or different rates.
    """
    if len(sources) < 2 or len({s.rate for s in sources}) != 1:
        message = "two or more sources of one rate are needed"
        raise ValueError(message)
    rate, frames = sources[0].rate, max(s.frames for s in sources)
    if frames == 0:
        return []
    level, delay, clear = _heard(sources, frames, progress)
    over, near = _over_usual(level)
    speaks = over.max(axis=0) > SPEAKS_DB
    score = near + FALL_WEIGHT * _falls(level) + DELAY_DB * _first(delay, clear, speaks, len(sources))
    score = np.where(speaks, score - score.mean(axis=0), 0.0)
    path = _path(score, speaks)
    return _turns(path, score, frames, round(HOP_S * rate))


def _heard(
    sources: Sequence[Source], frames: int, progress: Callable[[float], None]
) -> tuple[NDArray[np.float64], dict[tuple[int, int], NDArray[np.float64]], dict[tuple[int, int], NDArray[np.float64]]]:
    """(microphones, bands, steps) levels in dB; for each pair the delay of the second in seconds, and how clear it is."""
    rate = sources[0].rate
    hop, size = round(HOP_S * rate), 2 ** round(np.log2(WINDOW_S * rate))
    window = hann_window(size)
    edges = np.rint(np.minimum(BANDS_HZ, 0.45 * rate) * np.float64(size) / rate).astype(int)
    reach = round(DELAY_S * rate)
    pairs = list(itertools.combinations(range(len(sources)), 2))
    count = -(-frames // hop)
    levels, delays, clears = [], {p: [] for p in pairs}, {p: [] for p in pairs}  # type: ignore[var-annotated]
    half = DELAY_STEPS // 2
    for first in range(0, count, BLOCK_STEPS):
        last = min(count, first + BLOCK_STEPS)
        starts = (np.arange(first - half, last + half) * hop) + hop // 2 - size // 2
        spectra = []
        for source in sources:
            block = read_padded(source, int(starts[0]), int(starts[-1]) + size).sum(axis=0)
            pieces = np.lib.stride_tricks.sliding_window_view(block, size)[starts - starts[0]]
            spectra.append(rfft(pieces * window))
        power = np.array([np.abs(s[half : half + last - first]) ** 2 for s in spectra])
        bands = np.add.reduceat(power[:, :, : edges[-1]], edges[:-1], axis=2)
        levels.append(10.0 * np.log10(bands + 1e-12).transpose(0, 2, 1))
        for a, b in pairs:
            cross = np.conj(spectra[a]) * spectra[b]
            cross[:, : edges[0]], cross[:, edges[-1] :] = 0.0, 0.0
            cross /= np.abs(cross) + 1e-9 * np.abs(cross).max() + 1e-30
            added = np.lib.stride_tricks.sliding_window_view(cross, DELAY_STEPS, axis=0).sum(axis=-1)
            curve = irfft(added, size)
            curve = np.abs(np.concatenate([curve[:, -reach:], curve[:, : reach + 1]], axis=1))
            top = curve.argmax(axis=1)
            delays[a, b].append((top - reach) / rate)
            peak = curve[np.arange(len(top)), top]
            clears[a, b].append(np.clip(peak / (np.median(curve, axis=1) + 1e-30) / 10.0 - 0.4, 0.0, 1.0))
        progress(last / count)
    return (
        np.concatenate(levels, axis=2),
        {pair: np.concatenate(rows) for pair, rows in delays.items()},
        {pair: np.concatenate(rows) for pair, rows in clears.items()},
    )


def _over_usual(level: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """(microphones, steps) dB over the floor, and how near to the usual level of speech of each, both over the median band.

    The median of the bands: rustle of clothes and a thump raise only some of them.
    """
    floor = np.quantile(level, FLOOR_SHARE, axis=2, keepdims=True)
    over = np.median(level - floor, axis=1)
    usual = np.quantile(over, USUAL_SHARE, axis=1, keepdims=True)
    near = np.clip(over - usual, -LEVEL_MOST_DB, LEVEL_MOST_DB / 2)
    return over, near


def _falls(level: NDArray[np.float64]) -> NDArray[np.float64]:
    """(microphones, steps) dB by which the level moves within the next three steps: more where little of the room is heard."""
    later = (
        np.concatenate([level[:, :, 3:], np.repeat(level[:, :, -1:], 3, axis=2)], axis=2)
        if level.shape[2] > 3
        else level
    )
    moved = np.abs(level - later).mean(axis=1)
    kernel = np.ones(11) / 11
    return np.array([np.convolve(row, kernel, "same") for row in moved])


def _first(
    delay: dict[tuple[int, int], NDArray[np.float64]], clear: dict[tuple[int, int], NDArray[np.float64]],
    speaks: NDArray[np.bool_], count: int,
) -> NDArray[np.float64]:  # fmt: skip
    """(microphones, steps) -1..1: how surely each heard first."""
    found = np.zeros((count, len(speaks)))
    for (a, b), seconds in delay.items():
        sure = speaks & (clear[a, b] > 0.2)
        if sure.sum() < 20:
            continue
        low, high = np.quantile(seconds[sure], (0.08, 0.92))
        if high - low < APART_S:
            continue  # one talker, or one place
        side = np.clip((seconds - (low + high) / 2) / (0.3 * (high - low)), -1.0, 1.0) * clear[a, b] * speaks
        found[a] += side  # the second came later: the first is nearer
        found[b] -= side
    return found / max(1, count - 1)


def _path(score: NDArray[np.float64], speaks: NDArray[np.bool_]) -> NDArray[np.intp]:
    """(steps,) the best row of ``score`` at each step."""
    count, steps = score.shape
    price = np.where(speaks, CHANGE_DB, PAUSE_CHANGE_DB)
    back = np.zeros((steps, count), dtype=np.intp)
    best = score[:, 0].copy()
    for t in range(1, steps):
        top = int(best.argmax())
        changed = best[top] - price[t]
        stays = best >= changed
        back[t] = np.where(stays, np.arange(count), top)
        best = np.where(stays, best, changed) + score[:, t]
    path = np.empty(steps, dtype=np.intp)
    path[-1] = int(best.argmax())
    for t in range(steps - 1, 0, -1):
        path[t - 1] = back[t, path[t]]
    return path


def _turns(path: NDArray[np.intp], score: NDArray[np.float64], frames: int, hop: int) -> list[Turn]:
    edges = [0, *(int(n) + 1 for n in np.flatnonzero(np.diff(path))), len(path)]
    found = []
    for a, b in itertools.pairwise(edges):
        chosen = int(path[a])
        rest = np.delete(score[:, a:b], chosen, axis=0).max(axis=0)
        ahead = score[chosen, a:b] - rest
        heard = ahead[score[:, a:b].any(axis=0)]
        certainty = float(np.clip(heard.mean() / 12.0, 0.0, 1.0)) if len(heard) else 0.0
        found.append(Turn(a * hop, min(frames, b * hop), chosen, round(certainty, 2)))
    return found
