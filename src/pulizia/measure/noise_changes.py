# SPDX-License-Identifier: GPL-3.0-or-later
"""How the noise under the voice changes: where it jumps in level or colour, and how it drifts.

The floor of a band at a moment is a low quantile of its power over some seconds, as in minimum
statistics (R. Martin, "Noise power spectral density estimation based on optimal smoothing and minimum
statistics", IEEE Trans. Speech Audio Processing 9(5), 2001), with the bias of that quantile taken out.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source, read_padded
from pulizia.dsp.moments import runs
from pulizia.dsp.stft import powers, sine_window
from pulizia.units import powers_to_db

LOOKS_PER_S = 20
LOW_HZ, HIGH_HZ, BANDS = 90.0, 12_000.0, 14
FLOOR_SHARE = 0.15
SIDE_S = 12.0  # how far before and behind a change the pauses are compared
PAUSE_REACH_S, PAUSE_SHARE, PAUSE_DB, PAUSE_LOOKS = 3.0, 0.06, 2.5, 3
SLOPE_LOOKS, SLOPE_DB_S = 5, 15.0  # noises scatter by 7 dB a second over so many looks
NEAREST_EDGE_S = 2.0
NEAR_FLOOR_DB = 6.0  # mean over the bands; looks of noise scatter by 4 dB
LEAST_PAUSES, DEPENDENT_LOOKS, SURE = 6, 3.0, 4.0
CHANGE_DB, BRIEF_CHANGE_DB = 3.0, 7.0  # root mean square over the bands; where a side is shorter than BRIEF_S
SHORTEST_S, BRIEF_S = 2.5, 5.0
MOST_CHANGES = 30  # the clearest; a recording with more than that has one restless noise
BEYOND_S = 3.0
LOOK_SCATTER_DB, VOICE_RANGE_DB, LEAST_LIKELY = 3.0, 60.0, 1e-4  # of a floor within a look; of what lies over it
TRACK_REACH_S = 4.0
MEAN_OF = 6  # looks averaged before the quantile
DIGITAL_SILENCE_DB = -115.0

Progress = Callable[[float], None]


def band_powers(source: Source, progress: Progress = lambda _: None) -> NDArray[np.float32]:
    """(looks, bands) power in logarithmic bands, LOOKS_PER_S times a second."""
    size = int(2 ** round(np.log2(0.04 * source.rate)))
    window = sine_window(size)
    edges = np.geomspace(LOW_HZ, min(HIGH_HZ, 0.45 * source.rate), BANDS + 1) * size / source.rate
    marks = np.maximum.accumulate(np.rint(edges).astype(int) + np.arange(BANDS + 1) * 0)
    for k in range(1, BANDS + 1):  # at low rates the lowest bands are a bin wide
        marks[k] = max(marks[k], marks[k - 1] + 1)
    hop = source.rate // LOOKS_PER_S
    count = max(1, source.frames // hop)
    made = np.zeros((count, BANDS), dtype=np.float32)
    for a in range(0, count, 200):
        b = min(count, a + 200)
        block = read_padded(source, a * hop, (b - 1) * hop + size)
        total = powers(block, np.arange(b - a) * hop, window)
        made[a:b] = np.add.reduceat(total[:, : marks[-1]], marks[:-1], axis=1) / np.diff(marks)
        progress(b / count)
    return made * np.float32(4.0 / size**2 / source.channels)


def changes_s(power: NDArray[np.float32]) -> list[float]:
    """Seconds at which the noise changes, SHORTEST_S apart at least; ``power`` is that of :func:`band_powers`.

    Told from the pauses alone: moments in which all bands together stay near the lowest there is around. Two stretches
    are different noises when the medians of their pauses differ by CHANGE_DB and by more than the pauses themselves
    scatter.
    """
    level = powers_to_db(power)
    if len(level) < 2 * SHORTEST_S * LOOKS_PER_S:
        return []
    places = _pauses(level.mean(axis=1))
    if len(places) < 2 * LEAST_PAUSES:
        return []
    found: list[_Change] = []
    pauses = _Pauses(level, places)
    _split(pauses, 0, len(level), found)
    clearest = frozenset(sorted(found, key=lambda c: -c.jump_db)[:MOST_CHANGES])
    found.sort(key=lambda c: c.last)
    lows, highs = [0, *(c.first for c in found)], [*(c.last + 1 for c in found[1:]), len(level)]
    changes: list[float] = []
    for change, low, high in zip(found, lows, highs, strict=False):
        if change not in clearest:
            continue
        place = _refined(pauses, change, low, high) / LOOKS_PER_S
        far = NEAREST_EDGE_S <= place <= len(level) / LOOKS_PER_S - NEAREST_EDGE_S
        if far and (not changes or place - changes[-1] >= SHORTEST_S):
            changes.append(place)
    return changes


def change_between_s(power: NDArray[np.float32], before_s: float, behind_s: float) -> float | None:
    """The second at which one noise gives way to another, when noise is known at ``before_s`` and later at ``behind_s``.

    None when the two do not differ by CHANGE_DB. ``power`` is that of :func:`band_powers`.
    """
    level = powers_to_db(power)
    last, first = (min(max(int(s * LOOKS_PER_S), 0), len(level) - 1) for s in (before_s, behind_s))
    reach = LOOKS_PER_S // 2
    if first - last < 2:
        return None
    known = [np.median(level[max(0, n - reach) : n + reach + 1], axis=0) for n in (last, first)]
    if float(np.sqrt(np.mean((known[1] - known[0]) ** 2))) < CHANGE_DB:
        return None
    away = np.stack([np.abs(level[last : first + 1] - one).mean(axis=1) for one in known])
    return (last + _turning(away)) / LOOKS_PER_S


def _pauses(mean: NDArray[np.float64]) -> NDArray[np.int64]:
    """Looks that lie in pauses: runs near the lowest level of what comes before, or of what comes behind.

    Near an end of the recording only the other side tells: two seconds may be all voice.
    """
    reach = round(PAUSE_REACH_S * LOOKS_PER_S)
    low = np.quantile(np.lib.stride_tricks.sliding_window_view(mean, reach + 1), PAUSE_SHARE, axis=1)
    unknown = np.full(reach, -np.inf)
    lowest = np.maximum(np.concatenate([unknown, low]), np.concatenate([low, unknown]))
    quiet = (mean <= lowest + PAUSE_DB) & (mean > DIGITAL_SILENCE_DB)
    for a, b in runs(quiet, at_least=PAUSE_LOOKS):
        quiet[a:b] = _stays(mean[a:b])
    return np.concatenate([np.arange(a, b) for a, b in runs(quiet, at_least=PAUSE_LOOKS)] or [np.zeros(0, dtype=int)])


def _stays(mean: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Looks of a run (n,) at which it neither falls, as the end of a word does, nor rises: a noise stays where it is.

    By the slope over SLOPE_LOOKS, or over the whole of a shorter run, where noise alone has a steeper one.
    """
    size = min(SLOPE_LOOKS, len(mean))
    steps = np.arange(size) - (size - 1) / 2.0
    spread = float(np.sum(steps**2))
    slope = np.correlate(mean, steps, mode="valid") / spread * LOOKS_PER_S
    most = SLOPE_DB_S * np.sqrt((SLOPE_LOOKS**3 - SLOPE_LOOKS) / 12.0 / spread)
    at = np.clip(np.arange(len(mean)) - (size - 1) // 2, 0, len(slope) - 1)
    return np.asarray(np.abs(slope[at]) <= most)


@dataclass(frozen=True, slots=True)
class _Change:
    """The looks of the last pause before a change and of the first one behind it, and how far the two noises are apart."""

    last: int
    first: int
    jump_db: float


class _Pauses:
    """The looks that lie in pauses, with sums over them: what lies before and behind a place is compared at once."""

    def __init__(self, level: NDArray[np.float64], places: NDArray[np.int64]) -> None:
        self.level, self.places = level, places
        self._inside = level[places]
        self._sums = np.concatenate([np.zeros((1, level.shape[1])), np.cumsum(self._inside, axis=0)])
        self._known: dict[tuple[int, int, int], tuple[float, float]] = {}

    def between(self, first: int, last: int) -> tuple[int, int]:
        """The pauses from look ``first`` up to ``last``, as a range of their numbers."""
        low, high = np.searchsorted(self.places, (first, last))
        return int(low), int(high)

    def within(self, end: int, number: int, *, first: bool) -> NDArray[np.float64]:
        """The pauses' levels from look ``end`` up to the ``number``-th pause, or from there up to ``end``."""
        other = int(np.searchsorted(self.places, end))
        return self._inside[min(other, number - 1) : number] if first else self._inside[number : max(other, number + 1)]

    def best(self, first: int, last: int) -> _Change | None:
        """Where the looks of a stretch part best into two noises; None when they are one.

        Best by least squares, which is sharper than medians are, of those that the medians call different.
        """
        low, high = self.between(first, last)
        numbers = np.arange(low + LEAST_PAUSES, high - LEAST_PAUSES + 1)
        if not len(numbers):
            return None
        place, end = self.places[numbers], last - self.places[numbers - 1]
        shorter = np.minimum(place - first, end)
        kept = (shorter >= SHORTEST_S * LOOKS_PER_S) & (place != self.places[numbers - 1] + 1)
        numbers, place, brief = numbers[kept], place[kept], shorter[kept] < BRIEF_S * LOOKS_PER_S
        side = SIDE_S * LOOKS_PER_S
        start = np.maximum(np.searchsorted(self.places, place - side), low)
        stop = np.minimum(np.searchsorted(self.places, place + side), high)
        before, behind = numbers - start, stop - numbers
        enough = np.minimum(before, behind) >= LEAST_PAUSES
        numbers, start, stop, brief, before, behind = (x[enough] for x in (numbers, start, stop, brief, before, behind))
        means = ((self._sums[b] - self._sums[a]) / (b - a)[:, None] for a, b in ((start, numbers), (numbers, stop)))
        apart = np.subtract(*means)
        squares = (apart**2).mean(axis=1) * (before * behind / (before + behind))
        for n in np.argsort(-squares, kind="stable").tolist():
            jump, sure = self._difference(int(start[n]), int(numbers[n]), int(stop[n]))
            if jump < (BRIEF_CHANGE_DB if brief[n] else CHANGE_DB) or sure < SURE:
                continue
            a, b = _between_pauses(self.level, self.places[low:high], int(numbers[n]) - low)
            if jump >= BRIEF_CHANGE_DB or min(b - first, last - a) >= BRIEF_S * LOOKS_PER_S:
                return _Change(a, b, jump)
        return None

    def _difference(self, start: int, number: int, stop: int) -> tuple[float, float]:
        """How far the medians of two stretches are apart, in dB and in their own uncertainty."""
        known = self._known.get((start, number, stop))  # parts of a stretch ask the same again but for their ends
        if known is None:
            before, behind = self._inside[start:number], self._inside[number:stop]
            weight = len(before) * len(behind) / (len(before) + len(behind))
            apart = np.median(behind, axis=0) - np.median(before, axis=0)
            scatter = 0.5 * (before.var(axis=0) + behind.var(axis=0)) / weight * DEPENDENT_LOOKS
            jump = float(np.sqrt(np.mean(apart**2)))
            known = jump, jump / max(float(np.sqrt(np.mean(scatter))), 1e-6)
            self._known[start, number, stop] = known
        return known


def _split(pauses: _Pauses, first: int, last: int, found: list[_Change]) -> None:
    """Divide a stretch where its pauses differ most, and its parts again; adds to ``found``."""
    change = pauses.best(first, last)
    if change is not None:
        found.append(change)
        _split(pauses, first, change.first, found)
        _split(pauses, change.first, last, found)


def _between_pauses(level: NDArray[np.float64], inside: NDArray[np.int64], k: int) -> tuple[int, int]:
    """The pauses' looks before and behind a change near the ``k``-th: each pause goes to the floor that it is nearer to."""
    known = (np.median(level[part], axis=0) for part in (inside[:k], inside[k:]))
    turn = _turning(np.stack([np.abs(level[inside] - floor).mean(axis=1) for floor in known]))
    turn = turn if LEAST_PAUSES <= turn <= len(inside) - LEAST_PAUSES else k
    return int(inside[turn - 1]), int(inside[turn])


def _refined(pauses: _Pauses, change: _Change, low: int, high: int) -> int:
    """The look in [low, high) at which one floor gives way to the other, near the pauses beside the change.

    The place of greatest likelihood: through the gaps of the voice, in each band, one floor or the other is heard.
    Looked for somewhat beyond those pauses, as the end of a word may have been taken for a pause of the louder noise.
    ``low`` and ``high`` are where the neighbouring changes are.
    """
    side, beyond = round(SIDE_S * LOOKS_PER_S), round(BEYOND_S * LOOKS_PER_S)
    at = int(np.searchsorted(pauses.places, change.first))
    before = pauses.within(max(low, change.last - side), at, first=True)
    behind = pauses.within(min(high, change.first + side), at, first=False)
    part = slice(max(low, change.last - beyond), min(high, change.first + beyond + 1))
    likely = [_likelihood(pauses.level[part], np.median(inside, axis=0)) for inside in (before, behind)]
    gained = np.concatenate([[0.0], np.cumsum((likely[0] - likely[1]).sum(axis=1))])
    best = np.flatnonzero(gained >= gained.max() - 1e-9)
    return part.start + int(best[-1] + best[0]) // 2


def _likelihood(level: NDArray[np.float64], floor: NDArray[np.float64]) -> NDArray[np.float64]:
    """Logarithm of how likely each level (looks, bands) is over a floor: the floor itself, or a voice above it."""
    over = level - floor
    noise = np.exp(-0.5 * (over / LOOK_SCATTER_DB) ** 2) / (LOOK_SCATTER_DB * np.sqrt(2 * np.pi))
    voice = (over > 0) / VOICE_RANGE_DB
    return np.asarray(np.log(0.5 * noise + 0.5 * voice + LEAST_LIKELY))


def _turning(away: NDArray[np.float64]) -> int:
    """The look before which the first of two floors fits, and behind which the second: (2, looks) distances in dB.

    Only looks that are one of the two floors tell: all others are voice.
    """
    votes = np.where(away.min(axis=0) < NEAR_FLOOR_DB, np.sign(away[0] - away[1]), 0.0)  # above 0: what comes behind
    before_votes = np.concatenate([[0.0], np.cumsum(-votes)])
    best = np.flatnonzero(before_votes == before_votes.max())
    return int(best[-1] + best[0]) // 2


def quantile_spectrum(power: NDArray[np.float32]) -> NDArray[np.float32]:
    """Noise power per bin from frames with voice in them: (frames, bins) to (bins,).

    Means of MEAN_OF frames, a low quantile of those over time, times the bias of that quantile for
    Gaussian noise.
    """
    count = len(power) // MEAN_OF
    if count < 4:
        return np.asarray(power.mean(axis=0), dtype=np.float32)
    means = power[: count * MEAN_OF].reshape(count, MEAN_OF, -1).mean(axis=1)
    return np.asarray(np.quantile(means, FLOOR_SHARE, axis=0) * quantile_bias(), dtype=np.float32)


@cache
def quantile_bias() -> float:
    """Mean over low quantile of the mean of MEAN_OF independent exponential powers (gamma distribution)."""
    from scipy.stats import gamma

    return float(1.0 / gamma.ppf(FLOOR_SHARE, MEAN_OF, scale=1.0 / MEAN_OF))
