# SPDX-License-Identifier: GPL-3.0-or-later
"""Ramps of the sonogram: from paper for silence to full ink for energy.

Besides the theme's own ramp there are the ink and the lamplight ramp by name, and two straight lines
through OKLab (Ottosson 2020): equal steps of level are equal steps of perceived colour, and since
lightness carries them they read the same with any colour vision.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from PySide6.QtGui import QColor

from pulizia.desktop.theme import LAMPLIGHT, LINEN, Theme
from pulizia.words import N_

RAMPS = {
    "theme": N_("from theme"),
    "ink": N_("ink"),
    "lamplight": N_("lamplight"),
    "straw": N_("straw to deep blue"),
    "heather": N_("heather"),
}
_ENDS = {  # OKLab at the light and at the dark end
    "straw": ((0.965, -0.015, 0.075), (0.240, -0.005, -0.105)),
    "heather": ((0.965, 0.010, 0.025), (0.250, 0.085, -0.095)),
}
_LMS = np.array(
    [[1.0, 0.3963377774, 0.2158037573], [1.0, -0.1055613458, -0.0638541728], [1.0, -0.0894841775, -1.2914855480]]
)
_RGB = np.array(
    [
        [4.0767416621, -3.3077115913, 0.2309699292],
        [-1.2684380046, 2.6097574011, -0.3413193965],
        [-0.0041960863, -0.7034186147, 1.7076147010],
    ]
)


def srgb_of(oklab: NDArray[np.float64]) -> NDArray[np.float64]:
    """(..., 3) sRGB 0..1 of (..., 3) OKLab (Ottosson 2020; matrices from memory, tested by round trip)."""
    linear = np.clip((oklab @ _LMS.T) ** 3 @ _RGB.T, 0.0, 1.0)
    return np.asarray(np.where(linear <= 0.0031308, 12.92 * linear, 1.055 * linear ** (1 / 2.4) - 0.055))


def ramp_colours(name: str, theme: Theme, value: NDArray[np.float64]) -> NDArray[np.float64]:
    """(n, 3) sRGB 0..1 for values 0 (silence) to 1."""
    if name in _ENDS:
        light, dark = np.array(_ENDS[name])
        start, end = (light, dark) if theme.name == "linen" else (dark, light)
        return srgb_of(start + value[:, None] * (end - start))
    stops_of = {"ink": LINEN, "lamplight": LAMPLIGHT}.get(name, theme)
    stops = np.array([place for place, _ in stops_of.ramp])
    colours = np.array([(c.redF(), c.greenF(), c.blueF()) for c in (QColor(name) for _, name in stops_of.ramp)])
    bent = colours**1.6
    return np.stack([np.interp(value, stops, bent[:, k]) for k in range(3)], axis=1) ** (1 / 1.6)


@lru_cache(maxsize=64)
def ramp_table(
    name: str, theme: Theme, low_db: float, high_db: float, code_floor_db: float, code_step_db: float
) -> list[int]:
    """Colour table (256 QRgb) for level codes: the ramp from ``low_db`` to ``high_db``."""
    levels = code_floor_db + code_step_db * np.arange(256)
    bend = 1.0 if name in _ENDS else 0.95
    value = np.clip((levels - low_db) / max(1.0, high_db - low_db), 0.0, 1.0) ** bend
    rgb = np.rint(ramp_colours(name, theme, value) * 255.0).astype(int)
    return [0xFF000000 | (r << 16) | (g << 8) | b for r, g, b in rgb.tolist()]
