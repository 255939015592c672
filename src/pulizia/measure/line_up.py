# SPDX-License-Identifier: GPL-3.0-or-later
"""Two recordings of one moment: how much later the second began, how its clock drifts, and whether it is inverted.

Coarse: the movement of 16 band levels at 100 steps a second, correlated by FFT over all lags. Fine: the generalised
cross-correlation (C. Knapp and G. Carter, IEEE Trans. ASSP 24(4), 1976) with part of the magnitude taken out, at loud places
all over the recordings, and a line through their lags that outliers do not move (M. Fischler and R. Bolles, Comm. ACM 24(6),
1981). The strongest arrival at a far microphone may be a reflection: the direct sound is looked for in the response of one to
the other, and where both are far, without their room; other arrivals are named as candidates. "The same moment" and "placed exactly" are two questions with two answers.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from pulizia.audio.source import Source
from pulizia.measure.dry_arrival import dry_arrival, near_arrival
from pulizia.measure.first_arrival import Candidate, first_arrival
from pulizia.measure.line_up_coarse import Coarse, coarse_lag, movement
from pulizia.measure.line_up_places import Line, Piece, line_of_places, settled

Progress = Callable[[float], None]
SURE_SCORE, SURE_RATIO, LEAST_SCORE = 15.0, 2.0, 7.0
TRIED_SCORE, TRIED_RATIO = 5.0, 1.3  # short sound scores low; that its places agree to a millisecond decides
AGREED_SHARE, AGREED_PLACES = 0.6, 6
SPREAD_S = 0.004
CLEAR = 0.8  # of exact_place: less than that is listened to again, without the room
SAME_S, CONTESTED = 0.0005, 0.45  # where both ways of listening disagree it is told as uncertain


@dataclass(frozen=True, slots=True, kw_only=True)
class LineUp:
    """How two recordings lie.

    Attributes
    ----------
    offset_s : when the second one began, on the clock of the first: what lies at second t of the first lies at
        (t - offset_s) x (1 + drift_ppm / 1e6) of the second
    drift_ppm : how much faster the clock of the second counts
    inverted : the second swings the other way
    score, ratio : how far the best coarse peak stands over chance, and over the next one
    agreed : single places lie on one line, more of them than chance allows
    same_moment : 0..1
    exact_place : 0..1
    spread_ms : how far single places lie from the line, median
    candidates : other arrivals, strongest first; the chosen one is the first
    pieces : more than one where a recording jumps
    """

    offset_s: float
    drift_ppm: float = 0.0
    inverted: bool = False
    score: float = 0.0
    ratio: float = 0.0
    agreed: bool = False
    same_moment: float = 0.0
    exact_place: float = 0.0
    spread_ms: float = 0.0
    candidates: tuple[Candidate, ...] = ()
    pieces: tuple[Piece, ...] = ()

    @property
    def is_same(self) -> bool:
        """Whether both heard the same moment for certain."""
        return (self.score >= SURE_SCORE and self.ratio >= SURE_RATIO) or self.agreed

    @property
    def perhaps(self) -> bool:
        """Whether somebody should listen before it is used."""
        return not self.is_same and self.score >= LEAST_SCORE


def line_up(first: Source, second: Source, progress: Progress = lambda _: None, *, exactly: bool = True) -> LineUp:
    """Find how ``second`` lies against ``first``; channels of each are added. ``progress`` (0..1) may raise to stop.

    Not ``exactly``: at two microphones that are both far away the direct sound is not looked for, which takes half of the
    time; the place is then one of the strongest arrivals, within 30 ms. Enough where only one of both will be heard.

    A result whose ``score`` is low says that nothing common was heard.
    """
    moved = movement(first, lambda p: progress(0.3 * p))
    coarse = coarse_lag(moved, movement(second, lambda p: progress(0.3 + 0.3 * p)))
    if coarse is None:
        progress(1.0)
        return LineUp(offset_s=0.0)
    rough = LineUp(
        offset_s=coarse.lag_s, score=coarse.score, ratio=coarse.ratio, same_moment=_sureness(coarse),
        candidates=(Candidate(coarse.lag_s, 1.0),),
    )  # fmt: skip
    if coarse.score < TRIED_SCORE or (coarse.ratio < TRIED_RATIO and coarse.score < LEAST_SCORE):
        progress(1.0)
        return rough
    line = line_of_places(first, second, moved, coarse.at_s, coarse.lag_s, lambda p: progress(0.6 + 0.3 * p))
    if line is None or len(line.times) < 2:
        progress(1.0)
        return rough
    agreed = line.share >= AGREED_SHARE and len(line.times) >= AGREED_PLACES
    if coarse.score < LEAST_SCORE and not agreed:
        progress(1.0)
        return rough
    arrival = first_arrival(first, second, line)
    slope, level, spread = settled(first, second, line, arrival.slope, arrival.level)
    exact = arrival.clear * float(np.clip(line.share / 0.7, 0.0, 1.0)) * float(np.exp(-spread / SPREAD_S))
    begin, end = _shared(first, second, line)
    near = near_arrival(first, second, arrival, begin, end)
    if near is not None and abs(near.level - arrival.level) > SAME_S:
        arrival, slope, level, exact = near, near.slope, near.level, near.clear
    elif near is not None:
        exact = max(exact, near.clear)
    elif exact < CLEAR and exactly:  # reflections are as strong as the direct sound
        dry = dry_arrival(first, second, arrival, begin, end, lambda p: progress(0.9 + 0.1 * p))
        if dry is not None:
            same = abs(dry.level - arrival.level) < SAME_S
            exact = max(exact, dry.clear) if same else min(dry.clear, CONTESTED)
            arrival, slope, level = dry, dry.slope, dry.level
    began = level / (1.0 - slope)  # t - level - slope t = (t - began) (1 + drift)
    progress(1.0)
    return replace(
        rough, offset_s=began, drift_ppm=-1e6 * slope, inverted=arrival.inverted, exact_place=round(exact, 3),
        spread_ms=1000.0 * spread, candidates=tuple(Candidate(began + c.offset_s, c.share) for c in arrival.candidates),
        pieces=line.pieces, agreed=agreed, same_moment=max(rough.same_moment, round(line.share, 3) if agreed else 0.0),
    )  # fmt: skip


def _shared(first: Source, second: Source, line: Line) -> tuple[float, float]:
    """What both hold, in seconds of the first: where recorders jump, the longest piece without a jump."""
    lag = line.level + line.slope * float(np.median(line.times))
    begin, end = max(0.5, lag + 0.5), min(first.frames / first.rate, second.frames / second.rate + lag) - 0.5
    if len(line.pieces) > 1:
        longest = max(line.pieces, key=lambda p: p.stop_s - p.start_s)
        begin, end = max(begin, longest.start_s), min(end, longest.stop_s)
    return begin, end


def _sureness(coarse: Coarse) -> float:
    score = np.clip((coarse.score - LEAST_SCORE) / (SURE_SCORE - LEAST_SCORE), 0.0, 1.0)
    ratio = np.clip((coarse.ratio - 1.0) / (SURE_RATIO - 1.0), 0.0, 1.0)
    return round(float(score * ratio), 3)
