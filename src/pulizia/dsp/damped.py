# SPDX-License-Identifier: GPL-3.0-or-later
"""Short resonances that were set off inside a voice, as a click of the mouth does: found, and told from what lies under them.

Matching pursuit (S. Mallat, Z. Zhang, "Matching pursuits with time-frequency dictionaries", IEEE Trans. Signal
Processing 41(12), 1993) with damped sinusoids (M. Goodwin, M. Vetterli, "Matching pursuit and damped sinusoids",
ICASSP 1997), compared in the prediction error of the voice, where the voice is nearly white and the click stands out.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache

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
    best, atoms = guess, _dictionary(rate)
    lowest, highest = atoms[-1].radians[0], atoms[-1].radians[-1]
    shortest, longest = 0.8 * atoms[0].tau, 1.25 * atoms[-1].tau
    taken, wave = _fitted(error, model, best)
    for start in range(max(first, guess.start - NEAR), guess.start + NEAR + 1):
        near = _Resonance(start, guess.radians, guess.tau)
        more, other = _fitted(error, model, near)
        if more > taken:
            taken, wave, best = more, other, near
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
                more, other = _fitted(error, model, tried)
                if more > taken * (1.0 + LEAST_GAIN):
                    taken, wave, best, moved = more, other, tried, True
    return taken, best, wave


def _fitted(
    error: NDArray[np.float64], model: NDArray[np.float64], resonance: _Resonance
) -> tuple[float, NDArray[np.float64]]:
    """What one damped sinusoid takes out of the energy of a prediction error at its best amplitude and phase, and itself."""
    start, tau = resonance.start, resonance.tau
    length = min(round((LASTS + 2.0) * tau), len(error) - start)
    wave = np.zeros(len(error))
    if length < 2:
        return 0.0, wave
    decay = np.exp((-1.0 / tau + 1j * resonance.radians) * np.arange(length))
    seen = np.convolve(decay, model)[: len(error) - start]
    both = np.stack([seen.real, seen.imag])
    products = both @ both.T
    towards = both @ error[start : start + len(seen)]
    cosine, sine = np.linalg.solve(products + 1e-9 * np.trace(products) * np.eye(2), towards)
    late = np.arctan2(cosine, sine) % np.pi  # a resonance begins at rest, at most one sample before
    late = (
        late if late <= resonance.radians else (0.0 if late > 0.5 * (np.pi + resonance.radians) else resonance.radians)
    )
    shape = np.array([np.sin(late), np.cos(late)])
    energy = float(shape @ products @ shape)
    weight = float(shape @ towards) / max(energy, 1e-30)
    wave[start : start + length] = weight * (shape[0] * decay.real + shape[1] * decay.imag)
    return weight**2 * energy, wave
