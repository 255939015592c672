# SPDX-License-Identifier: GPL-3.0-or-later
"""Telephone: limits a voice to the band of a telephone line."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.signal import butter, sosfilt

from pulizia.audio.samples import Samples
from pulizia.settings.declare import Settings, number
from pulizia.tools.base import Block, Margin, Tool
from pulizia.units import Unit

RING_S = 0.1  # what the filter remembers, to -120 dB


@dataclass(frozen=True, slots=True, kw_only=True)
class TelephoneSettings(Settings):
    """The band that a line carries (300 to 3400 Hz: ITU-T G.711's speech band, common practice)."""

    low_hz: float = number(
        300.0, unit=Unit.HZ, low=50.0, high=1000.0, step=10.0, scale="log", label="Lowest frequency",
        help="What lies below is lowered by 24 dB an octave.",
    )  # fmt: skip
    high_hz: float = number(
        3400.0, unit=Unit.HZ, low=1500.0, high=8000.0, step=50.0, scale="log", label="Highest frequency",
        help="What lies above is lowered by 24 dB an octave.",
    )  # fmt: skip


def process(block: Block, settings: TelephoneSettings, _analysis: object) -> Samples:
    """Band-pass, Butterworth of the fourth order at each end."""
    high_hz = min(settings.high_hz, 0.45 * block.rate)
    filters = butter(4, (settings.low_hz, high_hz), "bandpass", fs=block.rate, output="sos")
    return np.asarray(sosfilt(filters, block.samples.astype(np.float64)), dtype=np.float32)


TOOL = Tool(
    id="telephone",
    title="Telephone",
    summary="Limits a voice to the band of a telephone line.",
    settings=TelephoneSettings,
    order=60,
    family="tone",
    process=process,
    margin=lambda _settings, rate: Margin(round(RING_S * rate), 0),
    caption=lambda settings: f"{settings.low_hz:.0f} to {settings.high_hz:.0f} Hz",
    shapes_tone=True,
)
