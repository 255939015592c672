# SPDX-License-Identifier: GPL-3.0-or-later
"""The levels at which the peaks of a recording were clipped, each polarity by itself.

Two signs. Peaks that are flat to the sample have a level in common (``flat_tops``). Where noise came on top of them,
or the recording was converted to another rate or coded afterwards, no two samples are alike any more, but their
amplitudes still pile up under a ceiling: the histogram rises where that of speech falls (clipping by the histogram of
amplitudes: common practice). The count under the ceiling is compared with what lies below it, at widths of 0.5 to 4 %.
Steady tones reach 3.3 by the shape of their crests alone, and are told by reaching it in every moment; clean speech
has 1.2 at most (118 recordings), and behind a limiter 1.8 (24).
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.measure.flat_tops import flat_runs

PIECE_S, LOOK_S, MOMENT_S = 10, 0.03, 0.025
UNIT_S, SAME_LEVEL = 0.4, 0.005
LEAST_RUNS = 3  # of flattened tops before a level counts as one

FINE = 0.005  # width of a bin, in the logarithm of the amplitude
QUIETEST, LOUDEST = 0.03, 16.0
BINS = round(np.log(LOUDEST / QUIETEST) / FINE)
COUNTED = 0.3  # of the largest sample of a piece: what is lower has no say
WIDTHS = (1, 2, 4, 8)  # in bins
PILED_UP = 2.3  # count under the ceiling over that of equally wide bins below
LEAST_SAMPLES = 30
MOST_ABOVE = 0.25  # of what is piled up
STEADY, ACTIVE = 0.92, 0.5
PASSED = 1.15  # what reaches higher than this times a ceiling was not cut there
DENSE, DEEPEST = 1.6, 6  # how far down what is piled up reaches: bins denser than those below, at most so many


@dataclass(frozen=True, slots=True)
class CutLevels:
    """Levels at which peaks are clipped, as positive amplitudes; 0 where none are.

    A recording may be clipped at one level throughout, or phrase by phrase where its level was changed later.
    """

    above: NDArray[np.float64]  # (channels, units)
    below: NDArray[np.float64]
    uneven: NDArray[np.bool_]  # (channels, units): peaks are not flat to the sample, all that reaches the level was cut
    unit: int  # frames

    @property
    def any(self) -> bool:
        """Whether anything is clipped."""
        return bool(self.above.any() or self.below.any())

    def among(self, start: int, stop: int) -> bool:
        """Whether anything is clipped in the units of [start, stop)."""
        units = slice(start // self.unit, -(-stop // self.unit))
        return bool(self.above[:, units].any() or self.below[:, units].any())

    def at(self, channel: int, start: int, count: int) -> Ceilings:
        """The levels of a channel for each frame from ``start`` on."""
        units = np.clip((start + np.arange(count)) // self.unit, 0, self.above.shape[1] - 1)
        return Ceilings(self.above[channel][units], self.below[channel][units], self.uneven[channel][units])


@dataclass(frozen=True, slots=True)
class Ceilings:
    """Levels for each sample of a channel: positive amplitudes, 0 where nothing is clipped."""

    above: NDArray[np.float64]
    below: NDArray[np.float64]
    uneven: NDArray[np.bool_]

    @classmethod
    def given(cls, level: float, count: int) -> Ceilings:
        """One level for both polarities, below which nothing was clipped."""
        return cls(np.full(count, level), np.full(count, level), np.ones(count, dtype=bool))

    @property
    def any(self) -> bool:
        """Whether anything is clipped."""
        return bool(self.above.any() or self.below.any())

    def part(self, first: int, last: int) -> Ceilings:
        """Those of [first, last)."""
        return Ceilings(self.above[first:last], self.below[first:last], self.uneven[first:last])


@dataclass(slots=True)
class _Side:
    """What was seen of one polarity of one channel."""

    flat: list[tuple[int, float]] = field(default_factory=list)  # flat peaks: place and level
    counts: list[NDArray[np.int64]] = field(default_factory=list)  # for each piece (BINS,)
    highest: list[NDArray[np.float32]] = field(default_factory=list)  # for each piece the highest sample of each moment

    def see(self, wave: NDArray[np.float32], moment: int) -> None:
        """Count a piece, its other polarity turned over."""
        whole = len(wave) // moment * moment
        highest = wave[:whole].reshape(-1, moment).max(axis=1) if whole else np.array([wave.max()], dtype=np.float32)
        loud = wave[wave > max(QUIETEST, COUNTED * float(highest.max(initial=0.0)))]
        bins = np.minimum(np.log(loud / QUIETEST) / FINE, BINS - 1).astype(np.int64)
        self.counts.append(np.bincount(bins, minlength=BINS))
        self.highest.append(highest)


def clip_levels(source: Source, spans: Sequence[Span], progress: Callable[[float], None]) -> CutLevels:
    """Find the levels at which peaks were clipped.

    Parameters
    ----------
    spans : where to look; everywhere when empty
    """
    sides = [(_Side(), _Side()) for _ in range(source.channels)]
    step, look, moment = (max(64, round(s * source.rate)) for s in (PIECE_S, LOOK_S, MOMENT_S))
    pieces: list[int] = []
    for begin, end in _pieces(source, spans, step):
        pieces.append(begin)
        for channel, x in enumerate(source.read(begin, end)):
            starts = flat_runs(x, look)[0]
            for at, value in zip((begin + starts).tolist(), x[starts].tolist(), strict=True):
                sides[channel][value < 0].flat.append((at, abs(value)))
            sides[channel][0].see(x, moment)
            sides[channel][1].see(-x, moment)
        progress(end / source.frames)
    unit = max(1, round(UNIT_S * source.rate))
    units = max(1, -(-source.frames // unit))
    levels = np.stack([np.stack([_flat_levels(side.flat, unit, units) for side in pair]) for pair in sides])
    uneven = np.zeros((source.channels, units), dtype=bool)
    for channel, pair in enumerate(sides):
        if levels[channel].any():
            continue
        levels[channel] = _ceilings(pair, pieces, step, unit, units)
        uneven[channel] = levels[channel].any(axis=0)
    return CutLevels(levels[:, 0], levels[:, 1], uneven, unit)


def _pieces(source: Source, spans: Sequence[Span], step: int) -> Iterator[tuple[int, int]]:
    for begin in range(0, source.frames, step):
        end = min(begin + step, source.frames)
        if not spans or any(s.overlaps(begin, end) for s in spans):
            yield begin, end


def _flat_levels(tops: list[tuple[int, float]], unit: int, units: int) -> NDArray[np.float64]:
    """(units,) the level that flat peaks have in common around each unit; where there are few, that of the whole."""
    levels = np.zeros(units)
    if len(tops) < LEAST_RUNS:
        return levels
    places, values = np.array([a for a, _ in tops]) // unit, np.array([v for _, v in tops])
    whole = float(np.median(values))
    near = np.mean(np.abs(values - whole) <= SAME_LEVEL * whole)
    if near >= 0.5:  # one level throughout
        levels[:] = whole
        return levels
    for k in np.unique(np.concatenate([places - 1, places, places + 1])):
        part = np.sort(values[np.abs(places - k) <= 1])
        if not 0 <= k < units or len(part) < LEAST_RUNS:
            continue
        together = np.searchsorted(part, part * (1.0 + SAME_LEVEL), "right") - np.arange(len(part))
        most = int(np.argmax(together))
        if together[most] >= LEAST_RUNS:
            levels[k] = float(np.median(part[most : most + int(together[most])]))
    return levels


def _ceilings(pair: tuple[_Side, _Side], pieces: list[int], step: int, unit: int, units: int) -> NDArray[np.float64]:
    """(2, units) the ceilings of each piece with its neighbours, or those of the whole where nothing passes them."""
    levels = np.zeros((2, units))
    whole = np.array([_ceiling(side.counts, side.highest) for side in pair])
    for k, begin in enumerate(pieces):
        around = slice(max(0, k - 1), k + 2)
        level = np.array([_ceiling(side.counts[around], side.highest[around]) for side in pair])
        highest = max(float(side.highest[k].max(initial=0.0)) for side in pair)
        if not level.any() and highest <= PASSED * float(whole.max()):
            level = whole
        levels[:, begin // unit : -(-(begin + step) // unit)] = level[:, None]
    return levels


def _ceiling(counts: Iterable[NDArray[np.int64]], highest: Sequence[NDArray[np.float32]]) -> float:
    """The lowest amplitude that belongs to what is piled up under a ceiling; 0 where nothing is."""
    count = np.sum(list(counts), axis=0)
    below = np.concatenate([[0], np.cumsum(count)])
    best, level = PILED_UP, 0.0
    if below[-1] < LEAST_SAMPLES:
        return level
    for width in WIDTHS:
        at = np.arange(7 * width, BINS - 2 * width)  # where two bins of this width begin; one is spared, six lie below
        piled = below[at + 2 * width] - below[at]
        over = below[-1] - below[at + 2 * width]
        usual = (below[at - width] - below[at - 7 * width]) / 3.0 + 4.0
        ratio = np.where((piled >= LEAST_SAMPLES) & (over <= MOST_ABOVE * piled), piled / usual, 0.0)
        k = int(np.argmax(ratio))
        if ratio[k] <= best:
            continue
        edge = int(at[k]) + width
        for _ in range(DEEPEST):  # as far down as it is denser than usual
            if below[edge] - below[edge - width] <= DENSE * 0.5 * usual[k]:
                break
            edge -= width
        lowest = QUIETEST * float(np.exp(edge * FINE))
        if _moving(highest, lowest):
            best, level = float(ratio[k]), lowest
    return level


def _moving(highest: Sequence[NDArray[np.float32]], level: float) -> bool:
    """Whether only some of the moments with sound reach the level, as a voice does: tones reach theirs in all."""
    tops = np.concatenate(list(highest))
    active = int((tops > ACTIVE * level).sum())
    return int((tops >= level).sum()) < STEADY * active
