# SPDX-License-Identifier: GPL-3.0-or-later
"""Gains per time-frequency bin that lower noise of a known spectrum under speech.

Symbols as in the papers: xi a-priori SNR, gamma a-posteriori SNR, v = xi gamma / (1 + xi).

References
----------
.. [1] Y. Ephraim, D. Malah, "Speech enhancement using a minimum mean-square error short-time
   spectral amplitude estimator", IEEE Trans. ASSP 32(6), 1984: the decision-directed xi.
.. [2] Y. Ephraim, D. Malah, "Speech enhancement using a minimum mean-square error log-spectral
   amplitude estimator", IEEE Trans. ASSP 33(2), 1985: the gain xi / (1 + xi) exp(E1(v) / 2).
.. [3] I. Cohen, "Optimal speech enhancement under signal presence uncertainty using log-spectral
   amplitude estimator", IEEE Signal Processing Letters 9(4), 2002: the presence probability from
   local, global and frame averages of xi, and the gain G_H1^p G_min^(1-p).
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache

import numpy as np
from numpy.typing import NDArray

_MANTISSA_BITS = 7
_SHIFT = 23 - _MANTISSA_BITS
BATCH = 32  # frames worked on at once: their matrices stay in the processor's cache
XI_LOW, XI_HIGH, XI_PEAK = 0.1, 10.0**-0.5, 1.0  # -10, -5, 0 dB: [3], table I
AVERAGED_XI_MAX = 30.0  # a bin this far above the noise settles any average it takes part in


@cache
def _half_e1_table() -> NDArray[np.float32]:
    """exp(E1(v) / 2) for every float32 v >= 0 rounded to 7 bits of mantissa."""
    from scipy.special import exp1

    return np.asarray(np.exp(0.5 * exp1(_table_points())), dtype=np.float32)


@cache
def _estimated_power_table() -> NDArray[np.float32]:
    """V exp(E1(v)): with the Wiener gain before it, the squared amplitude estimate over lambda."""
    from scipy.special import exp1

    v = _table_points()
    return np.asarray(v * np.exp(exp1(v)), dtype=np.float32)


def _table_points() -> NDArray[np.float64]:
    codes = (np.arange(1 << (8 + _MANTISSA_BITS), dtype=np.int32) << _SHIFT) | (1 << (_SHIFT - 1))
    with np.errstate(all="ignore"):
        v = np.nan_to_num(codes.view(np.float32).astype(np.float64), nan=1e30, posinf=1e30)
    return np.clip(v, 1e-10, 1e12)


def log_mmse_gain(xi: NDArray[np.float32], gamma: NDArray[np.float32]) -> NDArray[np.float32]:
    """Log-spectral amplitude gain of [2], from a table with 0.04 dB of error at most.

    Parameters
    ----------
    xi, gamma : arrays of one shape, float32, positive
    """
    wiener = xi / (1.0 + xi)
    v = np.ascontiguousarray(wiener * gamma)
    return np.asarray(wiener * _half_e1_table()[v.view(np.int32) >> _SHIFT], dtype=np.float32)


@dataclass(slots=True)
class GainState:
    """What one batch of frames hands to the next."""

    past: NDArray[np.float32] | None = None  # alpha times the last squared amplitude over lambda
    zeta: NDArray[np.float32] | None = None  # the last smoothed xi


def noise_gain(
    gamma: NDArray[np.float32], *, alpha: float, xi_min: float, lowest: float | NDArray[np.float32], bin_hz: float
) -> NDArray[np.float32]:
    """Gain of [3], equation (8): G_H1^p G_min^(1-p), never above 1.

    Parameters
    ----------
    gamma : (frames, bins) float32
        A-posteriori SNR. The estimates start from rest: feed some frames of lead-in.
    alpha : 0..1
        Weight of the previous frame's estimate in xi.
    xi_min : power ratio
    lowest : amplitude factor G_min, one or one per bin
    bin_hz : distance of bins

    Returns
    -------
    (frames, bins) float32 in lowest..1
    """
    gains = np.empty_like(gamma)
    low = np.asarray(lowest, dtype=np.float32)
    inverse = np.float32(1.0) / low
    state = GainState()
    for first in range(0, len(gamma), BATCH):
        part = gamma[first : first + BATCH]
        gain = gains[first : first + BATCH]
        xi = decision_directed(part, state, alpha=alpha, xi_min=xi_min)
        wiener = xi + np.float32(1.0)
        np.divide(xi, wiener, out=wiener)
        v = wiener * part
        presence = presence_probability(xi, v, state, bin_hz=bin_hz)
        codes = v.view(np.int32)
        np.right_shift(codes, _SHIFT, out=codes)
        _half_e1_table().take(codes, out=gain, mode="clip")
        gain *= wiener
        np.clip(gain, low, np.float32(1.0), out=gain)
        gain *= inverse
        np.log(gain, out=gain)
        gain *= presence
        np.exp(gain, out=gain)
        gain *= low
    return gains


def amplitude_gain(
    gamma: NDArray[np.float32], *, alpha: float, xi_min: float, lowest: NDArray[np.float32]
) -> NDArray[np.float32]:
    """Gain of [2] alone, in lowest..1: where little is taken away, no presence has to be weighed.

    Parameters
    ----------
    gamma : (frames, bins) float32
    alpha, xi_min, lowest
        As for :func:`noise_gain`.
    """
    gains = np.empty_like(gamma)
    state = GainState()
    for first in range(0, len(gamma), BATCH):
        part = gamma[first : first + BATCH]
        xi = decision_directed(part, state, alpha=alpha, xi_min=xi_min)
        gains[first : first + BATCH] = log_mmse_gain(xi, part)
    return np.clip(gains, lowest, np.float32(1.0), out=gains)


def decision_directed(
    gamma: NDArray[np.float32], state: GainState, *, alpha: float, xi_min: float
) -> NDArray[np.float32]:
    """A-priori SNR of [1], equation (51), with the amplitude estimated by [2].

    Parameters
    ----------
    gamma : (frames, bins) float32
    state
        Carries the last frame's estimate from batch to batch; written to.
    alpha, xi_min
        As for :func:`noise_gain`.

    Returns
    -------
    (frames, bins) float32
    """
    table = _estimated_power_table() * np.float32(alpha)
    fresh = gamma - np.float32(1.0)
    np.clip(fresh, np.float32(0.0), None, out=fresh)
    bins = gamma.shape[1]
    past = fresh[0] * np.float32(alpha) if state.past is None else state.past
    fresh *= np.float32(1.0 - alpha)
    wiener, v = np.empty(bins, np.float32), np.empty(bins, np.float32)
    bits, codes = v.view(np.int32), np.empty(bins, np.int32)
    one, low = np.float32(1.0), np.full(bins, xi_min, np.float32)
    for xi, gamma_k in zip(fresh, gamma, strict=True):
        np.add(xi, past, out=xi)
        np.maximum(xi, low, out=xi)
        np.add(xi, one, out=wiener)
        np.divide(xi, wiener, out=wiener)
        np.multiply(wiener, gamma_k, out=v)
        np.right_shift(bits, _SHIFT, out=codes)
        table.take(codes, out=past, mode="clip")
        np.multiply(past, wiener, out=past)
    state.past = past
    return fresh


def presence_probability(
    xi: NDArray[np.float32], v: NDArray[np.float32], state: GainState, *, bin_hz: float
) -> NDArray[np.float32]:
    """Probability that speech is present in each bin, after [3], equations (16) to (28).

    Parameters
    ----------
    xi, v : (frames, bins) float32
    state
        Carries the smoothed xi from batch to batch; written to.
    bin_hz : distance of bins

    Returns
    -------
    (frames, bins) float32
    """
    odds = np.minimum(v, np.full(v.shape[1], 60.0, np.float32))
    np.negative(odds, out=odds)
    np.exp(odds, out=odds)
    odds *= xi + np.float32(1.0)

    zeta = np.minimum(xi, np.full(xi.shape[1], AVERAGED_XI_MAX, np.float32))
    _smooth_over_time(zeta, 0.7, state)
    top = max(2, min(xi.shape[1], round(8000.0 / bin_hz)))
    frame_p = _between(zeta[:, :top].mean(axis=1, dtype=np.float32), XI_LOW, XI_PEAK)
    sums = _running_sums(zeta)
    present = _between(_window_means(sums, max(1, round(50.0 / bin_hz))), XI_LOW, XI_HIGH)
    present *= _between(_window_means(sums, max(2, round(450.0 / bin_hz))), XI_LOW, XI_HIGH)
    present *= frame_p[:, None]
    # q = 1 - present, at most 0.95
    np.maximum(present, np.full(present.shape[1], 0.05, np.float32), out=present)
    odds *= np.float32(1.0) - present
    present /= odds + present
    return present


def _smooth_over_time(x: NDArray[np.float32], beta: float, state: GainState) -> None:
    last = x[0].copy() if state.zeta is None else state.zeta
    x *= np.float32(1.0 - beta)
    step, weight = np.empty(x.shape[1], np.float32), np.float32(beta)
    for row in x:
        np.multiply(last, weight, out=step)
        np.add(row, step, out=row)
        last = row
    state.zeta = last.copy()


def _running_sums(x: NDArray[np.float32]) -> NDArray[np.float32]:
    sums = np.zeros((x.shape[0], x.shape[1] + 1), dtype=np.float32)
    np.cumsum(x, axis=1, out=sums[:, 1:])
    return sums


def _window_means(sums: NDArray[np.float32], half: int) -> NDArray[np.float32]:
    """Mean over 2 half + 1 bins from running sums, over fewer at the edges."""
    bins = sums.shape[1] - 1
    half = min(half, bins - 1)
    padded = np.empty((sums.shape[0], bins + 1 + 2 * half), dtype=np.float32)
    padded[:, half : half + bins + 1] = sums
    padded[:, :half] = 0.0
    padded[:, half + bins + 1 :] = sums[:, -1:]
    index = np.arange(bins)
    count = np.minimum(index + half + 1, bins) - np.maximum(index - half, 0)
    means = padded[:, 2 * half + 1 :] - padded[:, :bins]
    means *= (1.0 / count).astype(np.float32)
    return means


def _between(x: NDArray[np.float32], low: float, high: float) -> NDArray[np.float32]:
    """0 below ``low``, 1 above ``high``, linear in dB between them; all powers."""
    x = np.clip(x, np.float32(low), np.float32(high))
    np.log(x, out=x)
    x -= np.float32(np.log(low))
    x *= np.float32(1.0 / np.log(high / low))
    return x
