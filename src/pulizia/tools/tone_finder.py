# SPDX-License-Identifier: GPL-3.0-or-later
"""The finder for isolated sounds of a steady pitch: a phone, a bell, a beep."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from pulizia.audio.source import Source
from pulizia.measure.listening import voice_level_db
from pulizia.measure.steady_tones import HALF_WIDTH_HZ, SteadyTone, events_of, steady_tones
from pulizia.settings.areas import MOST_AREAS
from pulizia.tools.finding import Finding, Mark, Problem
from pulizia.units import format_number, format_time
from pulizia.words import plural, tr

TONES = Problem(kind="sound", mild=-45.0, grave=-10.0, unit="dB", certainty=(0.9, 0.9))
TONE_BEFORE_S, TONE_AFTER_S = 0.05, 0.3  # a tone begins at once and dies away
HEARD_DB = -40.0  # relative to the voice
MOST_TOLD, ONE_SOUND_S = 3, 1.5


def findings(source: Source, progress: Callable[[float], None]) -> list[Finding]:
    """One finding for all tones that come and go; its areas are narrow bands around each."""
    tones = steady_tones(source, progress)
    if not tones:
        return []
    voice_db = voice_level_db(source)
    over = max(tone.level_db for tone in tones) - max(voice_db, -80.0)
    if over < HEARD_DB:
        return []
    rate = source.rate
    events = events_of(tones, rate)
    marks = tuple(Mark(a, b, tr("isolated sound")) for a, b in events)
    pitches = sorted({round(tone.hz) for tone in tones})
    places = ", ".join(format_time(a / rate, 1) for a, _b in events[:MOST_TOLD])
    words = plural(
        "A tone that comes and goes at {places}, {hz} Hz.",
        "{n} tones that come and go at {places}, {hz} Hz and others.",
        len(tones),
        places=places,
        hz=format_number(pitches[0], 0),
    )
    areas = [_area(source, group) for group in _groups(tones, round(ONE_SOUND_S * rate))[:MOST_AREAS]]
    return [TONES.found("areas", words, over, {"areas": areas, "way": "tones"}, marks)]


def _groups(tones: Sequence[SteadyTone], reach: int) -> list[list[SteadyTone]]:
    """Tones that follow each other closely: the rings of one phone."""
    groups: list[list[SteadyTone]] = []
    for tone in tones:
        if groups and tone.start <= max(t.stop for t in groups[-1]) + reach:
            groups[-1].append(tone)
        else:
            groups.append([tone])
    return groups


def _area(source: Source, group: Sequence[SteadyTone]) -> tuple[tuple[float, float], tuple[float, float]]:
    """A rectangle around all tones of a sound."""
    rate = source.rate
    start = max(0.0, min(t.start for t in group) / rate - TONE_BEFORE_S)
    stop = min(max(t.stop for t in group) / rate + TONE_AFTER_S, source.frames / rate)
    low, high = min(t.hz for t in group) - HALF_WIDTH_HZ, max(t.hz for t in group) + HALF_WIDTH_HZ
    return (round(start, 3), round(low, 1)), (round(stop, 3), round(high, 1))
