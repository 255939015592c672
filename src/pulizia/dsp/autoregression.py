# SPDX-License-Identifier: GPL-3.0-or-later
"""Linear prediction: models of short stretches, their prediction error, and samples put back from them.

S. J. Godsill and P. J. W. Rayner, "Digital Audio Restoration" (1998): detection by the prediction error
and its matched filter. A. J. E. M. Janssen, R. N. J. Veldhuis and L. B. Vries, "Adaptive interpolation of
discrete-time signals that can be modeled as autoregressive processes", IEEE Trans. ASSP 34(2), 1986: the
missing samples that make the prediction error smallest, with the model estimated again from the result.
Convention: x[n] = -a1 x[n-1] - ... + e[n], a0 = 1.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from pulizia.dsp.fourier import fast_length, irfft, rfft

RIDGE = 1e-7  # of the power, added to lag 0: keeps models of pure tones solvable
THIN = 3  # of the samples that a median is taken of: 680 of 2048 fix it to 2 %
ROBUST = 1.482602  # sigma of a Gaussian over the median of its absolute value
MOST_SILENT = 0.02  # of a frame
LEFT_SIGMAS, LEFT_SHARE = 6.0, 0.06


def models(frames: NDArray[np.float32], order: int) -> NDArray[np.float64]:
    """(frames, order + 1) coefficients by the autocorrelation method, Levinson-Durbin for all frames at once.

    Parameters
    ----------
    frames : (count, n) float32, windowed already
    """
    size = fast_length(frames.shape[1] + order)  # so far lags up to the order do not meet the other end
    spectrum = rfft(frames, size)
    power = spectrum.real**2 + spectrum.imag**2
    r = irfft(power, size)[:, : order + 1].astype(np.float64)
    r[:, 0] = r[:, 0] * (1.0 + RIDGE) + 1e-12
    a = np.zeros((len(frames), order + 1))
    a[:, 0] = 1.0
    error = r[:, 0].copy()
    for m in range(1, order + 1):
        k = -(a[:, :m] * r[:, m:0:-1]).sum(axis=1) / error
        k = np.minimum(np.maximum(k, -0.99999), 0.99999)
        previous = a[:, : m + 1].copy()
        a[:, 1 : m + 1] = previous[:, 1 : m + 1] + k[:, None] * previous[:, m - 1 :: -1][:, :m]
        error *= 1.0 - k**2
    return a


def detection(
    frames: NDArray[np.float32], a: NDArray[np.float64], floor: NDArray[np.float32] | None = None
) -> NDArray[np.float32]:
    """The prediction error through its matched filter, in robust sigmas of each frame; same shape.

    A click of one sample stands out by 10 log10(sum a^2) more than in the error alone. The first and
    last ``order`` samples of each frame lack context. ``floor`` (frames,) is the amplitude of a click that
    counts as one sigma at least: what is too quiet to be heard beside the sound does not stand out.
    """
    size = fast_length(frames.shape[1] + 2 * a.shape[1])
    spectrum = rfft(frames, size)
    response = rfft(a.astype(np.float32), size)
    matched = irfft(spectrum * (response.real**2 + response.imag**2), size)[:, : frames.shape[1]]
    thinned = np.abs(matched[:, ::THIN])
    scale = np.median(thinned, axis=1, keepdims=True) * ROBUST
    silent = frames[:, ::THIN] == 0.0
    for row in np.flatnonzero(silent.mean(axis=1) > MOST_SILENT):  # digital silence has no say in what is usual
        sounding = thinned[row, ~silent[row]]
        scale[row] = np.median(sounding) * ROBUST if len(sounding) else 0.0
    if floor is not None:
        scale = np.maximum(scale, (floor * np.sum(a * a, axis=1)).astype(np.float32)[:, None])
    return np.asarray(matched / np.maximum(scale, 1e-9), dtype=np.float32)


def model_of(x: NDArray[np.float64], order: int, ridge: float = RIDGE) -> NDArray[np.float64]:
    """Coefficients of one stretch, Hann-windowed; ``ridge`` is the share of its power that cannot be predicted."""
    from scipy.linalg import solve_toeplitz

    size = fast_length(len(x) + order + 1)
    r = np.fft.irfft(np.abs(np.fft.rfft(x * _window(len(x)), size)) ** 2, size)[: order + 1]
    r[0] = r[0] * (1.0 + ridge) + 1e-12
    return np.concatenate([[1.0], -solve_toeplitz(r[:order], r[1:], check_finite=False)])


@lru_cache(maxsize=256)
def _window(count: int) -> NDArray[np.float64]:
    """(count,) Hann without its zeros; clicks of one length ask for the same one again."""
    made = np.hanning(count + 2)[1:-1]
    made.flags.writeable = False
    return made


def _quantiles(values: NDArray[np.float64], *shares: float) -> list[float]:
    """Quantiles of a short array of numbers, linear between two of them; NumPy's own spends longer on axes and NaN."""
    last = len(values) - 1
    places = [(int(last * share), min(int(last * share) + 1, last), last * share % 1.0) for share in shares]
    ordered = np.partition(values, sorted({n for low, high, _ in places for n in (low, high)}))
    return [float(ordered[low] + part * (ordered[high] - ordered[low])) for low, high, part in places]


