# SPDX-License-Identifier: GPL-3.0-or-later
"""All finders over one recording: what is wrong, where, how much, and which step would mend it."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from itertools import pairwise

import numpy as np

from pulizia.audio.source import Source, SpanSource
from pulizia.errors import PuliziaError
from pulizia.inspection.finding import Finding
from pulizia.inspection.levels import channels, dropouts, levels
from pulizia.inspection.sounds import sounds
from pulizia.measure.bandwidth import bandwidth_of
from pulizia.measure.decay import decays_of
from pulizia.measure.listening import listened, voice_level_db
from pulizia.measure.noise_changes import band_powers, changes_s
from pulizia.measure.speech_activity import FRAMES_PER_S, activity_of
from pulizia.tools import breaths, clicks, hum, overload, plosives, ringing, sibilance
from pulizia.tools.base import Mark
from pulizia.units import format_number
from pulizia.words import plural, tr

Progress = Callable[[float, str], None]
MOST_REDUCTION_DB = 16.0  # beyond it the voice is judged worse (DNSMOS on the practice scenes) while PESQ hardly gains
QUIET_ENOUGH_DB = 36.0  # of speech over noise, above which the noise is no trouble (common practice)
CLICKS_A_MINUTE, BREATHS_A_MINUTE, THUMPS_A_MINUTE, LEAST_EVENTS = 2.0, 3.0, 2.0, 2
HEARD_BREATH_DB = -27.0  # of a breath relative to the voice, from which it is heard behind it
HEARD_HUM_DB = -38.0  # of the strongest line relative to the voice
MAINS_HZ = 2.5  # how near to a multiple of the mains a resonance may be a line of hum
SEEN_FROM_HZ, SEEN_TO_HZ, LASTING_SHARE, PARTS, MOST_MISSING = 150.0, 6000.0, 0.6, 4, 0
LIVELY_S = 0.385  # T60 from which a room is heard behind a close voice (common practice)
DULL_HZ = 7000.0


def inspect(
    source: Source, names: Sequence[str], progress: Progress = lambda _share, _what: None, *, workers: int = 1
) -> list[Finding]:
    """Everything that was found, in the order in which it is best treated.

    ``progress`` may raise to stop; it is called from this thread only. ``workers`` finders listen at once.
    """
    finders = [(what, partial(find, source, names)) for what, find in _finders().items()]
    known: dict[str, list[Finding]] = {}
    finished, stopped = threading.Condition(), threading.Event()

    def look(what: str, find: Callable[[], list[Finding]]) -> None:
        made: list[Finding] = []
        if not stopped.is_set():
            try:
                made = find()
            except PuliziaError:
                made = []  # too short or silent for this finder: nothing to report
        with finished:
            known[what] = made
            finished.notify()

    with ThreadPoolExecutor(workers) as pool:
        jobs = [pool.submit(look, what, find) for what, find in finders]
        try:
            while not all(job.done() for job in jobs):
                missing = [what for what, _ in finders if what not in known]
                progress(1.0 - len(missing) / len(finders), missing[0] if missing else "done")
                with finished:
                    finished.wait(0.2)
        except BaseException:
            stopped.set()
            raise
        for job in jobs:
            job.result()  # a fault of ours is not kept quiet
    progress(1.0, "done")
    return [finding for what, _ in finders for finding in known[what]]


def _finders() -> dict[str, Callable[[Source, Sequence[str]], list[Finding]]]:
    """All finders, in the order in which what they find is best treated."""
    return {
        "overload": lambda source, _names: _overload(source),
        "clicks": lambda source, _names: _clicks(source),
        "plosives": lambda source, _names: _plosives(source),
        "hum": lambda source, _names: _hum(source),
        "breaths": lambda source, _names: _breaths(source),
        "sounds": lambda source, _names: sounds(source),
        "noise": lambda source, _names: _noise(source),
        "ringing": lambda source, _names: _ringing(source),
        "room": lambda source, _names: _room(source),
        "sibilance": lambda source, _names: _sibilance(source),
        "dull": lambda source, _names: _dull(source),
        "levels": levels,
        "dropouts": lambda source, _names: dropouts(source),
        "channels": lambda source, _names: channels(source),
    }


FINDER_OF = {
    "offset": "levels", "lopsided": "levels", "level": "levels", "silence": "dropouts", "channel missing": "channels",
    "polarity": "channels", "delay": "channels", "sound": "sounds",
}  # fmt: skip
"""Finders of the kinds that are not called like their finder."""


def find_kind(kind: str, source: Source, names: Sequence[str]) -> Finding | None:
    """One kind of finding in a source; None when it is not there."""
    found = _finders()[FINDER_OF.get(kind, kind)](source, names)
    return next((finding for finding in found if finding.kind == kind), None)


def _nothing(_share: float) -> None:
    return None


def _steps(mark: Mark, source: Source) -> slice:
    """The steps of what was heard that a mark covers."""
    start = mark.start * FRAMES_PER_S // source.rate
    return slice(start, max(start + 1, mark.stop * FRAMES_PER_S // source.rate))


def _minutes(source: Source) -> float:
    return max(source.frames / source.rate / 60.0, 1 / 60.0)


def _overload(source: Source) -> list[Finding]:
    settings = overload.OverloadSettings(rebuild=False)
    levels = overload.analyse(source, (), settings, _nothing)
    survey = overload.survey(source, source, (), settings, levels, _nothing)
    if survey.table is None:
        return []
    count = int(survey.table.rows[0][1])
    words = plural("1 clipped sample.", "{n} clipped samples in {count} places.", count, count=len(survey.marks))
    room = overload.suggest(source, (), overload.OverloadSettings(), _nothing).changes
    return [Finding("overload", words, float(count), "samples", 0.9, "overload", room, survey.marks)]


def _clicks(source: Source) -> list[Finding]:
    survey = clicks.survey(source, source, (), clicks.ClicksSettings(), None, _nothing)
    rate = len(survey.marks) / _minutes(source)
    if rate < CLICKS_A_MINUTE or len(survey.marks) < LEAST_EVENTS:
        return []
    kind = "crackle" if rate > 480 else "clicks"
    return [
        Finding(
            "clicks",
            plural(
                "1 click, {rate} a minute.", "{n} clicks, {rate} a minute.", len(survey.marks), rate=format_number(rate)
            ),
            rate,
            tr("a minute"),
            0.8,
            "clicks",
            {"kind": kind},
            survey.marks,
        )
    ]


def _plosives(source: Source) -> list[Finding]:
    settings = plosives.PlosivesSettings()
    voice = plosives.analyse(source, (), settings, _nothing)
    survey = plosives.survey(source, source, (), settings, voice, _nothing)
    rate = len(survey.marks) / _minutes(source)
    if rate < THUMPS_A_MINUTE or len(survey.marks) < LEAST_EVENTS:
        return []
    return [
        Finding(
            "plosives",
            plural("1 thump below 150 Hz.", "{n} thumps below 150 Hz.", len(survey.marks)),
            rate,
            tr("a minute"),
            0.6,
            "plosives",
            {},
            survey.marks,
        )
    ]


def _hum(source: Source) -> list[Finding]:
    settings = hum.HumSettings()
    found = hum.analyse(source, (), settings, _nothing)
    if not len(found.lines.hz):
        return []
    strongest = float(found.lines.level_db.max())
    if strongest < voice_level_db(source) + HEARD_HUM_DB:
        return []
    words = plural(
        "Hum at {base_hz} Hz, {strongest} dBFS.",
        "Hum at {base_hz} Hz with {n} harmonics, the strongest at {strongest} dBFS.",
        len(found.lines.hz),
        base_hz=format_number(found.lines.base_hz, 2),
        strongest=format_number(strongest),
    )
    return [Finding("hum", words, strongest, "dBFS", 0.95, "hum", {"base_hz": round(found.lines.base_hz, 2)})]


def _breaths(source: Source) -> list[Finding]:
    survey = breaths.survey(source, source, (), breaths.BreathsSettings(), None, _nothing)
    heard = listened(source)
    level = [heard.level_db[_steps(m, source)].mean() - heard.speech_db for m in survey.marks]
    loud = [m for m, db in zip(survey.marks, level, strict=True) if db > HEARD_BREATH_DB]
    rate = len(loud) / _minutes(source)
    if rate < BREATHS_A_MINUTE or len(loud) < LEAST_EVENTS:
        return []
    return [
        Finding(
            "breaths",
            plural("1 breath between phrases.", "{n} breaths between phrases.", len(survey.marks)),
            rate,
            tr("a minute"),
            0.6,
            "breaths",
            {},
            survey.marks,
        )
    ]


def _noise(source: Source) -> list[Finding]:
    speech = listened(source)
    if not speech.active.any():
        return []
    found = []
    changes = changes_s(band_powers(source))
    snr = speech.speech_db - max([speech.floor_db, *_floors(source, changes)])
    marks = tuple(Mark(round(s * source.rate), round(s * source.rate) + 1, tr("noise changes")) for s in changes)
    if snr < QUIET_ENOUGH_DB:
        reduction = float(np.clip(round(50.0 - snr), 4.0, MOST_REDUCTION_DB))
        told = format_number(snr, 0)
        words = (
            plural(
                "Speech-to-noise ratio {snr} dB; the noise changes once.",
                "Speech-to-noise ratio {snr} dB; the noise changes {n} times.",
                len(changes),
                snr=told,
            )
            if changes
            else tr("Speech-to-noise ratio {snr} dB.", snr=told)
        )
        found.append(
            Finding(
                "noise",
                words,
                snr,
                "dB",
                0.8,
                "noise",
                {"reduction_db": reduction, "following": "changes" if changes else "auto"},
                marks,
            )
        )
    return found


def _floors(source: Source, changes: Sequence[float]) -> list[float]:
    """The floor of each stretch between changes, in dB: the loudest noise is the one that troubles."""
    edges = [0, *(round(s * source.rate) for s in changes), source.frames] if changes else []
    return [activity_of(SpanSource(source, a, b)).floor_db for a, b in pairwise(edges) if b - a > source.rate]


def _ringing(source: Source) -> list[Finding]:
    found = _lasting(source, ringing.analyse(source, (), ringing.RingingSettings(), _nothing))
    if not found:
        return []
    places = ", ".join(f"{r.hz:.0f}" for r in found[:4])
    words = tr(
        "Resonances at {places} Hz, the strongest {excess_db} dB.",
        places=places,
        excess_db=format_number(found[0].excess_db),
    )
    return [
        Finding("ringing", words, found[0].excess_db, "dB", 0.6, "ringing", {"bells_count": float(min(6, len(found)))})
    ]


def _lasting(source: Source, found: Sequence[ringing.Resonance]) -> list[ringing.Resonance]:
    """Resonances that stand out in every part of the recording: what only some words hold is the voice itself."""
    found = [r for r in found if SEEN_FROM_HZ <= r.hz <= SEEN_TO_HZ]
    if not found:
        return []
    edges = np.linspace(0, source.frames, PARTS + 1).astype(int)
    seen = [ringing.relative_levels(source, int(a), int(b), _nothing) for a, b in pairwise(edges)]
    kept = []
    for resonance in found:
        near = np.abs(np.log2(seen[0][0] / resonance.hz)) < 1.0 / 48.0
        parts = [float(relative[near].max()) for _grid, relative in seen]
        if sum(part < LASTING_SHARE * resonance.excess_db for part in parts) <= MOST_MISSING:
            kept.append(resonance)
    near_mains = [r for r in kept if any(abs(r.hz - round(r.hz / base) * base) < MAINS_HZ for base in (50.0, 60.0))]
    if near_mains:
        lines = hum.analyse(source, (), hum.HumSettings(), _nothing).lines.hz
        kept = [r for r in kept if r not in near_mains or not np.any(np.abs(lines - r.hz) < 2 * MAINS_HZ)]
    return kept


def _sibilance(source: Source) -> list[Finding]:
    settings = sibilance.SibilanceSettings()
    speaker = sibilance.analyse(source, (), settings, _nothing)
    hard = sibilance.hardness_db(speaker)
    if hard < sibilance.HARD_DB:
        return []
    survey = sibilance.survey(source, source, (), settings, speaker, _nothing)
    words = tr(
        "Hard S at {band_hz:.0f} Hz and above: its band stands {hard} dB over the treble beside it.",
        band_hz=speaker.band_hz[0],
        hard=format_number(hard),
    )
    return [
        Finding(
            "sibilance",
            words,
            hard,
            "dB",
            0.7,
            "sibilance",
            {},
            survey.marks,
        )
    ]


def _room(source: Source) -> list[Finding]:
    found = decays_of(source)
    middle = found.middle_s
    if middle is None or middle < LIVELY_S:
        return []
    amount = float(np.clip(round(0.5 + 0.5 * middle, 1), 0.5, 0.9))
    return [
        Finding(
            "room",
            tr(
                "Reverberation time T60 {middle} s, from {count} word ends.",
                middle=format_number(middle, 2),
                count=found.count,
            ),
            middle,
            "s",
            0.7,
            "room_tail",
            {"amount": amount},
        )
    ]


def _dull(source: Source) -> list[Finding]:
    found = bandwidth_of(source, int(2 ** round(np.log2(0.0213 * source.rate))))
    if found is None or found.top_hz >= DULL_HZ:
        return []
    return [
        Finding(
            "dull",
            tr("The voice ends at {top_hz:.0f} Hz.", top_hz=found.top_hz),
            found.top_hz / 1000.0,
            "kHz",
            0.7,
            "dull_voice",
        )
    ]
