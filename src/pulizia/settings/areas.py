# SPDX-License-Identifier: GPL-3.0-or-later
"""The declaration of marked areas of the sonogram."""

from __future__ import annotations

import math
from dataclasses import dataclass

from pulizia.words import tr

Area = tuple[tuple[float, float], ...]
"""Corners of a closed outline in seconds and Hz; two corners are opposite ones of a rectangle."""

MOST_AREAS, MOST_CORNERS = 200, 400
HIGHEST_HZ = 96_000.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Areas:
    """A list of outlines: (((seconds, Hz), ...), ...)."""

    label: str
    help: str
    more: bool = False

    def text(self, value: tuple[Area, ...]) -> str:
        """How many."""
        return tr("none") if not value else tr("{count} selected", count=len(value))

    def check(self, name: str, value: object) -> str | None:
        """A sentence about what is wrong with the value, or None."""
        if not isinstance(value, tuple) or len(value) > MOST_AREAS:
            return tr(
                "{name} must be a list of at most {most_areas} outlines, not {value!r}",
                name=name,
                most_areas=MOST_AREAS,
                value=value,
            )
        for area in value:
            if problem := _check_area(name, area):
                return problem
        return None


def _check_area(name: str, area: object) -> str | None:
    if not isinstance(area, tuple) or not 2 <= len(area) <= MOST_CORNERS:
        return tr(
            "{name} must hold outlines of 2 to {most_corners} corners [seconds, Hz], not {area!r}",
            name=name,
            most_corners=MOST_CORNERS,
            area=area,
        )
    for corner in area:
        good = isinstance(corner, tuple) and len(corner) == 2
        if not good or not all(
            isinstance(x, int | float) and not isinstance(x, bool) and math.isfinite(x) for x in corner
        ):
            return tr("{name} must hold corners [seconds, Hz], not {seconds!r}", name=name, seconds=corner)
        if corner[0] < 0 or not 0 <= corner[1] <= HIGHEST_HZ:
            return tr(
                "{name}: the corner at {seconds:g} s and {hz:g} Hz must lie between 0 and {highest_hz:g} Hz, after 0 s",
                name=name,
                seconds=corner[0],
                hz=corner[1],
                highest_hz=HIGHEST_HZ,
            )
    (t0, t1), (f0, f1) = bounds_s(area), bounds_hz(area)
    if t1 <= t0 or f1 <= f0:
        return tr(
            "{name}: an outline at {t0:g} s and {f0:g} Hz encloses nothing; draw it wider", name=name, t0=t0, f0=f0
        )
    return None


def bounds_s(area: Area) -> tuple[float, float]:
    """First and last moment of an outline."""
    return min(t for t, _ in area), max(t for t, _ in area)


def bounds_hz(area: Area) -> tuple[float, float]:
    """Lowest and highest frequency of an outline."""
    return min(f for _, f in area), max(f for _, f in area)


def outline(area: Area) -> Area:
    """All corners: two opposite ones become four."""
    if len(area) > 2:
        return area
    (t0, f0), (t1, f1) = area
    return ((t0, f0), (t1, f0), (t1, f1), (t0, f1))
