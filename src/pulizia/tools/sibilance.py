# SPDX-License-Identifier: GPL-3.0-or-later
"""Sibilance: lowers hard S sounds in their own band, and only while they last.

The band is that of this speaker's S: where the treble-heavy moments stand highest. A moment counts when
its treble outweighs the rest, and how far it is lowered follows from its level relative to the voice
around it and to the speaker's usual S, so that quiet and loud passages are treated alike (split-band
processing with look-ahead, common practice). How hard an S is shows in its spectrum: how far its band stands
over the treble on both sides, where a natural one stands by about 5 dB. Outside the moments samples stay bit-identical.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, read_padded
from pulizia.audio.spans import Span
from pulizia.dsp.band_frames import (
    band_frames,
    filtered,
    low_taps,
    shaped_taps,
    spread,
    step_frames,
)
from pulizia.dsp.moments import overlaps_any, runs
from pulizia.measure.s_sounds import (
    AROUND_S,
    EDGE_DB,
    HARD_DB,
    PIECE_S,
    STEP_MS,
    WINDOW_MS,
    Speaker,
    bands_of,
    excess_db,
    hardness_db,
    is_s,
    usual_s,
    voice_db,
)
from pulizia.settings.declare import Settings, Stretches, choice, number, places
from pulizia.tools.base import Block, Curve, Margin, Picture, Progress, Suggestion, Survey, Table, Tool
from pulizia.tools.finding import Finding, Mark, Problem
from pulizia.units import Unit, format_number, powers_to_db
from pulizia.words import plural, tr

FILTER_HALF_S = 0.0032
SPREAD_DB = 3.0  # S sounds of one speaker lie about this far to both sides of the usual one


@dataclass(frozen=True, slots=True, kw_only=True)
class SibilanceSettings(Settings):
    """How far, which, and how wide."""

    reduction_db: float = number(
        10.0, unit=Unit.DB, low=0.0, high=18.0, step=0.5, label="Reduction",
        help="No S is lowered by more than this. What is lowered further than to a natural S makes the speaker lisp.",
    )  # fmt: skip
    aim: str = choice(
        "natural", options={"natural": "natural S", "median": "speaker's median S"}, label="Compared with",
        help="With a natural S: each is lowered as far as this speaker's S is too hard, which may be not at all. With the speaker's own median: each is lowered as far as it exceeds the threshold.",
    )  # fmt: skip
    threshold_db: float = number(
        0.0, unit=Unit.DB, low=-12.0, high=12.0, step=0.5, label="Threshold",
        help="How much harder than what it is compared with an S may be. Compared with the median, at -6 all are lowered fully.",
    )  # fmt: skip
    width: str = choice(
        "band",
        options={"band": "the S band", "shape": "follow S spectrum", "wide": "everything above"},
        label="Band",
        help="This speaker's S band; following the S spectrum, which lisps least; or all treble above its lower edge.",
    )
    low_hz: float = number(
        0.0, unit=Unit.HZ, low=0.0, high=9000.0, step=50.0, label="From", more=True,
        help="Lower edge of the band; 0 finds it.",
    )  # fmt: skip
    high_hz: float = number(
        0.0, unit=Unit.HZ, low=0.0, high=18_000.0, step=50.0, label="To", more=True,
        help="Upper edge of the band; 0 finds it.",
    )  # fmt: skip
    left_s: Stretches = places(label="Skipped", learned=False, help="S sounds in these sections are not changed.")

    @classmethod
    def of_older(cls, values: dict[str, Any]) -> dict[str, Any]:
        """A threshold without a word on what it is compared with: the median was the only one."""
        return {"aim": "median", **values} if "threshold_db" in values else values


def analyse(source: Source, spans: Sequence[Span], _settings: SibilanceSettings, progress: Progress) -> Speaker:
    """Find the band of this speaker's S and how it usually stands to the voice."""
    start, stop = (spans[0].start, spans[-1].stop) if spans else (0, source.frames)
    return usual_s(source, start, stop, progress)


def band_of(settings: SibilanceSettings, speaker: Speaker) -> tuple[float, float]:
    """The band that is lowered."""
    low = settings.low_hz or speaker.band_hz[0]
    high = settings.high_hz or speaker.band_hz[1]
    if settings.width == "wide":
        high = 96_000.0
    return low, max(high, low * 1.1)


