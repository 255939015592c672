# SPDX-License-Identifier: GPL-3.0-or-later
"""Band-limited interpolation between samples: what a converter will make of them."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache

import numpy as np
from numpy.typing import NDArray

TAPS = 32  # per phase; flat within 0.02 dB to 0.43 of the sample rate
KAISER_BETA = 6.0
BLOCK = 64


@dataclass(frozen=True, slots=True)
class Interpolator:
    """Polyphase windowed-sinc interpolation by ``factor`` as one matrix product per block.

    After Recommendation ITU-R BS.1770-5, Annex 2, with a longer filter and a higher factor than
    the example given there.
    """

    factor: int
    phases: NDArray[np.float64]  # (factor - 1, TAPS), the fractional delays 1/factor ...
    matrix: NDArray[np.float32]  # (BLOCK + TAPS - 1, BLOCK * (factor - 1))
    largest_gain: float  # L1 norm of the worst phase: no true peak exceeds sample peak times this

    def between(self, padded: NDArray[np.float32]) -> NDArray[np.float32]:
        """Values between the samples.

        Parameters
        ----------
        padded : (rows, BLOCK + TAPS - 1) float32
            Rows of BLOCK samples with TAPS/2 - 1 samples before and TAPS/2 after them.

        Returns
        -------
        (rows, factor - 1, BLOCK) float32: the interpolated values that follow each sample.
        """
        return (padded @ self.matrix).reshape(len(padded), self.factor - 1, BLOCK)


@cache
def interpolator(factor: int) -> Interpolator:
    """The interpolator of a factor, made once."""
    half = TAPS // 2
    offsets = np.arange(-(half - 1), half + 1)
    phases = []
    for step in range(1, factor):
        t = step / factor - offsets  # distance of the wanted point from each sample
        window = np.i0(KAISER_BETA * np.sqrt(np.clip(1 - (t / half) ** 2, 0, None)))
        taps = np.sinc(t) * window / np.i0(KAISER_BETA)
        phases.append(taps / taps.sum())
    bank = np.array(phases)
    matrix = np.zeros((BLOCK + TAPS - 1, factor - 1, BLOCK))
    for n in range(BLOCK):
        matrix[n : n + TAPS, :, n] = bank.T
    return Interpolator(
        factor,
        bank,
        np.ascontiguousarray(matrix.reshape(BLOCK + TAPS - 1, -1), dtype=np.float32),
        float(max(1.0, np.abs(bank).sum(axis=1).max())),
    )


def factor_for(rate_hz: int) -> int:
    """Oversampling that brings any rate to at least 352.8 kHz (4x at most halved above 96 kHz)."""
    if rate_hz < 64_000:
        return 8
    return 4 if rate_hz <= 200_000 else 2
