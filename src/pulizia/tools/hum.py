# SPDX-License-Identifier: GPL-3.0-or-later
"""Hum: takes out the mains, the harmonics of it that are there, and steady whistles.

The frequency is found to a hundredth of a hertz and followed; every line is subtracted as a tracked
sinusoid whose amplitude and phase come from the moments in which the voice is quiet near it (weighted
least squares by complex demodulation), so that the voice between and over the lines stays. "Notches"
weighs all moments alike: the linear-phase notch of the same width. See :mod:`pulizia.dsp.lines`.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.dsp.lines import (
    MOST_ORDER,
    SPAN,
    Lines,
    estimated,
    excess_db,
    find_base,
    follow,
    hop_of,
    line_powers,
    median_spectrum,
    top_near,
)
from pulizia.measure.listening import voice_level_db
from pulizia.settings.declare import Settings, choice, number, switch
from pulizia.tools.base import (
    Block,
    Curve,
    Margin,
    Picture,
    Progress,
    Suggestion,
    Survey,
    Table,
    Tool,
)
from pulizia.tools.finding import Finding, Problem
from pulizia.units import Unit, db_to_gain, format_number, powers_to_db
from pulizia.words import plural, tr

HARMONIC_STANDS_OUT_DB = 3.0  # of those that fix the base
CERTAIN_DB = 9.0
PRESENT = 0.5  # of the power beside a line; one that is not there shows a fifteenth of it
WHISTLE_STANDS_OUT_DB = 14.0
LOWEST_WHISTLE_HZ = 200.0
MOST_WHISTLES = 8
FULL_DB = 60.0  # a reduction of this much takes the lines out altogether


@dataclass(frozen=True, slots=True, kw_only=True)
class HumSettings(Settings):
    """Which lines, by how much, and how."""

    base_hz: float | None = number(
        None, unit=Unit.HZ, low=40.0, high=400.0, step=0.01, optional=True, label="Mains frequency",
        help="The mains frequency; auto listens at 50 and 60 Hz. The exact value and its drift are found and followed.",
    )  # fmt: skip
    reduction_db: float = number(
        FULL_DB, unit=Unit.DB, low=0.0, high=FULL_DB, step=1.0, label="Reduction",
        help="How far the harmonics are lowered; the highest value removes them.",
    )  # fmt: skip
    highest_hz: float = number(
        2000.0, unit=Unit.HZ, low=60.0, high=10_000.0, step=10.0, scale="log", label="Highest harmonic",
        help="Harmonics above this are not changed.",
    )  # fmt: skip
    way: str = choice(
        "tracked", options={"tracked": "tracked tones", "notch": "narrow notches"}, label="Method",
        help="Tracked tones measure the hum between words and leave the voice intact; notches also follow hum whose level changes.",
    )  # fmt: skip
    window_s: float = number(
        3.0, unit=Unit.SECONDS, low=0.3, high=10.0, step=0.1, scale="log", label="Window",
        help="Longer is narrower and gentler to the voice; shorter follows hum that changes.", more=True,
    )  # fmt: skip
    mains: bool = switch(
        True, label="Remove mains hum", more=True,
        help="Removes mains hum and its harmonics; off treats only steady tones and the extra tone.",
    )  # fmt: skip
    whistles: bool = switch(
        False,
        label="Also steady tones",
        help="Also removes single steady tones, such as those of a monitor or a power converter.",
    )
    line_hz: float = number(
        0.0, unit=Unit.HZ, low=0.0, high=20_000.0, step=0.01, label="Extra tone at",
        help="Frequency of a tone seen in the sonogram; 0 is none.", more=True,
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class Hum:
    """Lines found, and the power always beside each."""

    lines: Lines
    floor: NDArray[np.float64]


NOTHING = Hum(Lines(np.zeros(0), np.zeros(0), np.zeros(0), 0.0, np.zeros(0), 1), np.zeros(0))


def analyse(source: Source, spans: Sequence[Span], settings: HumSettings, progress: Progress) -> Hum:
    """Find the lines and follow their drift."""
    start, stop = (spans[0].start, spans[-1].stop) if spans else (0, source.frames)
    if stop - start < source.rate // 2:
        start, stop = 0, source.frames
    power, bin_hz = median_spectrum(source, start, stop)
    progress(0.3)
    excess = excess_db(power, bin_hz)
    found = [*_harmonics(power, excess, bin_hz, settings), *_singles(power, excess, bin_hz, settings)]
    if not found:
        return NOTHING
    hz, level, order, base = (np.array(column, dtype=np.float64) for column in zip(*found, strict=True))
    lines = Lines(hz, order, level, float(base[0]), np.zeros(0), 1)
    followed, floor, power_of = follow(source, start, stop, lines, lambda p: progress(0.3 + 0.7 * p))
    # a line is there when, listened to between the words, it stands over what is beside it
    there = (power_of > PRESENT * floor) | (order == 0)
    if not there.any():
        return NOTHING
    level = powers_to_db(power_of[there])
    kept = Lines(
        followed.hz[there], followed.pull[there], level, followed.base_hz, followed.drift_hz, followed.drift_hop
    )
    return Hum(kept, floor[there])


def _harmonics(
    power: NDArray[np.float64], excess: NDArray[np.float64], bin_hz: float, settings: HumSettings
) -> list[tuple[float, float, float, float]]:
    if not settings.mains:
        return []
    bases = (50.0, 60.0) if settings.base_hz is None else (settings.base_hz,)
    base, _ = find_base(power, bin_hz, bases)
    if base == 0.0:
        return []
    tops: list[tuple[int, float, float]] = []
    for _ in range(2):  # the harmonics together fix the base ten times closer than the first look
        top = min(MOST_ORDER, int(min(settings.highest_hz, (len(power) - 3) * bin_hz) / base))
        tops = [(k, *top_near(power, bin_hz, k * base, 0.5 + 0.001 * k * base)) for k in range(1, top + 1)]
        there = [(k, hz, level) for k, hz, level in tops if excess[round(hz / bin_hz)] >= HARMONIC_STANDS_OUT_DB]
        if not there:
            return []
        height = np.array([excess[round(hz / bin_hz)] for _, hz, _ in there])
        weight = np.array([k * k for k, _, _ in there]) * np.where(
            height >= CERTAIN_DB, 10.0 ** (np.minimum(height, 30.0) / 10.0), 1e-3
        )
        base = float(np.sum(weight * [hz / k for k, hz, _ in there]) / weight.sum())
    return [(k * base, level, float(k), base) for k, _, level in tops]


def _singles(
    power: NDArray[np.float64], excess: NDArray[np.float64], bin_hz: float, settings: HumSettings
) -> list[tuple[float, float, float, float]]:
    found = []
    if settings.line_hz > 0.0 and settings.line_hz < (len(power) - 3) * bin_hz:
        hz, level = top_near(power, bin_hz, settings.line_hz, 2.0 + 0.002 * settings.line_hz)
        found.append((hz, level, 0.0, 0.0))
    if settings.whistles:
        rest = excess.copy()
        rest[: int(LOWEST_WHISTLE_HZ / bin_hz)] = 0.0
        while len(found) < MOST_WHISTLES and rest.max() >= WHISTLE_STANDS_OUT_DB:
            k = int(np.argmax(rest))
            hz, level = top_near(power, bin_hz, k * bin_hz, 2 * bin_hz)
            rest[max(0, k - round(12 / bin_hz)) : k + round(12 / bin_hz)] = 0.0
            found.append((hz, level, 0.0, 0.0))
    return found


def process(block: Block, settings: HumSettings, hum: Hum) -> Samples:
    """Subtract the lines."""
    if not len(hum.lines.hz) or settings.reduction_db == 0.0:
        return block.samples
    share = 1.0 if settings.reduction_db >= FULL_DB else 1.0 - db_to_gain(-settings.reduction_db)
    out = np.empty_like(block.samples)
    for channel, samples in enumerate(block.samples):
        tones = estimated(
            samples, block.start, hum.lines, hum.floor, block.rate, window_s=settings.window_s,
            weighted=settings.way == "tracked",
        )  # fmt: skip
        out[channel] = samples - np.float32(share) * tones
    return out


def margin(settings: HumSettings, rate: int) -> Margin:
    """Half the averaging window and a window of the demodulation on each side."""
    frames = round(settings.window_s * rate / 2) + (SPAN + 2) * hop_of(rate)
    return Margin(frames, frames)


def caption(settings: HumSettings) -> str:
    """Short text on the strip."""
    which = (
        tr("lines")
        if not settings.mains
        else tr("mains")
        if settings.base_hz is None
        else tr("{base_hz:g} Hz", base_hz=settings.base_hz)
    )
    return (
        which
        if settings.reduction_db >= FULL_DB
        else tr("{which}, {reduction_db} dB", which=which, reduction_db=format_number(-settings.reduction_db, 0))
    )


def survey(
    source: Source, after: Source, spans: Sequence[Span], settings: HumSettings, hum: Hum, progress: Progress
) -> Survey:
    """The lines with their levels before and after."""
    del settings
    if not len(hum.lines.hz):
        return Survey(tr("No hum was found: nothing steady stands out at multiples of 50 or 60 Hz."), stands_first=True)
    start, stop = (spans[0].start, spans[-1].stop) if spans else (0, source.frames)
    stop = min(stop, start + 60 * source.rate)
    left_db = powers_to_db(line_powers(after, start, stop, hum.lines))
    progress(1.0)
    rows = []
    for hz, order, level, left in zip(hum.lines.hz, hum.lines.pull, hum.lines.level_db, left_db, strict=True):
        name = f"\u00d7 {order:.0f}" if order else "alone"
        rows.append(
            (
                tr("{hz} Hz", hz=format_number(float(hz), 2)),
                name,
                format_number(float(level)),
                format_number(float(left)),
            )
        )
    base = hum.lines.base_hz + (
        float(hum.lines.drift_hz.mean()) if hum.lines.base_hz and len(hum.lines.drift_hz) else 0.0
    )
    swing = float(np.ptp(hum.lines.drift_hz)) if len(hum.lines.drift_hz) else 0.0
    words = (
        plural("1 harmonic", "{n} harmonics", len(rows))
        if not base
        else plural(
            "Hum at {base} Hz, 1 harmonic, drift {swing} Hz.",
            "Hum at {base} Hz, {n} harmonics, drift {swing} Hz.",
            len(rows),
            base=format_number(base, 2),
            swing=format_number(swing, 3),
        )
    )
    return Survey(words, table=Table((tr("line"), tr("order"), tr("before"), tr("after")), tuple(rows)))


def suggest(source: Source, spans: Sequence[Span], settings: HumSettings, progress: Progress) -> Suggestion:
    """Mains on or off, and how high its harmonics reach."""
    hum = analyse(source, spans, HumSettings(highest_hz=6000.0, whistles=settings.whistles), progress)
    if not len(hum.lines.hz):
        return Suggestion({}, tr("No hum was found; this step is not needed."))
    top = float(hum.lines.hz[hum.lines.pull > 0].max(initial=60.0))
    base = round(hum.lines.base_hz, 2)
    reach = float(min(10_000.0, max(60.0, round(top * 1.05 / 10) * 10)))
    return Suggestion(
        {"base_hz": base, "highest_hz": reach},
        tr(
            "Hum at {base_hz} Hz with harmonics up to {top:.0f} Hz.",
            base_hz=format_number(hum.lines.base_hz, 2),
            top=top,
        ),
    )


def picture(passage: Samples | None, rate: int, settings: HumSettings, hum: Hum) -> Picture:
    """The passage, and each line as a needle."""
    del settings
    hz = np.linspace(20.0, 4000.0, 800)
    level = np.full(len(hz), -140.0)
    curves = []
    if passage is not None and passage.shape[1] > 4096:
        power, bin_hz = median_spectrum(_held(passage, rate), 0, passage.shape[1], least_looks=1)
        curves.append(Curve("passage", np.arange(len(power)) * bin_hz, powers_to_db(power)))
    for line, height in zip(hum.lines.hz, hum.lines.level_db, strict=True):
        level[int(np.argmin(np.abs(hz - line)))] = height
    curves.append(Curve("lines", hz, level))
    return Picture(tuple(curves), "dBFS", plural("1 harmonic", "{n} harmonics", len(hum.lines.hz)))


def _held(passage: Samples, rate: int) -> Source:
    from pulizia.audio.source import ArraySource

    return ArraySource(passage, rate)


LINES = Problem(kind="hum", mild=-75.0, grave=-45.0, unit="dBFS", certainty=(0.25, 0.95))
HEARD_HUM_DB = -38.0  # of the strongest line relative to the voice
FAINTEST_DBFS = -100.0  # where nobody speaks


def findings(source: Source, progress: Progress) -> list[Finding]:
    """Lines of the mains that are heard beside the voice."""
    lines = analyse(source, (), HumSettings(), progress).lines
    if not len(lines.hz):
        return []
    strongest = float(lines.level_db.max())
    if strongest < max(voice_level_db(source) + HEARD_HUM_DB, FAINTEST_DBFS):
        return []
    words = plural(
        "Hum at {base_hz} Hz, {strongest} dBFS.",
        "Hum at {base_hz} Hz with {n} harmonics, the strongest at {strongest} dBFS.",
        len(lines.hz),
        base_hz=format_number(lines.base_hz, 2),
        strongest=format_number(strongest),
    )
    return [LINES.found("hum", words, strongest, {"base_hz": round(lines.base_hz, 2)})]


TOOL = Tool(
    id="hum",
    title="Hum",
    summary="Removes mains hum, its harmonics and steady tones, and leaves the voice between them.",
    settings=HumSettings,
    order=20,
    family="steady",
    strength_field="reduction_db",
    process=process,
    caption=caption,
    margin=margin,
    analyse=analyse,
    analysis_places=lambda _settings, _rate: None,
    analysis_fields=("base_hz", "mains", "highest_hz", "whistles", "line_hz"),
    picture=picture,
    survey=survey,
    suggest=suggest,
    version=3,
    problems=(LINES,),
    find=findings,
)
