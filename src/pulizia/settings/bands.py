"""The declaration of a list of equaliser bands."""

from __future__ import annotations

import math
from dataclasses import dataclass

Band = tuple[str, float, float, float]
"""Kind, frequency in Hz, gain in dB, width: Q, or for high- and low-pass the slope in dB per octave."""

KINDS = {
    "high-pass": "high-pass", "low-pass": "low-pass", "low shelf": "low shelf", "high shelf": "high shelf",
    "bell": "bell", "notch": "notch",
}  # fmt: skip
SLOPES = tuple(range(6, 49, 6))
LOWEST_HZ, HIGHEST_HZ, MOST_GAIN_DB = 10.0, 40_000.0, 30.0
NARROWEST_Q, WIDEST_Q = 60.0, 0.1
MOST_BANDS = 24


@dataclass(frozen=True, slots=True, kw_only=True)
class Bands:
    """A list of bands: ((kind, Hz, dB, width), ...)."""

    label: str
    help: str
    more: bool = False

    def text(self, value: tuple[Band, ...]) -> str:
        """How many."""
        return f"{len(value)} bands" if value else "none"

    def check(self, name: str, value: object) -> str | None:
        """A sentence about what is wrong with the value, or None."""
        if not isinstance(value, tuple) or len(value) > MOST_BANDS:
            return f"{name} must be a list of at most {MOST_BANDS} bands, not {value!r}"
        for band in value:
            if problem := _check_band(name, band):
                return problem
        return None


def _check_band(name: str, band: object) -> str | None:
    if not isinstance(band, tuple) or len(band) != 4 or band[0] not in KINDS:
        return f"{name} must hold bands [kind, Hz, dB, width] with a kind of {', '.join(KINDS)}, not {band!r}"
    numbers = band[1:]
    if not all(isinstance(v, int | float) and not isinstance(v, bool) and math.isfinite(v) for v in numbers):
        return f"{name} must hold numbers after the kind, not {band!r}"
    hz, gain, width = numbers
    if not LOWEST_HZ <= hz <= HIGHEST_HZ:
        return f"{name}: {hz:g} Hz must be between {LOWEST_HZ:g} and {HIGHEST_HZ:g} Hz"
    if abs(gain) > MOST_GAIN_DB:
        return f"{name}: {gain:g} dB must be between -{MOST_GAIN_DB:g} and {MOST_GAIN_DB:g} dB"
    if band[0] in ("high-pass", "low-pass"):
        return None if width in SLOPES else f"{name}: a slope of {width:g} dB per octave must be one of {', '.join(map(str, SLOPES))}"
    return None if WIDEST_Q <= width <= NARROWEST_Q else f"{name}: a Q of {width:g} must be between {WIDEST_Q:g} and {NARROWEST_Q:g}"