def fill(
    x: NDArray[np.float64],
    missing: NDArray[np.bool_],
    a: NDArray[np.float64],
    trust: NDArray[np.float64] | None = None,
) -> NDArray[np.float64]:
    """The stretch with missing samples put where the prediction error of a known model is smallest.

    ``trust`` (missing samples,) says how far each of them is held to what stands in ``x``: the variance of the
    prediction error over that of the disturbance at this sample. None holds them to nothing.
    """
    from scipy.linalg import solveh_banded

    order = len(a) - 1
    b = np.correlate(a, a, mode="full")[order:]  # b[k] = sum a[i] a[i + k]
    at = np.flatnonzero(missing)
    low, high = max(0, int(at[0]) - order), min(len(x), int(at[-1]) + order + 1)
    known = np.where(missing[low:high], 0.0, x[low:high])
    kernel = np.concatenate([b[:0:-1], b])
    right = -np.convolve(known, kernel, mode="full")[order : order + len(known)][at - low]
    banded = np.zeros((min(order, len(at) - 1) + 1, len(at)))  # row k: products of samples k places apart in the list
    if at[-1] - at[0] == len(at) - 1:  # in one piece
        banded[:] = b[: len(banded), None]
    else:
        beyond = np.append(at, np.full(len(banded) - 1, at[-1] + order + 1))
        apart = np.lib.stride_tricks.sliding_window_view(beyond, len(banded)).T - at
        banded = np.append(b, 0.0)[np.minimum(apart, order + 1)]
    banded[0] *= 1.0 + 1e-9
    if trust is not None:
        banded[0] += trust
        right = right + trust * x[at]
    out = x.copy()
    out[at] = solveh_banded(banded, right, lower=True, check_finite=False)
    return out


def left_over(
    x: NDArray[np.float64], made: NDArray[np.float64], missing: NDArray[np.bool_], *, order: int, reach: int
) -> NDArray[np.bool_]:
    """Samples beside missing ones that do not belong to the sound either: the end of a click that was found too short.

    They stand out of the prediction error of the mended stretch by LEFT_SIGMAS, above the pulses around (all but
    one in 200 of the known samples) and by LEFT_SHARE of what was replaced.

    Parameters
    ----------
    x, made : (n,) the stretch as it was, and with the missing samples put back
    reach : how far beside the missing ones to look
    """
    good = np.flatnonzero(~missing)
    if not len(good):
        return np.zeros(len(x), dtype=bool)
    a = model_of(made, min(order, len(good) // 3))
    error = np.abs(np.convolve(made, a)[: len(made)])
    error[:order] = 0.0
    taken = float(np.abs(x - made).max())
    middle, highest = _quantiles(error[good], 0.5, 0.995)
    usual = max(middle * ROBUST * LEFT_SIGMAS, highest)
    out = np.zeros(len(x), dtype=bool)
    high = (error > max(usual, LEFT_SHARE * taken)) & ~missing
    edges = np.flatnonzero(np.diff(missing.astype(np.int8)))
    for edge in edges.tolist():
        if missing[edge]:  # behind what is missing
            places = np.flatnonzero(high[edge + 1 : edge + 1 + reach])
            if len(places):
                out[edge + 1 : edge + 2 + places[-1]] = True
        else:
            places = np.flatnonzero(high[max(0, edge + 1 - reach) : edge + 1])
            if len(places):
                out[max(0, edge + 1 - reach) + places[0] : edge + 1] = True
    return out & ~missing


def interpolated(
    x: NDArray[np.float64], missing: NDArray[np.bool_], *, order: int, rounds: int = 2
) -> NDArray[np.float64]:
    """Missing samples from what surrounds them; the model is learned from the result again."""
    at = np.flatnonzero(missing)
    if not len(at) or missing.all():
        return x
    good = np.flatnonzero(~missing)
    made = x.copy()
    made[at] = np.interp(at, good, x[good])
    for _ in range(rounds):
        made = fill(made, missing, model_of(made, min(order, len(good) // 3)))
    return made


def without_disturbance(
    x: NDArray[np.float64],
    first_guess: NDArray[np.float64],
    missing: NDArray[np.bool_],
    *,
    order: int,
    smoothing: int,
    rounds: int,
) -> NDArray[np.float64]:
    """A stretch without a disturbance that was added to it: loud samples of it are put back, faint ones only corrected.

    The disturbance is Gaussian with a variance of its own at every sample (Godsill and Rayner 1998, chapter 5: the
    additive noise model), which is the smoothed square of what the last guess takes away.

    Parameters
    ----------
    x, first_guess : (n,) the stretch as it is, and with its missing samples put back
    missing : (n,) where the disturbance may lie
    smoothing : samples to both sides over which its variance is smoothed
    """
    at = np.flatnonzero(missing)
    kernel = _window(2 * smoothing + 1)
    kernel = kernel / kernel.sum()
    clean = ~missing
    clean[:order] = False
    clean[at[0] : at[-1] + order + 1] = False
    made = first_guess
    for _ in range(rounds):
        a = model_of(made, order)
        error = np.convolve(made, a)[: len(made)]
        seen = error[clean] if clean.sum() > order else error[order:]
        usual = (_quantiles(np.abs(seen), 0.5)[0] * ROBUST) ** 2
        taken = np.where(missing, (x - made) ** 2, 0.0)
        variance = np.convolve(np.pad(taken, smoothing, mode="edge"), kernel, mode="valid")[at]
        made = fill(x, missing, a, max(usual, 1e-14) / (variance + 1e-16))
    return made