def lowered_db(
    samples: Samples, start: int, settings: SibilanceSettings, speaker: Speaker, rate: int
) -> tuple[NDArray[np.float64], int]:
    """How far each step is lowered, in dB (0 outside S sounds), and the first step."""
    powers, first = band_frames(
        samples, start, rate, bands_of(rate, speaker.band_hz), step_ms=STEP_MS, window_ms=WINDOW_MS
    )
    if not powers.shape[1]:
        return np.zeros(0), first
    inside = is_s(powers)
    excess = powers_to_db(powers[2]) - voice_db(powers[0]) - speaker.usual_db
    natural = excess_db(speaker) if settings.aim == "natural" else None
    if natural == 0.0:
        return np.zeros(len(inside)), first
    step = step_frames(rate, STEP_MS)
    amount = np.zeros(len(inside))
    for a, b in runs(inside):
        moment = ((first + a) * step, (first + b) * step)
        if overlaps_any(moment, settings.left_s, rate):
            continue
        level = float(np.quantile(excess[a:b], 0.75))
        if natural is None:
            wanted = level - settings.threshold_db + SPREAD_DB
        else:  # one of the usual kind by the excess; the spread of one speaker's S sounds is kept
            wanted = natural - settings.threshold_db + max(0.0, level - SPREAD_DB) + min(0.0, level + SPREAD_DB)
        reach = 20.0 if natural is None else 32.0
        shape = np.clip(excess[a:b] - excess[a:b].max() + reach, 0.0, 8.0) / 8.0  # its quiet ends need less
        amount[a:b] = np.clip(wanted, 0.0, settings.reduction_db) * shape
    return amount, first


def process(block: Block, settings: SibilanceSettings, speaker: Speaker) -> Samples:
    """Lower the S sounds of a block."""
    amount, first = lowered_db(block.samples, block.start, settings, speaker, block.rate)
    if not amount.any():
        return block.samples
    step, frames = step_frames(block.rate, STEP_MS), block.samples.shape[1]
    taps = _taps(settings, speaker, block.rate)
    half = len(taps) // 2
    out = block.samples.copy()
    for a, b in runs(amount > 0.0):  # rising from the step before, falling to the one behind
        begin = max(0, (first + a - 1) * step + 1 - block.start)
        end = min(frames, (first + b) * step - block.start)
        if end <= begin:
            continue
        padded = np.concatenate([[0.0], amount[a:b], [0.0]])
        curve = spread(padded, first + a - 1, step, block.start + begin, end - begin)
        share = (10.0 ** (-curve / 20.0) - 1.0).astype(np.float32)
        around = np.zeros((len(out), end - begin + 2 * half), dtype=np.float32)
        left, right = max(0, begin - half), min(frames, end + half)
        around[:, left - begin + half : right - begin + half] = block.samples[:, left:right]
        out[:, begin:end] += share * filtered(around, taps)[:, half : half + end - begin]
    return out


def _taps(settings: SibilanceSettings, speaker: Speaker, rate: int) -> NDArray[np.float32]:
    """The symmetrical filter of what is lowered."""
    half = round(FILTER_HALF_S * rate)
    if settings.width == "shape" and speaker.count:
        return shaped_taps(speaker.hz, shape_of(settings, speaker), half)
    low, high = band_of(settings, speaker)
    taps = -low_taps(rate, low, half)
    if high < 0.48 * rate:
        return np.asarray(taps + low_taps(rate, high, half), dtype=np.float32)
    taps[half] += 1.0
    return taps


def shape_of(settings: SibilanceSettings, speaker: Speaker) -> NDArray[np.float64]:
    """0..1 over the speaker's frequencies: 1 where the S stands highest, 0 where it has fallen by twice EDGE_DB."""
    low, high = band_of(settings, speaker)
    near = (speaker.hz >= low / 1.3) & (speaker.hz <= high * 1.3)
    top = float(speaker.level_db[near].max()) if near.any() else 0.0
    return np.where(near, np.clip((speaker.level_db - top) / (2.0 * EDGE_DB) + 1.0, 0.0, 1.0), 0.0)


def margin(_settings: SibilanceSettings, rate: int) -> Margin:
    """The voice around, and the filter."""
    reach = round((AROUND_S + 0.6) * rate)  # an S of half a second may have begun before
    return Margin(reach, reach)


def caption(settings: SibilanceSettings) -> str:
    """Short text on the strip."""
    return tr("max. {reduction_db} dB", reduction_db=format_number(-settings.reduction_db))


