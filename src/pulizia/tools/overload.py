# SPDX-License-Identifier: GPL-3.0-or-later
"""Overload: rebuilds flattened tops, then makes room for them below full scale.

Clipped peaks are found at any level, for each polarity on its own, also under noise that came on top of them
(``measure.clip_levels``). The missing samples are those that make the prediction error of an autoregressive
model smallest while lying beyond the level at which they were cut (Janssen, Veldhuis and Vries 1986, with the
constraint as an active set); the model is learned again from each result.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, read_padded
from pulizia.audio.spans import Span
from pulizia.dsp.autoregression import RIDGE, fill, model_of
from pulizia.dsp.moments import Stretch, merged, runs
from pulizia.measure.clip_levels import Ceilings, CutLevels, clip_levels
from pulizia.settings.declare import Settings, number, switch
from pulizia.tools.base import Block, Margin, Picture, Progress, Suggestion, Survey, Table, Tool, moments_picture
from pulizia.tools.finding import Finding, Mark, Problem
from pulizia.units import Unit, db_to_gain, format_number, gain_to_db
from pulizia.words import N_plural, plural, tr

PIECE_S = 10
HERE = N_plural("red: 1 clipped peak here", "red: {n} clipped peaks here")
NEAR = 5e-5  # amplitude: samples within this of the level at which tops are cut count as cut
GAP = 400  # frames: clipped peaks closer than this are solved together
LONGEST, LONGEST_TOP = 1400, 300
CONTEXT = 1200
ORDER = 96
UNEVEN_RIDGE = 1e-4  # of the power: noise over the peaks, and treble that is missing, are not to be predicted
UNEVEN_SHARE = 0.98
ROUNDS = 3
ACTIVE_SETS = 3
MOST_RISE = 4.0  # a rebuilt top is not higher than this times the level at which it was cut
MARKS_APART_S = 0.25


@dataclass(frozen=True, slots=True, kw_only=True)
class OverloadSettings(Settings):
    """Rebuilding, and the room that it needs."""

    rebuild: bool = switch(True, label="Rebuild peaks", help="Rebuild the clipped peaks.")
    room_db: float = number(
        0.0, unit=Unit.DB, low=-24.0, high=0.0, step=0.1, label="Level",
        help="Gain that keeps the rebuilt peaks below 0 dBFS; Find settings sets it.",
    )  # fmt: skip
    level_dbfs: float | None = number(
        None, unit=Unit.DBFS, low=-40.0, high=6.0, step=0.1, optional=True, label="Clip level", more=True,
        help="Where peaks were clipped. Auto finds it where they are cut sharply; type it where they are rounded off, 1 to 3 dB below the highest peak.",
    )  # fmt: skip
    sensitivity_db: float = number(
        0.0, unit=Unit.DB, low=0.0, high=3.0, step=0.1, label="Clipping margin", more=True,
        help="Also counts peaks as clipped that lie this far below the clip level.",
    )  # fmt: skip


def analyse(source: Source, spans: Sequence[Span], settings: OverloadSettings, progress: Progress) -> CutLevels:
    """Find the levels at which peaks were clipped."""
    del settings
    return clip_levels(source, spans, progress)


def ceilings(levels: CutLevels, settings: OverloadSettings, channel: int, start: int, count: int) -> Ceilings:
    """The levels of a channel for each frame from ``start`` on: those found, or the one that was given."""
    if settings.level_dbfs is None:
        return levels.at(channel, start, count)
    return Ceilings.given(db_to_gain(settings.level_dbfs), count)


def cut_samples(x: NDArray[np.float32], levels: Ceilings, settings: OverloadSettings) -> NDArray[np.bool_]:
    """Samples of a channel that lie on a clipped peak; the levels are given for each sample."""
    share = db_to_gain(-settings.sensitivity_db)
    cut = np.zeros(len(x), dtype=bool)
    for level, wave in ((levels.above, x), (levels.below, -x)):
        if level.any():
            inside = (wave >= share * level - NEAR) & (level > 0.0)
            higher = inside & (wave > level + NEAR) & ~levels.uneven
            cut |= _tops(inside & ~higher, higher)
    return cut


def _tops(near: NDArray[np.bool_], higher: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Runs of samples near a level that are tops: where the wave only passes through it goes on higher."""
    edges = np.diff(np.concatenate([[False], near, [False]]).astype(np.int8))
    starts, stops = np.flatnonzero(edges == 1), np.flatnonzero(edges == -1)
    passing = higher[np.maximum(starts - 1, 0)] | higher[np.minimum(stops, len(near) - 1)]
    steps = np.zeros(len(near) + 1, dtype=np.int8)
    steps[starts[~passing]] = 1
    steps[stops[~passing]] = -1
    return np.cumsum(steps[:-1]).astype(bool)


