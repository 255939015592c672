# SPDX-License-Identifier: GPL-3.0-or-later
"""Steady tones taken out from under a voice: each as a sinusoid whose amplitude may jump, but not waver.

The sound is demodulated at the tone's pitch; what stays still there is the tone, what turns past it is the voice. A
running median (edge preserving: N. Gallagher, G. Wise, "A theoretical analysis of the properties of median filters",
IEEE Trans. ASSP 29(6), 1981) tells where a ring begins and ends and drops what is shorter than half of it. How it begins and ends
is then read from a shorter look, in the phase that the ring has, as the curve that only rises or only falls and fits best
(isotonic regression: M. Ayer et al., "An empirical distribution function for sampling with incomplete information", Annals
of Mathematical Statistics 26(4), 1955).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.dsp.moments import runs

STEPS_PER_S, FINE = 500, 4  # looks; fine ones in each, for beginnings and ends
EDGE_LOOK_S = 0.0025  # of the average, at beginnings and ends
EDGE_S, INSIDE_S = 0.03, (0.02, 0.1)  # how far beside a beginning it may lie, and where behind it the ring stands
LOOK_S = 0.01  # of the moving average before the median, applied twice
STILL_S = 0.14  # the median's reach: two pitch periods and more, and shorter than a ring
SURE, UNSURE = 1.6, 0.8  # of the median over how far single looks lie from it
MOST_TURN_HZ = 4.0  # how far the pitch may be off at first


@dataclass(frozen=True, slots=True)
class ToneLine:
    """A tone from frame ``start`` on: its pitch in Hz and its complex amplitude every ``step`` frames, per channel."""

    start: int
    step: int
    hz: float
    amplitude: NDArray[np.complex64]  # (channels, looks)

    @property
    def stop(self) -> int:
        """The frame behind its end."""
        return self.start + (int(self.amplitude.shape[1]) - 1) * self.step


def tone_lines(samples: Samples, start: int, rate: int, pitches_hz: Sequence[float]) -> list[ToneLine]:
    """The tones of these pitches in a stretch that begins at frame ``start``: (channels, frames) float32."""
    frames = samples.shape[1]
    left = samples.astype(np.float64)
    lines: list[ToneLine] = []
    for hz in pitches_hz:
        lines.append(_line(left, start, rate, hz))
        left -= sounding(lines[-1], start, frames, rate)
    if len(lines) > 1:  # heard once more, each without the others
        for n, line in enumerate(lines):
            left += sounding(line, start, frames, rate)
            lines[n] = _line(left, start, rate, line.hz)
            left -= sounding(lines[n], start, frames, rate)
    return lines


def _line(samples: NDArray[np.float64], start: int, rate: int, hz: float) -> ToneLine:
    from scipy.ndimage import median_filter

    step = max(1, rate // STEPS_PER_S)
    still = _demodulated(samples, rate, hz, step)
    turn = _turn_hz(still, rate / step)
    if abs(turn) > 0.05:
        hz += turn
        still = _demodulated(samples, rate, hz, step)
    reach = 2 * round(STILL_S * rate / step / 2) + 1
    middle = median_filter(still.real, (1, reach)) + 1j * median_filter(still.imag, (1, reach))
    apart = median_filter(np.abs(still - middle), (1, 2 * reach + 1))
    share = np.clip((np.abs(middle) / np.maximum(apart, 1e-9) - UNSURE) / (SURE - UNSURE), 0.0, 1.0)
    fine = max(1, step // FINE)
    looks = np.arange(middle.shape[1]) * step
    at = np.arange(looks[-1] // fine + 1) * fine
    amplitude = np.stack([np.interp(at, looks, m.real) + 1j * np.interp(at, looks, m.imag) for m in middle * share])
    quick = _demodulated(samples, rate, hz, fine, EDGE_LOOK_S)
    for channel in range(len(amplitude)):
        _with_edges(amplitude[channel], quick[channel], rate / fine)
    return ToneLine(start, fine, hz, amplitude.astype(np.complex64))


def _with_edges(amplitude: NDArray[np.complex128], quick: NDArray[np.complex128], looks_per_s: float) -> None:
    """Give each ring the beginning and end that a shorter look shows; ``amplitude`` (looks,) is changed."""
    from scipy.optimize import isotonic_regression

    level = np.abs(amplitude)
    beside, near, far = (round(s * looks_per_s) for s in (EDGE_S, *INSIDE_S))
    for a, b in runs(level > 0.5 * float(np.quantile(level, 0.9)), at_least=2 * near):
        for edge, towards in ((a, 1), (b - 1, -1)):
            inside = edge + towards * np.arange(near, min(far, (b - a) // 2 + near))
            inside = inside[(inside >= a) & (inside < b)]
            if not len(inside):
                continue
            ring = complex(np.median(amplitude[inside].real), np.median(amplitude[inside].imag))
            window = edge + towards * np.arange(-beside, near)
            window = window[(window >= 0) & (window < min(len(amplitude), len(quick)))]
            if len(window) < 2 or ring == 0.0:
                continue
            seen = (quick[window] * np.conj(ring)).real / abs(ring) ** 2
            amplitude[window] = ring * np.clip(isotonic_regression(seen).x, 0.0, 1.0)


def _demodulated(
    samples: NDArray[np.float64], rate: int, hz: float, step: int, look_s: float = LOOK_S
) -> NDArray[np.complex128]:
    """(channels, looks) complex amplitude at a pitch."""
    from scipy.ndimage import uniform_filter1d

    turned = samples * np.exp(-2j * np.pi * hz * np.arange(samples.shape[1]) / rate) * 2.0
    width = max(1, round(look_s * rate))
    for _ in range(2):
        turned = uniform_filter1d(turned.real, width, axis=1) + 1j * uniform_filter1d(turned.imag, width, axis=1)
    looks = -(-samples.shape[1] // step) + 1
    at = np.minimum(np.arange(looks) * step, samples.shape[1] - 1)
    return np.asarray(turned[:, at])


def _turn_hz(still: NDArray[np.complex128], rate: float) -> float:
    """How far the pitch is off: where the loud looks turn to from one tenth of a second to the next."""
    lag = max(1, round(0.04 * rate))
    if still.shape[1] <= 2 * lag:
        return 0.0
    pairs = still[:, lag:] * np.conj(still[:, :-lag])
    loud = np.abs(pairs) >= np.quantile(np.abs(pairs), 0.7)
    turn = float(np.angle(pairs[loud].sum()) / (2.0 * np.pi) * rate / lag)
    return turn if abs(turn) <= MOST_TURN_HZ else 0.0


def sounding(line: ToneLine, start: int, frames: int, rate: int) -> NDArray[np.float64]:
    """(channels, frames) the sound of a line from a frame of the recording on."""
    out = np.zeros((len(line.amplitude), frames))
    a, b = max(start, line.start), min(start + frames, line.stop)
    if a >= b:
        return out
    at = np.arange(a - line.start, b - line.start)
    looks = np.arange(line.amplitude.shape[1]) * line.step
    turn = np.exp(2j * np.pi * line.hz * at / rate)
    for channel, amplitude in enumerate(line.amplitude):
        value = np.interp(at, looks, amplitude.real) + 1j * np.interp(at, looks, amplitude.imag)
        out[channel, a - start : b - start] = (value * turn).real
    return out
