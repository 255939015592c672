# SPDX-License-Identifier: GPL-3.0-or-later
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


def as_dict(band: Band) -> dict[str, float | str]:
    """A band as recipes and projects write it."""
    kind, hz, gain, width = band
    named: dict[str, float | str] = {"kind": kind, "hz": hz}
    if kind in ("high-pass", "low-pass"):
        return named | {"slope_db_per_octave": width}
    return named | ({} if kind == "notch" else {"gain_db": gain}) | {"q": width}


def from_dict(value: dict[str, object]) -> object:
    """A band from a table {kind, hz, gain_db, q}; what cannot be one is left for the check to explain.

    High- and low-pass take ``slope_db_per_octave`` (12 when it is missing) in place of gain and q.
    """
    kind = str(value.get("kind", "")).replace("_", "-").lower()
    kind = kind.replace("-shelf", " shelf").replace("highpass", "high-pass").replace("lowpass", "low-pass")
    unknown = set(value) - {"kind", "hz", "gain_db", "q", "slope_db_per_octave"}
    if unknown or "hz" not in value:
        return value
    passes = kind in ("high-pass", "low-pass")
    width = value.get("slope_db_per_octave", 12.0) if passes else value.get("q", 1.0)
    numbers = (value["hz"], value.get("gain_db", 0.0), width)
    return (kind, *(float(x) if isinstance(x, int | float) and not isinstance(x, bool) else x for x in numbers))


def _check_band(name: str, band: object) -> str | None:
    if not isinstance(band, tuple) or len(band) != 4 or band[0] not in KINDS:
        return f"{name} must hold bands {{kind, hz, gain_db, q}} with a kind of {', '.join(KINDS)}, not {band!r}"
    numbers = band[1:]
    if not all(isinstance(v, int | float) and not isinstance(v, bool) and math.isfinite(v) for v in numbers):
        return f"{name} must hold numbers after the kind, not {band!r}"
    hz, gain, width = numbers
    if not LOWEST_HZ <= hz <= HIGHEST_HZ:
        return f"{name}: {hz:g} Hz must be between {LOWEST_HZ:g} and {HIGHEST_HZ:g} Hz"
    if abs(gain) > MOST_GAIN_DB:
        return f"{name}: {gain:g} dB must be between -{MOST_GAIN_DB:g} and {MOST_GAIN_DB:g} dB"
    if band[0] in ("high-pass", "low-pass"):
        return (
            None
            if width in SLOPES
            else f"{name}: a slope of {width:g} dB per octave must be one of {', '.join(map(str, SLOPES))}"
        )
    return (
        None
        if WIDEST_Q <= width <= NARROWEST_Q
        else f"{name}: a Q of {width:g} must be between {WIDEST_Q:g} and {NARROWEST_Q:g}"
    )
