# SPDX-License-Identifier: GPL-3.0-or-later
"""The log of a measurement as CSV: limits where there is a target, figures, and loudness over time."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence

import numpy as np

from pulizia.delivery.normalise import Verdict
from pulizia.measure.blocks import BLOCKS_PER_SECOND
from pulizia.measure.loudness import Measures
from pulizia.units import gain_to_db
from pulizia.words import N_

EVERY_BLOCKS = 10  # of ten milliseconds: ten rows a second
FIGURES = (
    (N_("Integrated"), "integrated_lufs", "LUFS"),
    (N_("Highest momentary"), "momentary_max_lufs", "LUFS"),
    (N_("Highest short-term"), "short_term_max_lufs", "LUFS"),
    (N_("Loudness range"), "loudness_range_lu", "LU"),
    (N_("True peak"), "true_peak_dbtp", "dBTP"),
    (N_("Sample peak"), "sample_peak_dbfs", "dBFS"),
    ("RMS", "rms_dbfs", "dBFS"),
)
"""Name, field of :class:`Measures`, unit: the figures that are listed everywhere."""


def measurement_csv(found: Measures, limits: Sequence[Verdict] = ()) -> str:
    """The log: limits, figures, then momentary, short-term and true peak ten times a second."""
    rows: list[list[str]] = []
    if limits:
        rows += [["limit", "allowed", "measured", "verdict"]]
        rows += [[v.name, v.limit, _plain(v.measured), v.words] for v in limits]
        rows.append([])
    rows.append(["figure", "value", "unit"])
    rows += [[name, _plain(getattr(found, field)), unit] for name, field, unit in FIGURES]
    rows += [[], ["seconds", "momentary LUFS", "short-term LUFS", "true peak dBTP"]]
    for n in range(0, len(found.momentary), EVERY_BLOCKS):
        peak = float(found.peak[n : n + EVERY_BLOCKS].max(initial=0.0))
        values = [float(found.momentary[n]), float(found.short_term[n]), gain_to_db(peak)]
        rows.append([f"{n / BLOCKS_PER_SECOND:.1f}", *map(_plain, values)])
    return as_csv(rows)


def as_csv(rows: Sequence[Sequence[str]]) -> str:
    """Rows of words as CSV text."""
    out = io.StringIO()
    csv.writer(out, lineterminator="\n").writerows(rows)
    return out.getvalue()


def _plain(value: float | None) -> str:
    return "" if value is None or not np.isfinite(value) else f"{value:.2f}"
