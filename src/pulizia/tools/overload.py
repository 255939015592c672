# SPDX-License-Identifier: GPL-3.0-or-later
"""Overload: rebuilds flattened tops, then makes room for them below full scale.

Clipped peaks are found at any level, for each polarity on its own. The missing samples are those that make
the prediction error of an autoregressive model smallest while lying beyond the level at which they were
cut (Janssen, Veldhuis and Vries 1986, with the constraint as an active set); the model is learned again
from each result.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, read_padded
from pulizia.audio.spans import Span
from pulizia.dsp.autoregression import fill, model_of
from pulizia.dsp.moments import Stretch, merged, runs
from pulizia.measure.flat_tops import flat_runs
from pulizia.settings.declare import Settings, number, switch
from pulizia.tools.base import Block, Margin, Picture, Progress, Suggestion, Survey, Table, Tool, moments_picture
from pulizia.tools.finding import Finding, Mark, Problem
from pulizia.units import Unit, db_to_gain, format_number, gain_to_db
from pulizia.words import N_plural, plural, tr

PIECE_S = 10
HERE = N_plural("red: 1 clipped peak here", "red: {n} clipped peaks here")
LOOK_S = 0.03
NEAR = 5e-5  # amplitude: samples within this of the level at which tops are cut count as cut
UNIT_S, SAME_LEVEL = 0.4, 0.005
LEAST_RUNS = 3  # of flattened tops before a level counts as one
GAP = 400  # frames: clipped peaks closer than this are solved together
LONGEST, LONGEST_TOP = 1400, 300
CONTEXT = 1200
ORDER = 96
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
    sensitivity_db: float = number(
        0.0, unit=Unit.DB, low=0.0, high=3.0, step=0.1, label="Clipping margin", more=True,
        help="Also counts peaks as clipped that lie this far below the clip level.",
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class CutLevels:
    """Levels at which peaks are clipped, as positive amplitudes; 0 where none are.

    A recording may be clipped at one level throughout, or phrase by phrase where its level was changed later.
    """

    above: NDArray[np.float64]  # (channels, units)
    below: NDArray[np.float64]
    unit: int  # frames

    @property
    def any(self) -> bool:
        """Whether anything is clipped."""
        return bool(self.above.any() or self.below.any())

    def among(self, start: int, stop: int) -> bool:
        """Whether anything is clipped in the units of [start, stop)."""
        units = slice(start // self.unit, -(-stop // self.unit))
        return bool(self.above[:, units].any() or self.below[:, units].any())

    def at(self, channel: int, start: int, count: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Levels above and below of a channel for each frame from ``start`` on."""
        units = np.clip((start + np.arange(count)) // self.unit, 0, self.above.shape[1] - 1)
        return self.above[channel][units], self.below[channel][units]


def analyse(source: Source, spans: Sequence[Span], settings: OverloadSettings, progress: Progress) -> CutLevels:
    """Find the levels at which peaks were clipped."""
    del settings
    unit = max(1, round(UNIT_S * source.rate))
    tops: list[tuple[list[tuple[int, float]], list[tuple[int, float]]]] = [([], []) for _ in range(source.channels)]
    step, look = PIECE_S * source.rate, max(64, round(LOOK_S * source.rate))
    for begin in range(0, source.frames, step):
        end = min(begin + step, source.frames)
        if spans and not any(s.overlaps(begin, end) for s in spans):
            continue
        for channel, x in enumerate(source.read(begin, end)):
            starts = flat_runs(x, look)[0]
            for at, value in zip((begin + starts).tolist(), x[starts].tolist(), strict=True):
                tops[channel][value < 0].append((at, abs(value)))
        progress(end / source.frames)
    units = max(1, -(-source.frames // unit))
    above, below = (np.stack([_levels(pair[side], unit, units) for pair in tops]) for side in (0, 1))
    return CutLevels(above, below, unit)


def _levels(tops: list[tuple[int, float]], unit: int, units: int) -> NDArray[np.float64]:
    """(units,) the level that flat peaks have in common around each unit; where there are few, that of the whole."""
    levels = np.zeros(units)
    if len(tops) < LEAST_RUNS:
        return levels
    places, values = np.array([a for a, _ in tops]) // unit, np.array([v for _, v in tops])
    whole = float(np.median(values))
    near = np.mean(np.abs(values - whole) <= SAME_LEVEL * whole)
    if near >= 0.5:  # one level throughout
        levels[:] = whole
        return levels
    for k in np.unique(np.concatenate([places - 1, places, places + 1])):
        part = np.sort(values[np.abs(places - k) <= 1])
        if not 0 <= k < units or len(part) < LEAST_RUNS:
            continue
        together = np.searchsorted(part, part * (1.0 + SAME_LEVEL), "right") - np.arange(len(part))
        most = int(np.argmax(together))
        if together[most] >= LEAST_RUNS:
            levels[k] = float(np.median(part[most : most + int(together[most])]))
    return levels


def cut_samples(
    x: NDArray[np.float32], above: NDArray[np.float64], below: NDArray[np.float64], settings: OverloadSettings
) -> NDArray[np.bool_]:
    """Samples of a channel that lie on a clipped peak; the levels are given for each sample."""
    share = db_to_gain(-settings.sensitivity_db)
    cut = np.zeros(len(x), dtype=bool)
    for level, wave in ((above, x), (below, -x)):
        if level.any():
            inside = (wave >= share * level - NEAR) & (wave <= level + NEAR) & (level > 0.0)
            cut |= _tops(inside, (wave > level + NEAR) & (level > 0.0))
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


def rebuilt(
    x: NDArray[np.float32], above: NDArray[np.float64], below: NDArray[np.float64], settings: OverloadSettings
) -> NDArray[np.float32]:
    """A channel with its cut samples put back; all others are as they were."""
    cut = cut_samples(x, above, below, settings)
    out = x.copy()
    done = 0
    for start, stop in _groups(cut):
        first, last = max(0, start - CONTEXT), min(len(x), stop + CONTEXT)
        missing = cut[first:last].copy()
        missing &= _allowed(missing)
        missing[: max(0, done - first)] = False  # what was rebuilt already is known by now
        missing[stop - first :] = False
        part = np.concatenate([out[first:start], x[start:last]]).astype(np.float64)
        made = _solved(part, missing, above[first:last], below[first:last])
        out[start:stop] = made[start - first : stop - first]
        done = stop
    return out


def _allowed(cut: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Without plateaus that are too long to be rebuilt."""
    good = cut.copy()
    for start, stop in runs(cut, at_least=LONGEST_TOP + 1):
        good[start:stop] = False
    return good


def _solved(
    x: NDArray[np.float64], missing: NDArray[np.bool_], above: NDArray[np.float64], below: NDArray[np.float64]
) -> NDArray[np.float64]:
    sign = np.where(x >= 0.0, 1.0, -1.0)
    limit = np.where(x >= 0.0, above, below)
    order = min(ORDER, (len(x) - int(missing.sum())) // 3)
    if order < 4 or not missing.any():
        return x
    made = x.copy()
    for _ in range(ROUNDS):
        model = model_of(made, order)
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
        above, below = levels.at(channel, block.start, len(x))
        acts = settings.rebuild and (above.any() or below.any())
        out[channel] = rebuilt(x, above, below, settings) if acts else x
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
    if not levels.any:
        return Survey(tr("No clipping was found."))
    count, highest = 0, 0.0
    found: list[Stretch] = []
    step = PIECE_S * source.rate
    for begin in range(0, source.frames, step):
        end = min(begin + step, source.frames)
        if spans and not any(s.overlaps(begin, end) for s in spans):
            continue
        x = read_padded(source, begin, end)
        for channel in range(source.channels):
            cut = cut_samples(x[channel], *levels.at(channel, begin, end - begin), settings)
            count += int(cut.sum())
            found += [(a + begin, b + begin) for a, b in runs(cut)]
        if found and found[-1][1] > begin:
            highest = max(highest, float(np.abs(after.read(begin, end)).max()))
        progress(end / source.frames)
    marks = tuple(Mark(a, b, tr("clipped peaks")) for a, b in merged(found, round(MARKS_APART_S * source.rate)))
    share = 100.0 * count / max(1, source.frames * source.channels)
    top = gain_to_db(max(float(levels.above.max()), float(levels.below.max())))
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
    return Survey(words, marks, Table(("", ""), rows), count=count)


def suggest(source: Source, spans: Sequence[Span], settings: OverloadSettings, progress: Progress) -> Suggestion:
    """The level that keeps the rebuilt tops below full scale."""
    levels = analyse(source, spans, settings, lambda p: progress(0.3 * p))
    return _room_for(source, levels, settings, lambda p: progress(0.3 + 0.7 * p))


def _room_for(source: Source, levels: CutLevels, settings: OverloadSettings, progress: Progress) -> Suggestion:
    """The level that keeps tops below full scale which were cut at these levels."""
    if not levels.any:
        return Suggestion({}, tr("No clipping was found; this step is not needed."))
    plain = OverloadSettings(sensitivity_db=settings.sensitivity_db)
    highest, reach = 0.0, margin(plain, source.rate)
    step = PIECE_S * source.rate
    for begin in range(0, source.frames, step):
        end = min(begin + step, source.frames)
        block = Block(read_padded(source, begin - reach.before, end + reach.after), begin - reach.before, source.rate)
        made = process(block, plain, levels) if levels.among(begin, end) else block.samples
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
        one = [np.full(passage.shape[1], float(side[0].max())) for side in (levels.above, levels.below)]
        found = _groups(cut_samples(passage[0], one[0], one[1], settings))
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
    version=2,
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