def _groups(cut: NDArray[np.bool_]) -> list[Stretch]:
    groups: list[Stretch] = []
    for start, stop in merged(runs(cut), 2):
        if stop - start > LONGEST_TOP:
            continue  # a plateau, not the top of a wave: nothing is known of what it was
        if groups and start - groups[-1][1] < GAP and stop - groups[-1][0] <= LONGEST:
            groups[-1] = (groups[-1][0], stop)
        else:
            groups.append((start, stop))
    return groups


def rebuilt(x: NDArray[np.float32], levels: Ceilings, settings: OverloadSettings) -> NDArray[np.float32]:
    """A channel with its cut samples put back; all others are as they were."""
    cut = cut_samples(x, levels, settings)
    out = x.copy()
    done = 0
    for start, stop in _groups(cut):
        first, last = max(0, start - CONTEXT), min(len(x), stop + CONTEXT)
        missing = cut[first:last].copy()
        missing &= _allowed(missing)
        missing[: max(0, done - first)] = False  # what was rebuilt already is known by now
        missing[stop - first :] = False
        part = np.concatenate([out[first:start], x[start:last]]).astype(np.float64)
        made = _solved(part, missing, levels.part(first, last))
        out[start:stop] = made[start - first : stop - first]
        done = stop
    return out


