# SPDX-License-Identifier: GPL-3.0-or-later
"""Breaths: lowers breaths between phrases.

A breath is noise-like sound between phrases, clearly under the voice and over the room,
a tenth to seven tenths of a second long, without pitch and with less treble than an S. What touches a
word is left alone, so that no fricative and no word's start is eaten (common practice).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.dsp.band_frames import around, band_frames, step_frames
from pulizia.dsp.moments import Stretch, bump, merged, overlaps_any, runs, through
from pulizia.measure.listening import listened
from pulizia.settings.declare import Settings, Stretches, choice, number, places
from pulizia.tools.base import (
    Block,
    Margin,
    Picture,
    Progress,
    Suggestion,
    Survey,
    Tool,
    moments_picture,
    moments_survey,
)
from pulizia.tools.finding import A_MINUTE, Finding, Problem, a_minute
from pulizia.units import Unit, db_to_gain, format_number, powers_to_db
from pulizia.words import N_plural, plural, tr

FOUND = N_plural("1 breath found, {on} lowered.", "{n} breaths found, {on} lowered.")
HERE = N_plural("red: 1 breath here", "red: {n} breaths here")
STEP_MS, WINDOW_MS = 10.0, 25.0
BANDS = ((80.0, 400.0), (400.0, 1500.0), (1500.0, 5000.0), (5000.0, 12_000.0), (80.0, 12_000.0))
AROUND_S = 3.0
SHORTEST_S, LONGEST_S = 0.11, 0.75
EDGE_S = 0.03
DIP_STEPS, DIP_DB = 6, 3.0  # how near to a breath, and how far, the sound falls on both sides


@dataclass(frozen=True, slots=True, kw_only=True)
class BreathsSettings(Settings):
    """How far, or to the room."""

    way: str = choice(
        "lower",
        options={"lower": "lower by", "room": "to room tone"},
        label="Method",
        help="Lower each breath by a fixed amount, or down to the level of the room around it.",
    )
    range_db: float = number(
        12.0, unit=Unit.DB, low=0.0, high=40.0, step=0.5, label="Range",
        help="How far breaths are lowered. Lowering sounds more natural than removing.",
    )  # fmt: skip
    sensitivity_db: float = number(
        0.0, unit=Unit.DB, low=-6.0, high=6.0, step=0.5, label="Sensitivity", help="Higher finds quieter and shorter breaths.",
    )  # fmt: skip
    left_s: Stretches = places(label="Skipped", learned=False, help="Breaths in these sections are not changed.")


@dataclass(frozen=True, slots=True)
class Breath:
    """One breath in frames, and how far it stands over the room around it."""

    start: int
    stop: int
    over_room_db: float


def find(samples: Samples, start: int, settings: BreathsSettings, rate: int) -> list[Breath]:
    """Breaths in frames of the recording."""
    powers, first = band_frames(samples, start, rate, BANDS, step_ms=STEP_MS, window_ms=WINDOW_MS)
    if powers.shape[1] < 20:
        return []
    level = powers_to_db(powers[4])
    voice, room = _surroundings(level, first)
    step = step_frames(rate, STEP_MS)
    found = []
    for a, b in merged(runs(_like_breath(powers, level, voice, room, settings)), 3):
        seconds = (b - a) * STEP_MS / 1000.0
        long_enough = SHORTEST_S - 0.005 * settings.sensitivity_db <= seconds <= LONGEST_S
        if long_enough and _swells(level[a:b], settings) and _stands_alone(level, a, b):
            over = float(np.mean(level[a:b]) - np.mean(room[a:b]))
            found.append(Breath((first + a - 1) * step, (first + b + 1) * step, over))
    return found


def _surroundings(level: NDArray[np.float64], first: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Level of the voice and of the room around each step, from quantiles over AROUND_S to both sides."""
    voice, room = around(level, first, round(AROUND_S * 1000.0 / STEP_MS), 20, (0.9, 0.08))
    return voice, room


def _like_breath(
    powers: NDArray[np.float64], level: NDArray[np.float64], voice: NDArray[np.float64], room: NDArray[np.float64],
    settings: BreathsSettings,
) -> NDArray[np.bool_]:  # fmt: skip
    """Steps that are over the room, well under the voice, not voiced and not an S."""
    low, middle, high, treble = (powers_to_db(p) for p in powers[:4])
    over_room = (level > room + 6.0 - 0.5 * settings.sensitivity_db) & (room > -150.0)
    under_voice = (level < voice - 11.0 + settings.sensitivity_db) & (level > voice - 45.0)
    unvoiced = (low < np.maximum(middle, high) - 1.0) & (middle < high + 9.0)
    no_s = treble < np.maximum(middle, high) + 1.0
    return np.asarray(over_room & under_voice & unvoiced & no_s)


def _swells(inner: NDArray[np.float64], settings: BreathsSettings) -> bool:
    """A breath swells and fades within some decibels; speech wavers and begins at once."""
    jump = float(np.max(np.abs(np.diff(inner)))) if len(inner) > 1 else 0.0
    return jump < 9.0 + settings.sensitivity_db and float(np.ptp(inner)) < 32.0


