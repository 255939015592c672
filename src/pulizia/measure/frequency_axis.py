# SPDX-License-Identifier: GPL-3.0-or-later
"""Frequency axes: where a frequency lies between the bottom and the top of a picture."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.words import N_

AXES = {"log": N_("logarithmic"), "linear": N_("linear"), "mel": N_("mel"), "bands": N_("third-octave bands")}


def mel_of(hz: NDArray[np.floating] | float) -> NDArray[np.float64]:
    """Mel of a frequency: 2595 log10(1 + f / 700) (O'Shaughnessy 1987); 1000 Hz is 1000 mel."""
    return np.asarray(2595.0 * np.log10(1.0 + np.asarray(hz) / 700.0))


def hz_of_mel(mel: NDArray[np.floating] | float) -> NDArray[np.float64]:
    """Inverse of :func:`mel_of`."""
    return np.asarray(700.0 * (10.0 ** (np.asarray(mel) / 2595.0) - 1.0))


@dataclass(frozen=True, slots=True)
class FrequencyAxis:
    """A stretch of frequencies, bent as ``kind`` says: "log", "linear" or "mel"."""

    kind: str
    low_hz: float
    high_hz: float

    def _bent(self, hz: NDArray[np.floating] | float) -> NDArray[np.float64]:
        if self.kind == "linear":
            return np.asarray(hz, dtype=np.float64)
        return mel_of(hz) if self.kind == "mel" else np.log(np.maximum(hz, 1e-3))

    def share_of(self, hz: NDArray[np.floating] | float) -> NDArray[np.float64]:
        """0 at the bottom, 1 at the top."""
        low, high = self._bent(self.low_hz), self._bent(self.high_hz)
        return np.asarray((self._bent(hz) - low) / (high - low))

    def hz_at(self, share: NDArray[np.floating] | float) -> NDArray[np.float64]:
        """Inverse of :meth:`share_of`."""
        low, high = self._bent(self.low_hz), self._bent(self.high_hz)
        bent = low + np.asarray(share) * (high - low)
        if self.kind == "linear":
            return np.asarray(bent)
        return hz_of_mel(bent) if self.kind == "mel" else np.exp(bent)

    def ticks(self) -> tuple[float, ...]:
        """Round frequencies worth a label."""
        if self.kind == "linear":
            step = next(
                s for s in (50, 100, 200, 500, 1000, 2000, 4000, 10_000) if (self.high_hz - self.low_hz) / s <= 10
            )
            first = int(np.ceil(self.low_hz / step))
            return tuple(float(k * step) for k in range(first, int(self.high_hz / step) + 1))
        round_ones: tuple[int, ...] = (20, 50, 100, 200, 500, 1000, 2000, 5000, 10_000, 20_000)
        if self.kind == "mel":
            round_ones = (100, 500, 1000, 2000, 3000, 5000, 8000, 12_000, 20_000)
        return tuple(float(hz) for hz in round_ones if self.low_hz * 1.05 <= hz <= self.high_hz)