def _allowed(cut: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Without plateaus that are too long to be rebuilt."""
    good = cut.copy()
    for start, stop in runs(cut, at_least=LONGEST_TOP + 1):
        good[start:stop] = False
    return good


def _solved(x: NDArray[np.float64], missing: NDArray[np.bool_], levels: Ceilings) -> NDArray[np.float64]:
    sign = np.where(x >= 0.0, 1.0, -1.0)
    limit = np.where(x >= 0.0, levels.above, levels.below)
    limit = np.where(levels.uneven, np.maximum(limit, UNEVEN_SHARE * np.abs(x)), limit)  # it was higher, not lower
    ridge = UNEVEN_RIDGE if levels.uneven.any() else RIDGE
    order = min(ORDER, (len(x) - int(missing.sum())) // 3)
    if order < 4 or not missing.any():
        return x
    made = x.copy()
    for _ in range(ROUNDS):
        model = model_of(made, order, ridge)
        free = missing.copy()
        held = x.copy()
        for _ in range(ACTIVE_SETS):
            made = fill(held, free, model)
            short = free & (sign * made < limit)
            if not short.any():
                break
            held[short] = (sign * limit)[short]
            free &= ~short
            if not free.any():
                made = held
                break
        made[missing] = (sign * np.clip(sign * made, limit, MOST_RISE * limit))[missing]
    return made


def process(block: Block, settings: OverloadSettings, levels: CutLevels) -> Samples:
    """Rebuild and make room."""
    gain = np.float32(db_to_gain(settings.room_db))
    out = np.empty_like(block.samples)
    for channel, x in enumerate(block.samples):
        at = ceilings(levels, settings, channel, block.start, len(x))
        out[channel] = rebuilt(x, at, settings) if settings.rebuild and at.any else x
    return out if gain == 1.0 else out * gain


def margin(_settings: OverloadSettings, _rate: int) -> Margin:
    """A few groups of cut tops, so that a chunk's edge sees the same groups."""
    return Margin(8 * LONGEST, 4 * LONGEST)


def caption(settings: OverloadSettings) -> str:
    """Short text on the strip."""
    return (
        tr("peaks rebuilt")
        if settings.room_db == 0.0
        else tr("peaks rebuilt, {room_db} dB", room_db=format_number(settings.room_db))
    )


def survey(
    source: Source,
    after: Source,
    spans: Sequence[Span],
    settings: OverloadSettings,
    levels: CutLevels,
    progress: Progress,
) -> Survey:
    """Where tops were cut, their share, and how high the rebuilt ones reach."""
    given = settings.level_dbfs
    if not levels.any and given is None:
        return Survey(tr("No clipping was found."), stands_first=True)
    count, highest = 0, 0.0
    found: list[Stretch] = []
    step = PIECE_S * source.rate
    for begin in range(0, source.frames, step):
        end = min(begin + step, source.frames)
        if spans and not any(s.overlaps(begin, end) for s in spans):
            continue
        x = read_padded(source, begin, end)
        for channel in range(source.channels):
            cut = cut_samples(x[channel], ceilings(levels, settings, channel, begin, end - begin), settings)
            count += int(cut.sum())
            found += [(a + begin, b + begin) for a, b in runs(cut)]
        if found and found[-1][1] > begin:
            highest = max(highest, float(np.abs(after.read(begin, end)).max()))
        progress(end / source.frames)
    marks = tuple(Mark(a, b, tr("clipped peaks")) for a, b in merged(found, round(MARKS_APART_S * source.rate)))
    share = 100.0 * count / max(1, source.frames * source.channels)
    top = gain_to_db(max(float(levels.above.max()), float(levels.below.max()))) if given is None else given
    rows = (
        (tr("clipped samples"), str(count)), (tr("share"), f"{format_number(share, 3)} %"), (tr("clip level"), f"{format_number(top)} dBFS"),
        (tr("highest peak now"), f"{format_number(gain_to_db(highest))} dBFS"),
    )  # fmt: skip
    words = plural("1 clipped sample.", "{n} clipped samples in {count} places.", count, count=len(marks))
    if highest > 1.0:
        words += " " + tr(
            "The rebuilt peaks reach {highest} dBFS: lower the level by as much.",
            highest=format_number(gain_to_db(highest), 1, plus=True),
        )
    return Survey(words, marks, Table(("", ""), rows), count=count, stands_first=not count)


def suggest(source: Source, spans: Sequence[Span], settings: OverloadSettings, progress: Progress) -> Suggestion:
    """The level that keeps the rebuilt tops below full scale."""
    levels = analyse(source, spans, settings, lambda p: progress(0.3 * p))
    return _room_for(source, levels, settings, lambda p: progress(0.3 + 0.7 * p))


def _room_for(source: Source, levels: CutLevels, settings: OverloadSettings, progress: Progress) -> Suggestion:
    """The level that keeps tops below full scale which were cut at these levels."""
    given = settings.level_dbfs is not None
    if not levels.any and not given:
        return Suggestion({}, tr("No clipping was found; this step is not needed."))
    plain = OverloadSettings(sensitivity_db=settings.sensitivity_db, level_dbfs=settings.level_dbfs)
    highest, reach = 0.0, margin(plain, source.rate)
    step = PIECE_S * source.rate
    for begin in range(0, source.frames, step):
        end = min(begin + step, source.frames)
        block = Block(read_padded(source, begin - reach.before, end + reach.after), begin - reach.before, source.rate)
        made = process(block, plain, levels) if given or levels.among(begin, end) else block.samples
        highest = max(highest, float(np.abs(made[:, reach.before : reach.before + end - begin]).max()))
        progress(end / source.frames)
    room = min(0.0, -0.3 - gain_to_db(highest)) if highest > 0.97 else 0.0
    room = float(np.clip(np.floor(room * 10.0) / 10.0, -24.0, 0.0))
    return Suggestion(
        {"room_db": room},
        tr("The rebuilt peaks reach {highest} dBFS.", highest=format_number(gain_to_db(highest), 1, plus=True)),
    )


def picture(passage: Samples | None, rate: int, settings: OverloadSettings, levels: CutLevels | None) -> Picture:
    """The spectrum of what is found in the passage beside the passage's own."""
    found: list[Stretch] = []
    if passage is not None and passage.shape[1] and levels is not None:
        count = passage.shape[1]
        above, below = (np.full(count, float(side[0].max())) for side in (levels.above, levels.below))
        one = Ceilings(above, below, np.full(count, bool(levels.uneven[0].any())))
        if settings.level_dbfs is not None:
            one = Ceilings.given(db_to_gain(settings.level_dbfs), count)
        found = _groups(cut_samples(passage[0], one, settings))
    return moments_picture(passage, rate, found, HERE, tr("no clipped peak here"))


CLIPPED = Problem(kind="overload", mild=1.0, grave=2000.0, unit="samples", certainty=(0.85, 0.9))


def findings(source: Source, progress: Progress) -> list[Finding]:
    """Clipped samples, however low they lie."""
    settings = OverloadSettings(rebuild=False)
    levels = analyse(source, (), settings, lambda share: progress(0.4 * share))
    found = survey(source, source, (), settings, levels, lambda share: progress(0.4 + 0.4 * share))
    if not found.count:
        return []
    words = plural("1 clipped sample.", "{n} clipped samples in {count} places.", found.count, count=len(found.marks))
    room = _room_for(source, levels, OverloadSettings(), lambda share: progress(0.8 + 0.2 * share)).changes
    return [CLIPPED.found("overload", words, float(found.count), room, found.marks)]


TOOL = Tool(
    id="overload",
    title="Clipping",
    summary="Rebuilds clipped peaks and lowers the level so that they fit.",
    settings=OverloadSettings,
    order=10,
    family="moments",
    version=3,
    process=process,
    caption=caption,
    margin=margin,
    analyse=analyse,
    analysis_places=lambda _settings, _rate: None,
    survey=survey,
    suggest=suggest,
    picture=picture,
    problems=(CLIPPED,),
    find=findings,
)
