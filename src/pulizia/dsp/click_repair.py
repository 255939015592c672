# SPDX-License-Identifier: GPL-3.0-or-later
"""What stands in the place of clicks.

First all clicks are put back by least-squares interpolation of an autoregressive model (Janssen, Veldhuis and Vries
1986); then each is estimated again as a disturbance that was added to the voice, with a variance of its own at
every sample (Godsill and Rayner 1998, chapter 5) and, where it is longer, a model that reaches back over a pitch
period: its loud part is exchanged, its faint end only corrected. See :mod:`pulizia.dsp.autoregression`. A click of the
mouth is a short resonance: where damped sinusoids explain it, these are taken out (:mod:`pulizia.dsp.damped`).
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from pulizia.dsp.autoregression import interpolated, left_over, model_of, without_disturbance
from pulizia.dsp.click_marks import clicks_marked
from pulizia.dsp.damped import damped_part
from pulizia.dsp.moments import Stretch, bump
from pulizia.units import db_to_gain

CONTEXT_S = 0.016
FILL_ORDER = 44
WIDE_CONTEXT_S, WIDE_ORDER_S, ROUNDS = 0.0333, 0.00417, 3
SHORT_S = 0.0006  # up to here a model of the spectrum's envelope is enough; longer ones need the pitch
GROUP_S = 0.006
LEFT_OVER_MS, LOOKS_AGAIN = 0.15, 2  # beside a mended click, where its last swings may still lie
TREBLE_HZ = 2500.0
TREBLE_HALF_S = 0.0025
LONGEST_REBUILT_S = 0.012
RING_LEAST_S = 0.00125  # of what is found of a click: shorter ones must be a single resonance
RING_GAP_S, MOST_PARTS = 0.004, 3  # found parts of a click of the mouth
CROWD_S, CROWD = 0.15, 4  # so many clicks so near are no clicks of a mouth
RING_SHARE, RING_ENERGY, RING_LOWS, RING_LOWS_HZ = 0.9, (0.5, 6.3), 0.05, 1000.0
"""When a click is a resonance: explained in the prediction error, with the energy of what is found, without lows. By these
none of 64 impulses of noise passes, and four in five of 205 mouth clicks."""
REACH_S = CONTEXT_S + 12 * GROUP_S  # what a repair looks at around its clicks


def mended(
    samples: NDArray[np.float32], stretches: Sequence[Stretch], by_hand: Sequence[Stretch], rate: int, *, rings: bool
) -> NDArray[np.float32]:
    """A channel with clicks put back.

    Parameters
    ----------
    samples : (n,) float32
    stretches : what is mended, in samples
    by_hand : those of them that are taken as they are drawn
    rings : whether clicks may be short resonances
    """
    long = round(LONGEST_REBUILT_S * rate)
    stretches, by_hand = _as_they_lie(samples, stretches, by_hand, rate, long)
    short = [s for s in stretches if s[1] - s[0] <= long]
    drawn = set(by_hand)
    quick = _roughly(samples, short, rate)
    out = quick.copy()
    for a, b in short:
        first, last, put_back = _corrected(samples, quick, a, b, rate, beside=(a, b) not in drawn)
        out[first:last] = put_back
    if rings:
        _without_rings(out, samples, quick, [s for s in short if s not in drawn], rate)
    for a, b in stretches:
        if b - a > long:
            out[a:b] = _calmed(out, a, b, rate)
    return out


def _as_they_lie(
    samples: NDArray[np.float32], stretches: Sequence[Stretch], by_hand: Sequence[Stretch], rate: int, long: int
) -> tuple[list[Stretch], list[Stretch]]:
    """All stretches and those by hand, the wide ones of these narrowed to the clicks that lie in them."""
    drawn = set(by_hand)
    lying = {s: clicks_marked(samples, *s, rate, long) or [s] for s in drawn if s[1] - s[0] > long}
    return [t for s in stretches for t in lying.get(s, [s])], [t for s in by_hand for t in lying.get(s, [s])]


def lowered(samples: NDArray[np.float32], stretches: Sequence[Stretch], db: float, rate: int) -> NDArray[np.float32]:
    """A channel with clicks lowered, their treble by twice as much, with soft edges."""
    out: NDArray[np.float32] = samples.copy()
    for a, b in stretches:
        out[a:b] = _lowered(samples, a, b, db, rate)
    return out


def roughly_mended(samples: NDArray[np.float32], stretches: Sequence[Stretch], rate: int) -> NDArray[np.float32]:
    """A channel (n,) with the stretches that are short enough interpolated: near to :func:`mended`, ten times as fast."""
    long = round(LONGEST_REBUILT_S * rate)
    return _roughly(samples, [s for s in stretches if s[1] - s[0] <= long], rate)


def _roughly(samples: NDArray[np.float32], short: Sequence[Stretch], rate: int) -> NDArray[np.float32]:
    """All clicks put back by interpolation, those near to each other together."""
    out: NDArray[np.float32] = samples.copy()
    context = round(CONTEXT_S * rate)
    for group in _groups(short, round(GROUP_S * rate)):
        first, last = max(0, group[0][0] - context), min(len(samples), group[-1][1] + context)
        missing = np.zeros(last - first, dtype=bool)
        for a, b in group:
            missing[a - first : b - first] = True
        x = out[first:last].astype(np.float64)
        made = interpolated(x, missing, order=FILL_ORDER)
        for _ in range(LOOKS_AGAIN):
            more = left_over(x, made, missing, order=FILL_ORDER, reach=max(2, round(LEFT_OVER_MS * rate / 1000.0)))
            if not more.any():
                break
            missing |= more
            made = interpolated(x, missing, order=FILL_ORDER)
        limit = 1.5 * float(np.abs(x[~missing]).max(initial=1e-9))
        out[first:last][missing] = np.clip(made[missing], -limit, limit)
    return out


def _without_rings(
    out: NDArray[np.float32], samples: NDArray[np.float32], quick: NDArray[np.float32], found: list[Stretch], rate: int
) -> None:
    """Clicks that are short resonances, taken out whole where this explains them; ``out`` is changed."""
    around = round(WIDE_CONTEXT_S * rate)
    starts = np.array([a for a, _b in found])
    for group in _groups(found, round(RING_GAP_S * rate)):
        company = int(np.sum(np.abs(starts - group[0][0]) < CROWD_S * rate))
        longest = max(b - a for a, b in group)
        if len(group) > MOST_PARTS or company > CROWD or longest < SHORT_S * rate:
            continue
        a, b = group[0][0], group[-1][1]
        low, high = max(0, a - around), min(len(samples), b + around)
        x = samples[low:high].astype(np.float64)
        fit = damped_part(x, model_of(quick[low:high].astype(np.float64), FILL_ORDER), a - low, b - low, rate)
        taken = np.zeros(high - low)
        for first, last in group:
            taken[first - low : last - low] = (samples[first:last] - out[first:last]).astype(np.float64)
        likely = fit.share if longest >= RING_LEAST_S * rate else fit.strongest
        if likely < RING_SHARE or not _is_a_ring(fit.wave, taken, rate):
            continue
        of_others = out[low:high] != samples[low:high]
        of_others[a - low : b - low] = False
        out[low:high] = np.where(of_others, out[low:high], (x - fit.wave).astype(np.float32))


def _is_a_ring(ring: NDArray[np.float64], taken: NDArray[np.float64], rate: int) -> bool:
    """Whether what was fitted has the energy that another repair takes, and none in the lows, where a fit can hide."""
    power = np.abs(np.fft.rfft(ring)) ** 2
    lows = float(power[: max(1, round(RING_LOWS_HZ * len(ring) / rate))].sum()) / max(float(power.sum()), 1e-30)
    energy = float(np.sum(ring**2)) / max(float(np.sum(taken**2)), 1e-30)
    return lows < RING_LOWS and RING_ENERGY[0] < energy < RING_ENERGY[1]


def _corrected(
    samples: NDArray[np.float32], quick: NDArray[np.float32], a: int, b: int, rate: int, *, beside: bool
) -> tuple[int, int, NDArray[np.float32]]:
    """Where a click may lie, and what stood there without it; ``quick`` is the channel with all clicks roughly mended."""
    more = min(max((b - a) // 3, 4), round(0.001 * rate)) if beside else 0
    first, last = max(0, a - more), min(len(samples), b + more)
    is_short = b - a <= round(SHORT_S * rate)
    around = round((CONTEXT_S if is_short else WIDE_CONTEXT_S) * rate)
    low, high = max(0, first - around), min(len(samples), last + around)
    guess = quick[low:high].astype(np.float64)
    x = guess.copy()
    x[first - low : last - low] = samples[first:last]
    missing = np.zeros(len(x), dtype=bool)
    missing[first - low : last - low] = True
    order = min(FILL_ORDER if is_short else round(WIDE_ORDER_S * rate), (len(x) - (last - first)) // 3)
    if order < FILL_ORDER:
        return first, last, quick[first:last]
    smoothing = min(max((b - a) // 8, 1), round(0.00025 * rate))
    made = without_disturbance(x, guess, missing, order=order, smoothing=smoothing, rounds=ROUNDS - is_short)
    return first, last, made[first - low : last - low].astype(np.float32)


def _groups(stretches: Sequence[Stretch], gap: int) -> list[list[Stretch]]:
    groups: list[list[Stretch]] = []
    for stretch in sorted(stretches):
        if groups and stretch[0] - groups[-1][-1][1] < gap and len(groups[-1]) < 12:
            groups[-1].append(stretch)
        else:
            groups.append([stretch])
    return groups


def _treble(samples: NDArray[np.float32], a: int, b: int, rate: int) -> NDArray[np.float32]:
    """What lies above TREBLE_HZ in a stretch, by a short symmetrical filter."""
    half = round(TREBLE_HALF_S * rate)
    n = np.arange(-half, half + 1)
    taps = 2 * TREBLE_HZ / rate * np.sinc(2 * TREBLE_HZ / rate * n) * np.hanning(2 * half + 3)[1:-1]
    taps /= taps.sum()
    first, last = a - half, b + half
    padded = np.zeros(last - first)
    low, high = max(0, first), min(len(samples), last)
    padded[low - first : high - first] = samples[low:high]
    return np.asarray(samples[a:b] - np.convolve(padded, taps, mode="valid"), dtype=np.float32)


def _calmed(samples: NDArray[np.float32], a: int, b: int, rate: int) -> NDArray[np.float32]:
    """A long one keeps its lows; its treble is brought to the level of the treble around it."""
    around = round(0.01 * rate)
    treble = _treble(samples, max(0, a - around), min(len(samples), b + around), rate)
    lead = a - max(0, a - around)
    inside = treble[lead : lead + b - a]
    outside = np.concatenate([treble[:lead], treble[lead + b - a :]])
    if not len(outside):
        return samples[a:b]
    share = min(1.0, float(np.sqrt((outside**2).mean() / max(float((inside**2).mean()), 1e-20))))
    return np.asarray(samples[a:b] - (1.0 - share) * inside * bump(b - a, max(2, (b - a) // 5)), dtype=np.float32)


def _lowered(samples: NDArray[np.float32], a: int, b: int, db: float, rate: int) -> NDArray[np.float32]:
    weight = bump(b - a, max(1, min(round(0.001 * rate), (b - a) // 4)))
    gain, treble_gain = db_to_gain(-db), db_to_gain(-2.0 * db)
    treble = _treble(samples, a, b, rate)
    low = samples[a:b] - treble
    return np.asarray(samples[a:b] + weight * (low * gain + treble * treble_gain - samples[a:b]), dtype=np.float32)
