# SPDX-License-Identifier: GPL-3.0-or-later
"""The same words said another time: where a passage of speech is found in other takes, and which moment is which.

Speech is described every 10 ms by cepstral coefficients of mel bands (S. Davis and P. Mermelstein, IEEE Trans. ASSP 28(4),
1980) relative to the recording's mean and spread (B. Atal, J. Acoust. Soc. Am. 55(6), 1974), with how they move
(S. Furui, IEEE Trans. ASSP 34(1), 1986). A passage is found by subsequence dynamic time warping (M. Müller,
"Information Retrieval for Music and Motion", 2007, section 4.2) with steps that let no moment take more than twice or less than half
its time (H. Sakoe and S. Chiba, IEEE Trans. ASSP 26(1), 1978, symmetric form, P = 1). Those steps use earlier moments of
the passage only, so all places of a recording are tried at once.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.measure.band_curves import band_curves

STEP_S, WINDOW_S = 0.01, 0.02
BANDS, COEFFICIENTS = 24, 12
LOWEST_HZ, HIGHEST_HZ = 150.0, 6500.0
FLOOR_DB = 45.0  # under the loudest moments nothing is looked at
LOUD_DB = 30.0  # moments that tell the mean and the spread
LEVEL_WEIGHT, MOVE_WEIGHT = 0.7, 0.8  # of level and of movement beside the coefficients
MOVE_STEPS = 3
QUIET_WEIGHT = 0.2  # of moments of the passage in which nothing is said: every pause is like every other
LEAST_SAID_S = 0.15
SHORTEST_S, LONGEST_S = 0.25, 12.0  # of a passage
PIECE_S = 240.0  # of a recording that is looked at in one go
MOST_FOUND = 12
LIKENESS = 0.42  # from which a place is told: what is there has 0.48 and more, what is not less in 14 of 15

Way = tuple[tuple[float, float], ...]  # seconds of the passage and of the place, both rising
_Place = tuple[float, int, int, Way]  # cost, first step, the step behind the last, the way


@dataclass(frozen=True, slots=True)
class SameWords:
    """A place at which a passage is found.

    Attributes
    ----------
    start, stop : frames of the recording
    likeness : 0..1; how much nearer it lies to the passage than what else is said in the recording
    path : (seconds from the passage's start, seconds from ``start``) of moments that are the same, rising in both
    """

    start: int
    stop: int
    likeness: float
    path: tuple[tuple[float, float], ...]


@dataclass(frozen=True, slots=True)
class Described:
    """A recording as steps of STEP_S: (steps, figures) float32, and its rate."""

    figures: NDArray[np.float32]
    rate: int
    frames: int


def described(source: Source, progress: Callable[[float], None] = lambda _: None) -> Described:
    """What a recording sounds like, moment by moment. ``progress`` (0..1) may raise to stop."""
    edges = _mel_edges(min(HIGHEST_HZ, 0.45 * source.rate))
    bands = list(zip(edges[:-2], edges[2:], strict=True))  # each reaches to the middles of its neighbours
    power = band_curves(
        source, bands, 0, source.frames, step_ms=1000.0 * STEP_S, window_ms=1000.0 * WINDOW_S, progress=progress
    )
    return Described(_figures(power), source.rate, source.frames)


def find_words(
    passage: Described, span: Span, within: Described, progress: Callable[[float], None] = lambda _: None
) -> list[SameWords]:
    """The places of a recording at which a passage of another one, or of itself, is said again; the likest first.

    Parameters
    ----------
    passage, span : the recording that holds the passage, and which frames of it
    within : where it is looked for; the passage itself is not told

    Raises
    ------
    ValueError
        When the passage is too short to hold a word, or longer than LONGEST_S.
    """
    asked = _asked(passage, span)
    if not LEAST_SAID_S / STEP_S <= len(asked) <= LONGEST_S / STEP_S + 1:
        message = f"a passage of {len(asked) * STEP_S:.2f} s cannot be looked for"
        raise ValueError(message)
    if not says_enough(passage, span):
        return []
    said = np.flatnonzero(_is_said(asked))
    lead, tail = int(said[0]), len(asked) - 1 - int(said[-1])  # pauses around the words come along as they are
    asked = asked[lead : len(asked) - tail]
    weights = np.where(_is_said(asked), np.float32(1.0), np.float32(QUIET_WEIGHT))
    reach = 2 * len(asked) + 2
    piece = round(PIECE_S / STEP_S)
    places: list[_Place] = []
    usual: list[float] = []
    for begin in range(0, max(1, len(within.figures)), piece):
        part = within.figures[max(0, begin - reach) : begin + piece]
        if len(part) >= len(asked) // 2:
            ends, starts, trace = _warped(asked, part, weights)
            usual.append(float(np.median(ends[np.isfinite(ends)])) if np.isfinite(ends).any() else np.inf)
            places += [
                (cost, max(0, begin - reach) + a, max(0, begin - reach) + b, path)
                for cost, a, b, path in _best(ends, starts, trace)
            ]
        progress(min(1.0, (begin + piece) / max(1, len(within.figures))))
    if not usual:
        return []
    chance = float(np.median(usual))
    found: list[SameWords] = []
    for cost, inner, end, path in sorted(places, key=lambda row: row[0]):
        likeness = 1.0 - cost / chance if chance > 0 else 0.0
        a, b = inner - lead, end + tail
        if likeness < LIKENESS or len(found) == MOST_FOUND:
            break
        if a < 0 or b > len(within.figures):
            continue  # its pauses reach beyond the recording
        first, last = (min(round(n * STEP_S * within.rate), within.frames) for n in (a, b))
        itself = within is passage and Span(first, last).overlaps(span.start, span.stop)
        if itself or any(f.start < last and first < f.stop for f in found):
            continue
        found.append(SameWords(first, last, likeness, _around(path, lead, tail)))
    return found


def says_enough(passage: Described, span: Span) -> bool:
    """Whether anything is said in a passage that could be found again."""
    return float(_is_said(_asked(passage, span)).sum()) * STEP_S >= LEAST_SAID_S


def _asked(passage: Described, span: Span) -> NDArray[np.float32]:
    step = STEP_S * passage.rate
    return passage.figures[round(span.start / step) : round(span.stop / step)]


def _around(path: Way, lead: int, tail: int) -> Way:
    """A way with the pauses before and behind it."""
    before, behind = lead * STEP_S, tail * STEP_S
    moved = [(q + before, m + before) for q, m in path]
    ends = [(0.0, 0.0)] if lead else []
    return (*ends, *moved, *([(moved[-1][0] + behind, moved[-1][1] + behind)] if tail else []))


def _is_said(figures: NDArray[np.float32]) -> NDArray[np.bool_]:
    """Moments less than LOUD_DB under the loudest of their recording."""
    return figures[:, COEFFICIENTS] > -LEVEL_WEIGHT * LOUD_DB / 10.0


def _mel_edges(highest_hz: float) -> list[float]:
    low, high = (2595.0 * np.log10(1.0 + hz / 700.0) for hz in (LOWEST_HZ, highest_hz))
    edges: list[float] = (700.0 * (10.0 ** (np.linspace(low, high, BANDS + 2) / 2595.0) - 1.0)).tolist()
    return edges


def _figures(power: NDArray[np.floating]) -> NDArray[np.float32]:
    """(steps, figures) of (bands, steps) powers."""
    from scipy.fft import dct

    power = power.astype(np.float32)  # of hours: half the memory
    level = 10.0 * np.log10(np.maximum(power, 1e-14))
    whole = 10.0 * np.log10(np.maximum(power.sum(axis=0), 1e-14))
    if not len(whole):
        return np.zeros((0, 2 * (COEFFICIENTS + 1)), dtype=np.float32)
    top = float(np.percentile(whole, 98))
    level = np.maximum(level, top - FLOOR_DB - 10.0 * np.log10(BANDS))
    whole = np.maximum(whole, top - FLOOR_DB)
    told = dct(level, axis=0, norm="ortho")[1 : COEFFICIENTS + 1]
    loud = whole > top - LOUD_DB
    told -= told[:, loud].mean(axis=1, keepdims=True)
    told /= np.maximum(told[:, loud].std(axis=1, keepdims=True), 1e-6)
    swing = LEVEL_WEIGHT * (whole - top)[None] / 10.0
    still = np.concatenate([told, swing])
    at = np.arange(still.shape[1])
    ahead, behind = (still[:, np.clip(at + k, 0, len(at) - 1)] for k in (MOVE_STEPS, -MOVE_STEPS))
    return np.concatenate([still, MOVE_WEIGHT * (ahead - behind)]).T.astype(np.float32)


def _warped(
    asked: NDArray[np.float32], part: NDArray[np.float32], weights: NDArray[np.float32]
) -> tuple[NDArray[np.float32], NDArray[np.int32], NDArray[np.int8]]:
    """Cost a step of the best way that ends at each moment of the part, where it began, and the steps of all ways.

    Step 0 goes on by one in both, 1 by one in the passage and two in the part, 2 by two and one.
    """
    squares = (asked**2).sum(axis=1)[:, None] + (part**2).sum(axis=1)[None] - 2.0 * asked @ part.T
    cost = np.sqrt(np.maximum(squares, 0.0)) * weights[:, None]
    count, length = cost.shape
    trace = np.zeros((count, length), dtype=np.int8)
    before = [np.full(length, np.inf, dtype=np.float32), cost[0].copy()]  # rows i - 2 and i - 1
    began = [np.zeros(length, dtype=np.int32), np.arange(length, dtype=np.int32)]
    none = np.full(2, np.inf, dtype=np.float32)
    for i in range(1, count):
        two, one = before
        ways = np.stack([
            np.concatenate([none[:1], one[:-1]]) + 2.0 * cost[i],
            np.concatenate([none, one[:-2]]) + 2.0 * np.concatenate([none[:1], cost[i, :-1]]) + cost[i],
            np.concatenate([none[:1], two[:-1]]) + 2.0 * cost[i - 1] + cost[i],
        ])  # fmt: skip
        step = np.argmin(ways, axis=0).astype(np.int8)
        at = np.arange(length)
        trace[i] = step
        came = at - np.where(step == 1, 2, 1)
        start = np.where(step == 2, began[0][came], began[1][came])
        before, began = [one, ways[step, at]], [began[1], start.astype(np.int32)]
    taken = count + np.arange(length) - began[1] + 1
    ends = np.where(np.isfinite(before[1]), before[1] / np.maximum(taken, 1), np.inf).astype(np.float32)
    return ends, began[1], trace


def _best(ends: NDArray[np.float32], starts: NDArray[np.int32], trace: NDArray[np.int8]) -> list[_Place]:
    """The lowest places that do not overlap: cost, first step, the step behind the last, the way."""
    made: list[_Place] = []
    order = np.argsort(ends)
    taken = np.zeros(len(ends), dtype=bool)
    for end in order.tolist():
        if not np.isfinite(ends[end]) or len(made) == MOST_FOUND:
            break
        first = int(starts[end])
        if taken[first : end + 1].any():
            continue
        taken[first : end + 1] = True
        made.append((float(ends[end]), first, end + 1, _way(trace, end, first)))
    return made


def _way(trace: NDArray[np.int8], end: int, first: int) -> Way:
    i, j = len(trace) - 1, end
    way = [(i + 1, j + 1 - first)]
    while i > 0:
        way.append((i, j - first))
        step = trace[i, j]
        i, j = (i - 1, j - 1) if step == 0 else (i - 1, j - 2) if step == 1 else (i - 2, j - 1)
    way.append((0, 0))
    return tuple((n * STEP_S, m * STEP_S) for n, m in reversed(way))
