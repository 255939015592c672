# SPDX-License-Identifier: GPL-3.0-or-later
"""The declaration of a list of equaliser bands."""

from __future__ import annotations

import math
from dataclasses import dataclass

from pulizia.words import N_, plural, tr

Band = tuple[str, float, float, float]
"""Kind, frequency in Hz, gain in dB, width: Q, or for high- and low-pass the slope in dB per octave."""

KINDS = {
    "high-pass": N_("high-pass"), "low-pass": N_("low-pass"), "low shelf": N_("low shelf"), "high shelf": N_("high shelf"),
    "bell": N_("bell"), "notch": N_("notch"),
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
        return plural("1 band", "{n} bands", len(value)) if value else tr("none")

    def check(self, name: str, value: object) -> str | None:
        """A sentence about what is wrong with the value, or None."""
        if not isinstance(value, tuple) or len(value) > MOST_BANDS:
            return tr(
                "{name} must be a list of at most {most_bands} bands, not {value!r}",
                name=name,
                most_bands=MOST_BANDS,
                value=value,
            )
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
        return tr(
            "{name} must hold bands {{kind, hz, gain_db, q}} with a kind of {kinds}, not {low!r}",
            name=name,
            kinds=", ".join(KINDS),
            low=band,
        )
    numbers = band[1:]
    if not all(isinstance(v, int | float) and not isinstance(v, bool) and math.isfinite(v) for v in numbers):
        return tr("{name} must hold numbers after the kind, not {low!r}", name=name, low=band)
    hz, gain, width = numbers
    if not LOWEST_HZ <= hz <= HIGHEST_HZ:
        return tr(
            "{name}: {hz:g} Hz must be between {lowest_hz:g} and {highest_hz:g} Hz",
            name=name,
            hz=hz,
            lowest_hz=LOWEST_HZ,
            highest_hz=HIGHEST_HZ,
        )
    if abs(gain) > MOST_GAIN_DB:
        return tr(
            "{name}: {gain:g} dB must be between -{most_gain_db:g} and {most_gain_db:g} dB",
            name=name,
            gain=gain,
            most_gain_db=MOST_GAIN_DB,
        )
    if band[0] in ("high-pass", "low-pass"):
        return (
            None
            if width in SLOPES
            else tr(
                "{name}: a slope of {width:g} dB per octave must be one of {slopes}",
                name=name,
                width=width,
                slopes=", ".join(map(str, SLOPES)),
            )
        )
    return (
        None
        if WIDEST_Q <= width <= NARROWEST_Q
        else tr(
            "{name}: a Q of {width:g} must be between {widest_q:g} and {narrowest_q:g}",
            name=name,
            width=width,
            widest_q=WIDEST_Q,
            narrowest_q=NARROWEST_Q,
        )
    )