def _stands_alone(level: NDArray[np.float64], start: int, stop: int) -> bool:
    """Whether it dips on both sides: what runs out of a word or into one is part of that word."""
    inner = float(np.mean(level[start:stop]))
    before, after = level[max(0, start - DIP_STEPS) : start], level[stop : stop + DIP_STEPS]
    return all(not len(side) or float(side.min()) < inner - DIP_DB for side in (before, after))


def process(block: Block, settings: BreathsSettings, _analysis: None) -> Samples:
    """Lower the breaths of a block."""
    out = block.samples
    edge = round(EDGE_S * block.rate)
    for breath in find(block.samples, block.start, settings, block.rate):
        if overlaps_any((breath.start, breath.stop), settings.left_s, block.rate):
            continue
        a, b = max(0, breath.start - block.start), min(out.shape[1], breath.stop - block.start)
        down = _down_db(breath, settings)
        if b - a < 8 or down <= 0.0:
            continue
        if out is block.samples:
            out = block.samples.copy()
        out[:, a:b] *= 1.0 - np.float32(1.0 - db_to_gain(-down)) * bump(b - a, edge)
    return out


def _down_db(breath: Breath, settings: BreathsSettings) -> float:
    return settings.range_db if settings.way == "lower" else max(0.0, breath.over_room_db)


def margin(_settings: BreathsSettings, rate: int) -> Margin:
    """The voice and room around, and a breath."""
    reach = round((AROUND_S + LONGEST_S + 0.3) * rate)
    return Margin(reach, reach)


def caption(settings: BreathsSettings) -> str:
    """Short text on the strip."""
    return f"{format_number(-settings.range_db)} dB" if settings.way == "lower" else tr("to room tone")


def survey(
    source: Source, after: Source, spans: Sequence[Span], settings: BreathsSettings, analysis: None, progress: Progress
) -> Survey:
    """Every breath."""
    del after, analysis
    reach = margin(settings, source.rate)

    def look(samples: Samples, start: int) -> list[Stretch]:
        return [(b.start, b.stop) for b in find(samples, start, settings, source.rate)]

    found = through(source, reach.before, reach.after, look, progress)
    return moments_survey(
        found, spans, settings.left_s, source.rate, FOUND, tr("No breath was found at this setting."), tr("lowered")
    )


def suggest(source: Source, spans: Sequence[Span], settings: BreathsSettings, progress: Progress) -> Suggestion:
    """Whether there are any."""
    found = survey(source, source, spans, settings, None, progress).marks
    if not found:
        return Suggestion({}, tr("No breath was found; this step is not needed."))
    return Suggestion(
        {"way": "lower", "range_db": 12.0},
        plural("1 breath between phrases.", "{n} breaths between phrases.", len(found)),
    )


def picture(passage: Samples | None, rate: int, settings: BreathsSettings, _analysis: object) -> Picture:
    """The spectrum of what is found in the passage beside the passage's own."""
    found = (
        [(b.start, b.stop) for b in find(passage, 0, settings, rate)]
        if passage is not None and passage.shape[1]
        else []
    )
    return moments_picture(passage, rate, found, HERE, tr("no breath here"))


BREATHS = Problem(kind="breaths", mild=3.0, grave=20.0, unit=A_MINUTE, certainty=(0.6, 0.6))
HEARD_BREATH_DB, LEAST_BREATHS = -27.0, 2  # relative to the voice, from which one is heard behind it


def findings(source: Source, progress: Progress) -> list[Finding]:
    """Breaths between phrases, where some of them a minute are heard beside the voice."""
    marks = survey(source, source, (), BreathsSettings(), None, lambda share: progress(0.7 * share)).marks
    heard = listened(source, lambda share: progress(0.7 + 0.3 * share))
    if not heard.active.any():
        return []
    levels = [heard.level_of(m.start, m.stop, source.rate) for m in marks]
    known = [db - heard.speech_db for db in levels if db is not None]
    share = len(known) / max(1, len(marks))  # of a long recording a part was listened to
    loud = sum(db > HEARD_BREATH_DB for db in known)
    rate = a_minute(round(loud / max(share, 1e-9)), source)
    if rate < BREATHS.mild or loud < LEAST_BREATHS:
        return []
    words = plural("1 breath between phrases.", "{n} breaths between phrases.", len(marks))
    return [BREATHS.found("breaths", words, rate, marks=marks)]


TOOL = Tool(
    id="breaths",
    title="Breaths",
    summary="Lowers breaths between phrases without touching words.",
    settings=BreathsSettings,
    order=35,
    family="moments",
    strength_field="range_db",
    process=process,
    caption=caption,
    margin=margin,
    survey=survey,
    suggest=suggest,
    picture=picture,
    skip_field="left_s",
    problems=(BREATHS,),
    find=findings,
)
