# SPDX-License-Identifier: GPL-3.0-or-later
"""The direct sound at two microphones that are both far away: places are tried one by one, each without the room.

Two reverberant recordings agree best where two strong reflections meet, not where the direct sounds do. Weighted
prediction error over both at once (T. Yoshioka and T. Nakatani, IEEE Trans. ASLP 20(10), 2012), begun one frame of 4 ms
back, takes out of each what the past of either tells. Laid where the direct sounds coincide, these are the only common
sound that is left, and the phase transform (C. Knapp and G. Carter, IEEE Trans. ASSP 24(4), 1976) has one clear peak; laid
elsewhere, the direct sound of one is told by the other and goes as well. So every place that may be meant is tried, and
the one at which its own peak stands out most is taken. Figures in docs/held-against.md.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source
from pulizia.dsp.fourier import fast_length
from pulizia.dsp.prediction_error import predictors, without_tail
from pulizia.dsp.stft import analyse, synthesise
from pulizia.measure.first_arrival import Arrival, Candidate
from pulizia.measure.line_up_places import FINE_RATE, exact

SIZE, HOP, TAPS, DELAY, ROUNDS = 256, 64, 16, 1, 2
STRETCH_S, LEAST_S, MOST_STRETCHES, BLOCK_S = 20.0, 8.0, 3, 1.0
BAND_HZ = (200.0, 6000.0)
REACH_S, NEAR_S = 0.03, 0.0004
PLACES, MORE_PLACES = 5, 2  # of each curve, and of the curves of the two best places
UPSAMPLED, WHITENED = 4, 0.75
AGREE_S, UNSURE, SURE = 0.0003, 1.0, 2.6
SILENT_SHARE, NEAR_SHARE, RESPONSE_FLOOR = 0.05, 0.4, 1e-3


@dataclass(frozen=True, slots=True)
class _Tried:
    """A place: seconds after the line, how far its peak stands over all others and over chance, and the whole curve."""

    late_s: float
    ratio: float
    score: float
    curve: NDArray[np.float64]


def dry_arrival(
    first: Source, second: Source, line: Arrival, begin_s: float, end_s: float, progress: Callable[[float], None]
) -> Arrival | None:
    """The direct sound within 30 ms of a line.

    Parameters
    ----------
    line
        Where the strongest arrival lies: lags ``level`` + ``slope`` x second of the first recording.
    begin_s, end_s
        What both recordings hold, in seconds of the first.

    Returns
    -------
    The line of the direct sound, and how clear it is; None where both hold less than 8 s together.
    """
    length = end_s - begin_s
    stretch = min(STRETCH_S, length)
    if stretch < LEAST_S:
        return None
    x, y = _aligned(first, second, line, (begin_s + end_s - stretch) / 2, stretch)
    if not x.any() or not y.any():
        return None
    tried = _all_tried(x, y, [-c.offset_s for c in line.candidates], progress)
    best = tried[0]
    slope, level, apart = _through(first, second, line, best.late_s, begin_s, end_s, stretch)
    progress(1.0)
    rival = max((t.score / best.score for t in tried[1:] if abs(t.late_s - best.late_s) > NEAR_S), default=0.0)
    clear = np.clip((best.ratio - UNSURE) / (SURE - UNSURE), 0.0, 1.0) * np.clip(2.0 * (1.0 - rival) + 0.2, 0.0, 1.0)
    clear = 0.0 if apart > AGREE_S else float(clear)
    curve, centre = best.curve, len(best.curve) // 2
    # a later arrival has a smaller lag
    candidates = tuple(Candidate(best.late_s - t.late_s, min(1.0, t.score / best.score)) for t in tried[:PLACES])
    return Arrival(slope, level, bool(curve[centre] < 0), candidates, clear)


def near_arrival(first: Source, second: Source, line: Arrival, begin_s: float, end_s: float) -> Arrival | None:
    """The direct sound where one microphone was near: the other's response to it is silent before that.

    None where it is not silent there, or where there is too little sound: see :func:`dry_arrival` for the rest.
    """
    stretch = min(STRETCH_S, end_s - begin_s)
    if stretch < LEAST_S:
        return None
    x, y = _aligned(first, second, line, (begin_s + end_s - stretch) / 2, stretch)
    if not x.any() or not y.any():
        return None
    reach = round(REACH_S * FINE_RATE)
    cross, powers = _spectra(x, y[reach:-reach])
    best: tuple[float, Arrival] | None = None
    for way, power in zip((1, -1), powers, strict=True):  # the second answers the first, or the first the second
        heard = np.asarray(cross if way == 1 else np.conj(cross), dtype=np.complex128)
        curve = _curve(heard / (power + RESPONSE_FLOOR * np.median(power)), 0.0)
        height = np.abs(curve)
        top = float(height.max())
        before = float(np.sqrt(np.mean(height[: len(height) // 5] ** 2))) / top
        peaks = np.flatnonzero((height[1:-1] >= height[:-2]) & (height[1:-1] > height[2:])) + 1
        at = int(peaks[height[peaks] >= NEAR_SHARE * top][0])
        late = way * (at - len(curve) // 2) / UPSAMPLED / FINE_RATE
        if before < SILENT_SHARE and (best is None or before < best[0]):
            rivals = [way * p for p in _peaks(curve, PLACES) if abs(way * p - late) > NEAR_S]
            candidates = (Candidate(0.0, 1.0), *(Candidate(late - r, NEAR_SHARE) for r in rivals))
            clear = float(np.clip(1.0 - before / SILENT_SHARE / 2.0, 0.0, 1.0))
            best = before, Arrival(line.slope, line.level - late, bool(curve[at] < 0), candidates, clear)
    return None if best is None else best[1]


def _all_tried(
    x: NDArray[np.float32], y: NDArray[np.float32], told_s: list[float], progress: Callable[[float], None]
) -> list[_Tried]:
    """Every place that may be meant, the best first."""
    reach = round(REACH_S * FINE_RATE)
    inner = y[reach:-reach]
    alone = [_dry(wave[None])[0] for wave in (x, inner)]
    places = [p for p in told_s if abs(p) < REACH_S]
    for curve in (_curve(_cross(x, inner), WHITENED), _curve(_cross(*alone), 1.0)):
        places += _peaks(curve, PLACES)
    tried: list[_Tried] = []

    def look(at: list[float], share: float) -> None:
        for n, place in enumerate(at):
            if all(abs(place - t.late_s) > NEAR_S for t in tried):
                tried.append(_at_place(x, y, place, reach))
            progress(share * (n + 1) / len(at))
        tried.sort(key=lambda t: -t.score)

    look(places, 0.7)
    found = [p + t.late_s for t in tried[:2] for p in _peaks(t.curve, MORE_PLACES)]
    look([p for p in found if abs(p) < REACH_S], 0.8)
    return tried


def _at_place(x: NDArray[np.float32], y: NDArray[np.float32], late_s: float, reach: int) -> _Tried:
    late = round(late_s * FINE_RATE)
    dry = _dry(np.stack([x, y[reach + late : reach + late + len(x)]]))
    curve = _curve(_cross(*dry), 1.0)
    height, centre, near = np.abs(curve), len(curve) // 2, round(NEAR_S * FINE_RATE * UPSAMPLED)
    own = float(height[centre - 2 * UPSAMPLED : centre + 2 * UPSAMPLED + 1].max())
    others = float(np.delete(height, np.arange(centre - near, centre + near + 1)).max())
    ratio = own / (others + 1e-12)
    return _Tried(late / FINE_RATE, ratio, ratio * own / (float(np.sqrt(np.mean(height**2))) + 1e-12), curve)


def _through(
    first: Source, second: Source, line: Arrival, late_s: float, begin_s: float, end_s: float, stretch_s: float
) -> tuple[float, float, float]:
    """Slope and level of the line through the chosen arrival in several stretches, and how far these lie off it at most."""
    count = int(np.clip((end_s - begin_s) // stretch_s, 1, MOST_STRETCHES))
    starts = np.linspace(begin_s, end_s - stretch_s, count) if count > 1 else [begin_s]
    reach, near = round(REACH_S * FINE_RATE), round(NEAR_S * FINE_RATE * UPSAMPLED)
    times, lags = [], []
    for start in starts:
        x, y = _aligned(first, second, line, float(start), stretch_s)
        if x.any() and y.any():
            tried = _at_place(x, y, late_s, reach)
            centre = len(tried.curve) // 2
            top = int(np.abs(tried.curve[centre - 2 * near : centre + 2 * near + 1]).argmax()) - 2 * near
            times.append(float(start) + stretch_s / 2)
            lags.append(-tried.late_s - top / UPSAMPLED / FINE_RATE)
    turn = float(np.polyfit(times, lags, 1)[0]) if len(times) > 1 else 0.0
    away = np.array(lags) - turn * np.array(times)
    level = float(np.median(away)) if len(away) else -late_s
    return line.slope + turn, line.level + level, float(np.abs(away - level).max()) if len(away) else 0.0


def _aligned(
    first: Source, second: Source, line: Arrival, start_s: float, stretch_s: float
) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """A stretch of the first recording, and of the second where the line says, with REACH_S more on both sides."""
    reach, whole = round(REACH_S * FINE_RATE), int(stretch_s)
    x = np.empty(whole * FINE_RATE, dtype=np.float32)
    y = np.empty(whole * FINE_RATE + 2 * reach, dtype=np.float32)
    for n in range(whole):
        t, here = start_s + n + 0.5, n * FINE_RATE
        x[here : here + FINE_RATE] = exact(first, t, FINE_RATE)
        y[here : here + FINE_RATE + 2 * reach] = exact(second, t - line.level - line.slope * t, FINE_RATE + 2 * reach)
    return x, y


def _dry(waves: NDArray[np.float32]) -> NDArray[np.float32]:
    """(channels, n) without what the past of all predicts."""
    level = np.sqrt(np.mean(waves**2, axis=1, keepdims=True)) + 1e-12
    spectra = np.stack([analyse(wave, SIZE, HOP) for wave in waves / level])
    filters = predictors(spectra, taps=TAPS, delay=DELAY, iterations=ROUNDS)
    return np.stack([synthesise(part, SIZE, HOP) for part in without_tail(spectra, filters, taps=TAPS, delay=DELAY)])


def _cross(x: NDArray[np.float32], y: NDArray[np.float32]) -> NDArray[np.complex128]:
    return _spectra(x, y)[0]


def _spectra(
    x: NDArray[np.float32], y: NDArray[np.float32]
) -> tuple[NDArray[np.complex128], tuple[NDArray[np.float64], NDArray[np.float64]]]:
    """Cross spectrum and both power spectra, each block in units of its own level."""
    block = round(BLOCK_S * FINE_RATE)
    size, window = fast_length(2 * block), np.hanning(block)
    cross, of_x, of_y = np.zeros(size // 2 + 1, dtype=complex), np.zeros(size // 2 + 1), np.zeros(size // 2 + 1)
    for start in range(0, min(len(x), len(y)) - block + 1, block // 2):
        fx, fy = (np.fft.rfft(wave[start : start + block] * window, size) for wave in (x, y))
        px, py = np.abs(fx) ** 2, np.abs(fy) ** 2
        weight = 1.0 / (float(np.sqrt(px.sum() * py.sum())) + 1e-30)
        cross += np.conj(fx) * fy * weight
        of_x += px * weight
        of_y += py * weight
    return cross, (of_x, of_y)


def _curve(cross: NDArray[np.complex128], whitened: float) -> NDArray[np.float64]:
    """Correlation with that exponent of the magnitude taken out; UPSAMPLED, REACH_S to both sides, lag 0 in the middle."""
    size = 2 * (len(cross) - 1)
    hz = np.fft.rfftfreq(size, 1.0 / FINE_RATE)
    band = np.clip((hz - BAND_HZ[0]) / 100.0, 0.0, 1.0) * np.clip((BAND_HZ[1] - hz) / 1000.0, 0.0, 1.0)
    spectrum = np.zeros(size * UPSAMPLED // 2 + 1, dtype=complex)
    spectrum[: len(cross)] = cross * band / (np.abs(cross) + 1e-6 * np.abs(cross).max() + 1e-30) ** whitened
    curve = np.fft.irfft(spectrum, size * UPSAMPLED)
    side = round(REACH_S * FINE_RATE) * UPSAMPLED
    return np.asarray(np.concatenate([curve[-side:], curve[: side + 1]]))


def _peaks(curve: NDArray[np.float64], count: int) -> list[float]:
    """Seconds after the middle of the highest peaks that lie apart."""
    height, found = np.abs(curve), list[float]()
    peaks = np.flatnonzero((height[1:-1] >= height[:-2]) & (height[1:-1] > height[2:])) + 1
    for peak in peaks[np.argsort(-height[peaks])]:
        place = (int(peak) - len(curve) // 2) / UPSAMPLED / FINE_RATE
        if all(abs(place - p) > NEAR_S for p in found):
            found.append(place)
        if len(found) == count:
            break
    return found
