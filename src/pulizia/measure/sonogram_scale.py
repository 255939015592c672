# SPDX-License-Identifier: GPL-3.0-or-later
"""What a picture of time and frequency means: its axis, and the transforms it comes from."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.measure.frequency_axis import FrequencyAxis


@dataclass(frozen=True, slots=True)
class SonogramScale:
    """What one row of the picture means, and which transforms it comes from.

    ``size`` 0 blends lengths; ``rows`` count from the top. ``axis`` "bands" shows third-octave bands
    on the logarithmic axis. ``sharpened`` moves energy to where it belongs, see
    :mod:`pulizia.measure.reassigned`.
    """

    low_hz: float = 40.0
    high_hz: float = 20_000.0
    rows: int = 296
    size: int = 0
    axis: str = "log"
    window: str = "hann"
    sharpened: bool = False

    @property
    def frequency(self) -> FrequencyAxis:
        """The axis from top to bottom."""
        return FrequencyAxis("log" if self.axis == "bands" else self.axis, self.low_hz, self.high_hz)

    def hz_of_row(self, row: NDArray[np.floating] | float) -> NDArray[np.float64]:
        """Frequency at a height in rows from the top."""
        return self.frequency.hz_at(1.0 - np.asarray(row) / self.rows)

    def row_of_hz(self, hz: float) -> float:
        """Height in rows from the top of a frequency."""
        return float(self.rows * (1.0 - self.frequency.share_of(hz)))
