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
from pulizia.tools.base import (
    Block,
    Margin,
    Mark,
    Picture,
    Progress,
    Suggestion,
    Survey,
    Table,
    Tool,
    moments_picture,
)
from pulizia.units import Unit, db_to_gain, format_number, gain_to_db
from pulizia.words import N_plural, plural, tr

PIECE_S = 10
HERE = N_plural("red: 1 clipped peak here", "red: {n} clipped peaks here")
LOOK_S = 0.03
NEAR = 5e-5  # amplitude: samples within this of the level at which tops are cut count as cut
LEAST_RUNS = 3  # of flattened tops before a level counts as one
GAP = 96  # frames: cut tops closer than this are solved together
LONGEST, LONGEST_TOP = 1400, 300
CONTEXT = 400
ORDER = 64
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
    """Levels at which tops are cut per channel, as positive amplitudes; 0 where none are."""

    above: NDArray[np.float64]  # (channels,)
    below: NDArray[np.float64]


def analyse(source: Source, spans: Sequence[Span], settings: OverloadSettings, progress: Progress) -> CutLevels:
    """Find the levels at which tops were cut."""
    del settings
    above: list[list[float]] = [[] for _ in range(source.channels)]
    below: list[list[float]] = [[] for _ in range(source.channels)]
    step, look = PIECE_S * source.rate, max(64, round(LOOK_S * source.rate))
    for begin in range(0, source.frames, step):
        end = min(begin + step, source.frames)
        if spans and not any(s.overlaps(begin, end) for s in spans):
            continue
        for channel, x in enumerate(source.read(begin, end)):
            for part in range(0, len(x), look):  # tops may be cut far below the loudest sound elsewhere
                piece = x[part : part + look]
                for value in piece[flat_runs(piece)[0]].tolist():
                    (above if value > 0 else below)[channel].append(abs(value))
        progress(end / source.frames)
    return CutLevels(np.array([_level(v) for v in above]), np.array([_level(v) for v in below]))


def _level(values: list[float]) -> float:
    """The level that the flattened tops have in common."""
    return float(np.median(values)) if len(values) >= LEAST_RUNS else 0.0


def cut_samples(x: NDArray[np.float32], above: float, below: float, settings: OverloadSettings) -> NDArray[np.bool_]:
    """Samples of a channel that lie on a flattened top."""
    share = db_to_gain(-settings.sensitivity_db)
    cut = np.zeros(len(x), dtype=bool)
    for level, wave in ((above, x), (below, -x)):
        if level > 0.0:
            cut |= _tops((wave >= share * level - NEAR) & (wave <= level + NEAR), wave > level + NEAR)
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


def rebuilt(x: NDArray[np.float32], above: float, below: float, settings: OverloadSettings) -> NDArray[np.float32]:
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
        out[start:stop] = _solved(part, missing, above, below)[start - first : stop - first]
        done = stop
    return out


def _allowed(cut: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Without plateaus that are too long to be rebuilt."""
    good = cut.copy()
    for start, stop in runs(cut, at_least=LONGEST_TOP + 1):
        good[start:stop] = False
    return good


def _solved(x: NDArray[np.float64], missing: NDArray[np.bool_], above: float, below: float) -> NDArray[np.float64]:
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
        above, below = float(levels.above[channel]), float(levels.below[channel])
        acts = settings.rebuild and (above > 0.0 or below > 0.0)
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
    if not levels.above.any() and not levels.below.any():
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
            cut = cut_samples(x[channel], float(levels.above[channel]), float(levels.below[channel]), settings)
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
    return Survey(words, marks, Table(("", ""), rows))


def suggest(source: Source, spans: Sequence[Span], settings: OverloadSettings, progress: Progress) -> Suggestion:
    """The level that keeps the rebuilt tops below full scale."""
    levels = analyse(source, spans, settings, lambda p: progress(0.3 * p))
    if not levels.above.any() and not levels.below.any():
        return Suggestion({}, tr("No clipping was found; this step is not needed."))
    plain = OverloadSettings(sensitivity_db=settings.sensitivity_db)
    highest, reach = 0.0, margin(plain, source.rate)
    step = PIECE_S * source.rate
    for begin in range(0, source.frames, step):
        end = min(begin + step, source.frames)
        block = Block(read_padded(source, begin - reach.before, end + reach.after), begin - reach.before, source.rate)
        highest = max(
            highest, float(np.abs(process(block, plain, levels)[:, reach.before : reach.before + end - begin]).max())
        )
        progress(0.3 + 0.7 * end / source.frames)
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
        found = _groups(cut_samples(passage[0], levels.above[0], levels.below[0], settings))
    return moments_picture(passage, rate, found, HERE, tr("no clipped peak here"))


TOOL = Tool(
    id="overload",
    title="Clipping",
    summary="Rebuilds clipped peaks and lowers the level so that they fit.",
    settings=OverloadSettings,
    order=10,
    family="moments",
    process=process,
    caption=caption,
    margin=margin,
    analyse=analyse,
    analysis_places=lambda _settings, _rate: None,
    survey=survey,
    suggest=suggest,
    picture=picture,
)