def survey(
    source: Source,
    after: Source,
    spans: Sequence[Span],
    settings: SibilanceSettings,
    speaker: Speaker,
    progress: Progress,
) -> Survey:
    """Each S with how far it is lowered."""
    del after
    rate, step = source.rate, step_frames(source.rate, STEP_MS)
    reach = margin(settings, rate)
    marks: list[Mark] = []
    for begin in range(0, source.frames, PIECE_S * rate):
        end = min(begin + PIECE_S * rate, source.frames)
        block = read_padded(source, begin - reach.before, end + reach.after)
        powers, first = band_frames(
            block, begin - reach.before, rate, bands_of(rate, speaker.band_hz), step_ms=STEP_MS, window_ms=WINDOW_MS
        )
        amount, _ = lowered_db(block, begin - reach.before, settings, speaker, rate)
        for a, b in runs(is_s(powers)):
            start, stop = (first + a) * step, (first + b) * step
            if begin <= start < end and (not spans or any(s.overlaps(start, stop) for s in spans)):
                down = float(amount[a:b].max())
                on = not overlaps_any((start, stop), settings.left_s, rate)
                marks.append(Mark(start, stop, f"{format_number(-down)} dB", on=on, value=down))
        progress(end / source.frames)
    low, high = band_of(settings, speaker)
    treated = [m for m in marks if m.value > 0.05]
    mean = sum(m.value for m in treated) / max(1, len(treated))
    shown = tr("{low:.0f} to {high:.0f} Hz", low=low, high=min(high, rate / 2))
    rows = (
        (tr("S sounds"), str(len(marks))),
        ("lowered", str(len(treated))),
        (tr("on the mean"), f"{format_number(-mean)} dB"),
        (tr("band"), shown),
    )
    if marks and settings.aim == "natural" and not excess_db(speaker):
        words = plural(
            "1 S sound, not harder than a natural one: it is not lowered. To lower it all the same, compare with the speaker's median.",
            "{n} S sounds, not harder than natural ones: none is lowered. To lower them all the same, compare with the speaker's median.",
            len(marks),
        )
        return Survey(words, tuple(marks), Table(("", ""), rows), stands_first=True)
    words = (
        plural(
            "{n_treated} of 1 S sound is lowered.",
            "{n_treated} of {n} S sounds are lowered.",
            len(marks),
            n_treated=len(treated),
        )
        if marks
        else tr("No S sound was found.")
    )
    return Survey(words, tuple(marks), Table(("", ""), rows), stands_first=not treated)


def suggest(source: Source, spans: Sequence[Span], settings: SibilanceSettings, progress: Progress) -> Suggestion:
    """As far as this speaker's S exceeds what is usual for voices."""
    speaker = analyse(source, spans, settings, progress)
    if not speaker.count:
        return Suggestion({}, tr("No S sound was found; this step is not needed."))
    over = excess_db(speaker)
    if not over:
        return Suggestion({}, tr("The S of this voice is not harder than a natural one; this step is not needed."))
    words = tr(
        "S at {low:.0f} to {high:.0f} Hz, {over} dB harder than a natural one.",
        low=speaker.band_hz[0],
        high=speaker.band_hz[1],
        over=format_number(over),
    )
    return Suggestion({"aim": "natural", "threshold_db": 0.0}, words)


def picture(passage: Samples | None, rate: int, settings: SibilanceSettings, speaker: Speaker) -> Picture:
    """The spectrum of this speaker's S, and the band."""
    del passage, rate
    low, high = band_of(settings, speaker)
    inside = (speaker.hz >= low) & (speaker.hz <= high)
    band = np.where(inside, speaker.level_db, -160.0)
    return Picture(
        (Curve("passage", speaker.hz, speaker.level_db), Curve("lines", speaker.hz, band)),
        "dBFS",
        tr("S at {low:.0f} Hz and above", low=low),
    )


HARD = Problem(kind="sibilance", mild=HARD_DB, grave=15.0, unit="dB", certainty=(0.15, 0.9))


def findings(source: Source, progress: Progress) -> list[Finding]:
    """Whether this speaker's S is hard."""
    speaker = usual_s(source, 0, source.frames, lambda share: progress(0.5 * share))
    hard = hardness_db(speaker)
    if hard < HARD.mild:
        return []
    settings = SibilanceSettings()
    marks = survey(source, source, (), settings, speaker, lambda share: progress(0.5 + 0.5 * share)).marks
    words = tr(
        "Hard S at {band_hz:.0f} Hz and above: its band stands {hard} dB over the treble beside it.",
        band_hz=speaker.band_hz[0],
        hard=format_number(hard),
    )
    return [HARD.found("sibilance", words, hard, marks=marks)]


TOOL = Tool(
    id="sibilance",
    title="Sibilance",
    summary="Lowers hard S sounds in this speaker's own S band, and nothing else.",
    settings=SibilanceSettings,
    order=58,
    family="moments",
    strength_field="reduction_db",
    process=process,
    caption=caption,
    margin=margin,
    analyse=analyse,
    analysis_places=lambda _settings, _rate: None,
    picture=picture,
    survey=survey,
    suggest=suggest,
    skip_field="left_s",
    version=2,
    problems=(HARD,),
    find=findings,
)
