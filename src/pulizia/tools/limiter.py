# SPDX-License-Identifier: GPL-3.0-or-later
"""Limiter: keeps the true peak under a ceiling, with look-ahead and a release that adapts.

The gain needed around each interpolated peak is held over the look-ahead, let go, and smoothed by
moving averages as long as the look-ahead (see ``dsp.limiting``). Where the sound is lowered for long, a
slow part of the release holds on, so that dense peaks do not pump; a single peak is let go quickly.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, read_padded
from pulizia.audio.spans import Span
from pulizia.dsp.limiting import limiter_reach, limiting_gain
from pulizia.dsp.moments import merged, runs
from pulizia.settings.declare import Settings, number, switch
from pulizia.tools.base import Block, LaneCurve, Margin, Progress, Survey, Table, Tool
from pulizia.tools.finding import Mark
from pulizia.units import Unit, db_to_gain, format_number
from pulizia.words import plural, tr

PIECE_S = 20
STEPS_PER_S = 100
SHOWN_DB = 0.1
GAP_S = 0.15


@dataclass(frozen=True, slots=True, kw_only=True)
class LimiterSettings(Settings):
    """How high the peaks may go."""

    ceiling_dbtp: float = number(
        -1.0, unit=Unit.DBTP, low=-24.0, high=0.0, step=0.1, label="Ceiling",
        help="No true peak exceeds this level.",
    )  # fmt: skip
    gain_db: float = number(
        0.0, unit=Unit.DB, low=-12.0, high=24.0, step=0.1, label="Input gain",
        help="Gain before the limiter.",
    )  # fmt: skip
    release_ms: float = number(
        120.0, unit=Unit.MS, low=20.0, high=1000.0, step=5.0, scale="log", label="Release",
        help="Time to recover 10 dB after a single peak; slower after dense peaks.",
    )  # fmt: skip
    look_ahead_ms: float = number(
        4.0, unit=Unit.MS, low=1.0, high=20.0, step=0.5, label="Look-ahead", more=True,
        help="The gain starts to fall this long before the peak.",
    )  # fmt: skip
    linked: bool = switch(True, label="Link channels", help="One gain for all channels: the balance stays.", more=True)


def process(block: Block, settings: LimiterSettings, _analysis: None) -> Samples:
    """Limit a block."""
    raised = block.samples * np.float32(db_to_gain(settings.gain_db)) if settings.gain_db else block.samples
    gains = gain_of(raised, settings, block.rate)
    return np.asarray(raised * gains, dtype=np.float32)


def gain_of(raised: Samples, settings: LimiterSettings, rate: int) -> Samples:
    """(1 or channels, frames) gain 0..1."""
    ceiling = db_to_gain(settings.ceiling_dbtp)
    parts = [raised] if settings.linked else [raised[n : n + 1] for n in range(len(raised))]
    made = [
        limiting_gain(
            part,
            rate,
            ceiling,
            look_ahead_ms=settings.look_ahead_ms,
            release_db_per_s=10_000.0 / settings.release_ms,
            adapts=True,
        )
        for part in parts
    ]
    return np.stack(made)


def margin(settings: LimiterSettings, rate: int) -> Margin:
    """The longest release, and the look-ahead."""
    return Margin(
        *limiter_reach(
            rate, look_ahead_ms=settings.look_ahead_ms, release_db_per_s=10_000.0 / settings.release_ms, adapts=True
        )
    )


def caption(settings: LimiterSettings) -> str:
    """Short text on the strip."""
    ceiling = f"{format_number(settings.ceiling_dbtp)} dBTP"
    if not settings.gain_db:
        return ceiling
    return tr("{gain_db} dB to {ceiling}", gain_db=format_number(settings.gain_db, plus=True), ceiling=ceiling)


def survey(
    source: Source, after: Source, spans: Sequence[Span], settings: LimiterSettings, _analysis: None, progress: Progress
) -> Survey:
    """Where and how much it limits."""
    del after
    rate, reach = source.rate, margin(settings, source.rate)
    step = rate // STEPS_PER_S
    parts = []
    for begin in range(0, source.frames, PIECE_S * rate):
        end = min(source.frames, begin + PIECE_S * rate)
        block = read_padded(source, begin - reach.before, end + reach.after) * np.float32(db_to_gain(settings.gain_db))
        gain = gain_of(block, settings, rate).min(axis=0)[reach.before : reach.before + end - begin]
        edges = np.arange(0, len(gain), step)
        parts.append(20.0 * np.log10(np.maximum(np.minimum.reduceat(gain, edges), 1e-6)))
        progress(end / source.frames)
    down = np.concatenate(parts) if parts else np.zeros(0)
    if spans:
        at = np.arange(len(down)) * step
        down = np.where([any(s.start <= f < s.stop for s in spans) for f in at.tolist()], down, 0.0)
    found = merged(runs(down < -SHOWN_DB), round(GAP_S * STEPS_PER_S))
    marks = tuple(
        Mark(a * step, b * step, f"{format_number(float(down[a:b].min()))} dB", value=-float(down[a:b].min()))
        for a, b in found
    )
    most = float(down.min(initial=0.0))
    share = 100.0 * float(np.mean(down < -SHOWN_DB)) if len(down) else 0.0
    rows = (
        (tr("places"), str(len(marks))),
        (tr("at most"), f"{format_number(most)} dB"),
        (tr("of the time"), f"{format_number(share)} %"),
    )
    words = (
        plural(
            "Limits in 1 place, by up to {most} dB.",
            "Limits in {n} places, by up to {most} dB.",
            len(marks),
            most=format_number(-most),
        )
        if marks
        else tr("No limiting needed.")
    )
    return Survey(
        words,
        marks,
        Table(("", ""), rows),
        curves=(LaneCurve("limited", step, down.astype(np.float32)),),
        stands_first=not marks and not settings.gain_db,
    )


TOOL = Tool(
    id="limiter",
    title="Limiter",
    summary="Keeps true peaks under a ceiling.",
    settings=LimiterSettings,
    order=95,
    family="level",
    process=process,
    caption=caption,
    margin=margin,
    survey=survey,
    sets_level=True,
)
