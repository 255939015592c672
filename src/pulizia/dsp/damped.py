# SPDX-License-Identifier: GPL-3.0-or-later
"""Short resonances that were set off inside a voice, as a click of the mouth does: found, and told from what lies under them.

Matching pursuit (S. Mallat, Z. Zhang, "Matching pursuits with time-frequency dictionaries", IEEE Trans. Signal
Processing 41(12), 1993) with damped sinusoids (M. Goodwin, M. Vetterli, "Matching pursuit and damped sinusoids",
ICASSP 1997), compared in the prediction error of the voice, where the voice is nearly white and the click stands out.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cache, lru_cache

import numpy as np
from numpy.typing import NDArray

from pulizia.dsp.autoregression import ROBUST
from pulizia.dsp.fourier import fast_length

TAUS_S = (0.00025, 0.0004, 0.0006, 0.0009, 0.0013, 0.0019, 0.0028)
LOWEST_HZ, HIGHEST_HZ = 1200.0, 9000.0
LASTS, BEGINS = 5.0, 6.0  # time constants that an atom lasts; places a time constant at which it may begin
FINENESS = 0.5  # of its bandwidth: how far apart its frequencies are
MOST, LEAST_OVER = 3, 60.0  # resonances of a click; energy over that of one usual sample from which one counts
BEFORE_S = 0.001
ROUNDS, LEAST_GAIN = 5, 1e-4
LONGEST_MODEL = 64
FEW = 32  # powers of one step that are multiplied with powers of many
NEAR = 10  # samples around a guess at which the resonance may begin


@dataclass(frozen=True, slots=True)
class _Atoms:
    """Damped sinusoids of one time constant."""

    tau: float  # samples
    radians: NDArray[np.float64]  # (atoms,) a sample
    wave: NDArray[np.complex128]  # (samples, atoms), conjugated
    powers: NDArray[np.float64]  # (atoms, bins) of their spectra, over the number of bins
    stride: int


@dataclass(frozen=True, slots=True)
class _Resonance:
    start: int
    radians: float  # a sample
    tau: float  # samples


@dataclass(frozen=True, slots=True)
class Resonances:
    """What was fitted, and what share of the disturbance it is: all of it, and its strongest alone.

    ``wave`` (n,) is 0 before the first resonance; the shares (0..1) are of the energy of the prediction error over what is usual.
    """

    wave: NDArray[np.float64]
    share: float
    strongest: float


@cache
def _dictionary(rate: int) -> tuple[_Atoms, ...]:
    made = []
    for tau_s in TAUS_S:
        tau = tau_s * rate
        highest = min(HIGHEST_HZ, 0.45 * rate)
        hz = np.arange(min(LOWEST_HZ, 0.5 * highest), highest, FINENESS / (np.pi * tau_s))
        radians = 2.0 * np.pi * hz / rate
        n = np.arange(max(2, round(LASTS * tau)))
        wave = np.exp((-1.0 / tau - 1j * radians[None, :]) * n[:, None])
        bins = fast_length(len(n) + LONGEST_MODEL)
        powers = np.abs(np.fft.fft(wave.conj(), bins, axis=0).T) ** 2 / bins
        made.append(_Atoms(tau, radians, wave, powers, max(1, round(tau / BEGINS))))
    return tuple(made)


def damped_part(x: NDArray[np.float64], model: NDArray[np.float64], onset: int, end: int, rate: int) -> Resonances:
    """The resonances that begin in [onset, end) of a stretch.

    Parameters
    ----------
    x : (n,) the stretch
    model : (order + 1,) prediction coefficients of what lies under the click, a0 = 1
    onset, end : samples
    """
    order, n = len(model) - 1, len(x)
    first = max(order, onset - round(BEFORE_S * rate))
    error = np.convolve(x, model)[:n]
    error[:order] = 0.0
    beside = np.concatenate([error[order:first], error[min(n, end + order) :]])
    usual = (float(np.median(np.abs(beside))) * ROBUST) ** 2 if len(beside) else 0.0
    disturbed = float(np.sum(error[first:end] ** 2)) - usual * (end - first)
    if disturbed <= LEAST_OVER * usual or end - first < 2:
        return Resonances(np.zeros(n), 0.0, 0.0)
    found: list[_Resonance] = []
    waves: list[NDArray[np.float64]] = []
    before, first_taken = float(np.sum(error**2)), 0.0
    for _ in range(MOST):
        guess = _guessed(error, model, first, end, rate)
        if guess is None:
            break
        taken, better, wave = _refined(error, model, first, rate, guess)
        if taken < LEAST_OVER * usual:
            break
        first_taken = first_taken if found else taken
        found.append(better)
        waves.append(wave)
        error -= np.convolve(wave, model)[:n]
        for k in range(len(found) if len(found) > 1 else 0):  # each again beside the others
            error += np.convolve(waves[k], model)[:n]
            _, found[k], waves[k] = _refined(error, model, first, rate, found[k])
            error -= np.convolve(waves[k], model)[:n]
    if not waves:
        return Resonances(np.zeros(n), 0.0, 0.0)
    share = (before - float(np.sum(error**2))) / disturbed
    return Resonances(np.sum(waves, axis=0), min(1.0, share), min(1.0, first_taken / disturbed))


def _guessed(
    error: NDArray[np.float64], model: NDArray[np.float64], first: int, end: int, rate: int
) -> _Resonance | None:
    """The atom beginning in [first, end) that takes most energy out of a prediction error."""
    n, order = len(error), len(model) - 1
    towards = np.convolve(error, model[::-1])[order:]  # its product with every sample's own response
    most, best = 0.0, None
    for atoms in _dictionary(rate):
        length = len(atoms.wave)
        part = np.concatenate([towards[first : end + length], np.zeros(max(0, end + length - n))])
        seen = np.lib.stride_tricks.sliding_window_view(part, length)[: end - first : atoms.stride]
        energy = atoms.powers @ (np.abs(np.fft.fft(model, atoms.powers.shape[1])) ** 2)
        taken = 2.0 * np.abs(seen @ atoms.wave) ** 2 / energy
        k, atom = np.unravel_index(int(np.argmax(taken)), taken.shape)
        if taken[k, atom] > most:
            most = float(taken[k, atom])
            best = _Resonance(first + int(k) * atoms.stride, float(atoms.radians[atom]), atoms.tau)
    return best


def _refined(
    error: NDArray[np.float64], model: NDArray[np.float64], first: int, rate: int, guess: _Resonance
) -> tuple[float, _Resonance, NDArray[np.float64]]:
    """A resonance with its beginning, frequency and time constant searched around a guess."""
    atoms = _dictionary(rate)
    lowest, highest = atoms[-1].radians[0], atoms[-1].radians[-1]
    shortest, longest = 0.8 * atoms[0].tau, 1.25 * atoms[-1].tau
    best, taken = guess, _taken(error, model, guess)[0]
    for start in range(max(first, guess.start - NEAR), guess.start + NEAR + 1):
        near = _Resonance(start, guess.radians, guess.tau)
        more, _, _ = _taken(error, model, near)
        if more > taken:
            taken, best = more, near
    for k in range(ROUNDS):
        turn, stretch = 0.3 / best.tau / 2**k, 1.25 ** (0.5**k)
        moved = True
        while moved:
            moved = False
            for tried in (
                _Resonance(best.start, best.radians + turn, best.tau), _Resonance(best.start, best.radians - turn, best.tau),
                _Resonance(best.start, best.radians, best.tau * stretch), _Resonance(best.start, best.radians, best.tau / stretch),
                _Resonance(max(first, best.start - 1), best.radians, best.tau), _Resonance(best.start + 1, best.radians, best.tau),
            ):  # fmt: skip
                if not (lowest <= tried.radians <= highest and shortest <= tried.tau <= longest):
                    continue
                more, _, _ = _taken(error, model, tried)
                if more > taken * (1.0 + LEAST_GAIN):
                    taken, best, moved = more, tried, True
    return taken, best, _wave(error, model, best)


def _taken(error: NDArray[np.float64], model: NDArray[np.float64], resonance: _Resonance) -> tuple[float, float, float]:
    """What one damped sinusoid takes out of the energy of a prediction error; the weights of its sine and its cosine."""
    start = resonance.start
    length = min(round((LASTS + 2.0) * resonance.tau), len(error) - start)
    if length < 2:
        return 0.0, 0.0, 0.0
    seen, (cc, cs, ss) = _predicted(resonance.radians, resonance.tau, length, model.tobytes())
    if len(seen) > len(error) - start:
        seen = seen[: len(error) - start]
        cc, cs, ss = _products(seen)
    c, s = (error[start : start + len(seen)] @ seen).tolist()
    little = 1e-9 * (cc + ss)
    cosine, sine = c * (ss + little) - s * cs, s * (cc + little) - c * cs  # of the best fit, both times the determinant
    late = math.atan2(cosine, sine) % math.pi  # a resonance begins at rest, at most one sample before
    if late > resonance.radians:
        late = 0.0 if late > 0.5 * (math.pi + resonance.radians) else resonance.radians
    a, b = math.sin(late), math.cos(late)
    energy = a * a * cc + 2.0 * a * b * cs + b * b * ss
    weight = (a * c + b * s) / max(energy, 1e-30)
    return weight**2 * energy, weight * a, weight * b


@lru_cache(maxsize=64)
def _predicted(
    radians: float, tau: float, length: int, model: bytes
) -> tuple[NDArray[np.float64], tuple[float, float, float]]:
    """(length + order, 2) prediction error of a damped cosine and sine, and its products."""
    seen = np.convolve(_decay(radians, tau, length), np.frombuffer(model)).view(np.float64).reshape(-1, 2)
    return seen, _products(seen)


def _products(seen: NDArray[np.float64]) -> tuple[float, float, float]:
    (cc, cs), (_, ss) = (seen.T @ seen).tolist()
    return cc, cs, ss


def _decay(radians: float, tau: float, length: int) -> NDArray[np.complex128]:
    """A damped exponential: products of few powers, since each exponential costs much more than a product."""
    step = -1.0 / tau + 1j * radians
    coarse = np.exp(step * np.arange(0, length, FEW))
    made: NDArray[np.complex128] = (coarse[:, None] * np.exp(step * np.arange(FEW))).ravel()[:length]
    return made


def _wave(error: NDArray[np.float64], model: NDArray[np.float64], resonance: _Resonance) -> NDArray[np.float64]:
    """The damped sinusoid that fits best, over the whole stretch."""
    _, cosine, sine = _taken(error, model, resonance)
    wave = np.zeros(len(error))
    length = min(round((LASTS + 2.0) * resonance.tau), len(error) - resonance.start)
    if length >= 2:
        decay = _decay(resonance.radians, resonance.tau, length)
        wave[resonance.start : resonance.start + length] = cosine * decay.real + sine * decay.imag
    return wave
