# SPDX-License-Identifier: GPL-3.0-or-later
"""Steady tones taken out from under a voice: each as a sinusoid whose amplitude may jump, but not waver.

The sound is demodulated at the tone's pitch; what stays still there is the tone, what turns past it is the voice. A
running median (edge preserving: N. Gallagher, G. Wise, "A theoretical analysis of the properties of median filters",
IEEE Trans. ASSP 29(6), 1981) keeps the beginning and end of a ring sharp and drops what is shorter than half of it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import median_filter, uniform_filter1d

from pulizia.audio.samples import Samples

STEPS_PER_S = 500
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
    return ToneLine(start, step, hz, (middle * share).astype(np.complex64))


def _demodulated(samples: NDArray[np.float64], rate: int, hz: float, step: int) -> NDArray[np.complex128]:
    """(channels, looks) complex amplitude at a pitch."""
    turned = samples * np.exp(-2j * np.pi * hz * np.arange(samples.shape[1]) / rate) * 2.0
    width = max(1, round(LOOK_S * rate))
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
