"""All finders over one recording: what is wrong, where, how much, and which step would mend it."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from pulizia.audio.source import Source
from pulizia.dsp.moments import runs
from pulizia.errors import PuliziaError
from pulizia.measure.bandwidth import bandwidth_of
from pulizia.measure.decay import decays_of
from pulizia.measure.figures import passage_figures
from pulizia.measure.loudness import Measures, measure
from pulizia.measure.noise_changes import band_powers, changes_s
from pulizia.measure.speech_activity import FRAMES_PER_S, activity_of
from pulizia.tools import breaths, clicks, hum, overload, plosives, ringing, sibilance
from pulizia.tools.base import Mark
from pulizia.units import format_number, format_time

Progress = Callable[[float, str], None]
QUIET_ENOUGH_DB = 42.0  # of speech over noise, above which the noise is no trouble (common practice)
HARD_S_DB = -7.0  # usual S relative to the voice, above which it is called hard
CLICKS_A_MINUTE, BREATHS_A_MINUTE, THUMPS_A_MINUTE = 0.5, 2.0, 1.0
UNEVEN_LU = 7.0
LOPSIDED_DB = 4.0
OFFSET_DBFS = -50.0
DROPOUT_S = 0.02
ONE_SIDE_DB = 30.0
OPPOSITE = -0.5
LATE_FRAMES = 3
LIVELY_S = 0.45  # T60 from which a room is heard behind a close voice (common practice)
DULL_HZ = 6500.0
READ_S = 20
TROUBLING: dict[str, tuple[float, float]] = {
    "overload": (1.0, 2000.0), "clicks": (0.5, 20.0), "plosives": (1.0, 12.0), "hum": (-75.0, -45.0),
    "breaths": (2.0, 20.0), "noise": (42.0, 15.0), "ringing": (3.0, 10.0), "sibilance": (-7.0, 0.0),
    "offset": (-50.0, -25.0), "lopsided": (4.0, 10.0), "level": (7.0, 15.0), "silence": (1.0, 10.0),
    "channel missing": (30.0, 60.0), "polarity": (-0.3, -0.8), "delay": (0.0, 1.0),
    "room": (0.4, 1.2), "dull": (7.0, 3.0),
}  # fmt: skip
"""From which measure on each kind is a trouble at all, and from which on a grave one (common practice)."""


@dataclass(frozen=True, slots=True)
class Finding:
    """One trouble, in a sentence with its measure, and the step that treats it ("" for none)."""

    kind: str
    sentence: str
    measure: float
    unit: str
    certainty: float  # 0..1
    tool_id: str = ""
    settings: dict[str, Any] = field(default_factory=dict)
    marks: tuple[Mark, ...] = ()

    @property
    def severity(self) -> float:
        """0 (hardly a trouble) to 1 (grave), by common practice for each kind; see TROUBLING."""
        mild, grave = TROUBLING[self.kind]
        measure = abs(self.measure) if self.kind == "lopsided" else self.measure
        return min(max((measure - mild) / (grave - mild), 0.0), 1.0)


def inspect(
    source: Source, names: Sequence[str], progress: Progress = lambda _share, _what: None, *, workers: int = 1
) -> list[Finding]:
    """Everything that was found, in the order in which it is best treated.

    ``progress`` may raise to stop; it is called from this thread only. ``workers`` finders listen at once.
    """
    finders: tuple[tuple[str, Callable[[], list[Finding]]], ...] = (
        ("overload", lambda: _overload(source)),
        ("clicks", lambda: _clicks(source)),
        ("plosives", lambda: _plosives(source)),
        ("hum", lambda: _hum(source)),
        ("breaths", lambda: _breaths(source)),
        ("noise", lambda: _noise(source)),
        ("ringing", lambda: _ringing(source)),
        ("room tail", lambda: _room(source)),
        ("sibilance", lambda: _sibilance(source)),
        ("dull voice", lambda: _dull(source)),
        ("levels", lambda: _levels(source, names)),
        ("dropouts", lambda: _dropouts(source)),
        ("channels", lambda: _channels(source)),
    )
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


def _nothing(_share: float) -> None:
    return None


def _counted(count: int, word: str) -> str:
    return f"{count} {word}" if count == 1 else f"{count} {word}s"


def _minutes(source: Source) -> float:
    return max(source.frames / source.rate / 60.0, 1 / 60.0)


def _overload(source: Source) -> list[Finding]:
    settings = overload.OverloadSettings(rebuild=False)
    levels = overload.analyse(source, (), settings, _nothing)
    survey = overload.survey(source, source, (), settings, levels, _nothing)
    if survey.table is None:
        return []
    count = int(survey.table.rows[0][1])
    words = f"{count} samples are cut flat in {len(survey.marks)} places."
    return [Finding("overload", words, float(count), "samples", 0.9, "overload", {}, survey.marks)]


def _clicks(source: Source) -> list[Finding]:
    survey = clicks.survey(source, source, (), clicks.ClicksSettings(), None, _nothing)
    rate = len(survey.marks) / _minutes(source)
    if rate < CLICKS_A_MINUTE:
        return []
    kind = "crackle" if rate > 480 else "clicks"
    return [
        Finding(
            "clicks",
            f"{_counted(len(survey.marks), 'click')}, {format_number(rate)} a minute.",
            rate,
            "a minute",
            0.8,
            "clicks",
            {"kind": kind},
            survey.marks,
        )
    ]


def _plosives(source: Source) -> list[Finding]:
    survey = plosives.survey(source, source, (), plosives.PlosivesSettings(), None, _nothing)
    rate = len(survey.marks) / _minutes(source)
    if rate < THUMPS_A_MINUTE:
        return []
    return [
        Finding(
            "plosives",
            f"{_counted(len(survey.marks), 'thump')} below 150 Hz.",
            rate,
            "a minute",
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
    words = f"Hum at {format_number(found.lines.base_hz, 2)} Hz with {len(found.lines.hz)} lines, the strongest at {format_number(strongest)} dBFS."
    return [Finding("hum", words, strongest, "dBFS", 0.95, "hum", {"base_hz": round(found.lines.base_hz, 2)})]


def _breaths(source: Source) -> list[Finding]:
    survey = breaths.survey(source, source, (), breaths.BreathsSettings(), None, _nothing)
    rate = len(survey.marks) / _minutes(source)
    if rate < BREATHS_A_MINUTE:
        return []
    return [
        Finding(
            "breaths",
            f"{_counted(len(survey.marks), 'breath')} between phrases.",
            rate,
            "a minute",
            0.6,
            "breaths",
            {},
            survey.marks,
        )
    ]


def _noise(source: Source) -> list[Finding]:
    speech = activity_of(source)
    if not speech.active.any():
        return []
    snr = speech.speech_db - speech.floor_db
    found = []
    changes = changes_s(band_powers(source))
    marks = tuple(Mark(round(s * source.rate), round(s * source.rate) + 1, "another noise begins") for s in changes)
    if snr < QUIET_ENOUGH_DB:
        reduction = float(np.clip(round(50.0 - snr), 4.0, 20.0))
        words = f"The noise lies {format_number(snr, 0)} dB under the voice"
        words += (
            "." if not changes else " and changes once." if len(changes) == 1 else f" and changes {len(changes)} times."
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


def _ringing(source: Source) -> list[Finding]:
    found = ringing.analyse(source, (), ringing.RingingSettings(), _nothing)
    if not found:
        return []
    places = ", ".join(f"{r.hz:.0f}" for r in found[:4])
    words = f"Resonances at {places} Hz, the strongest {format_number(found[0].excess_db)} dB."
    return [
        Finding("ringing", words, found[0].excess_db, "dB", 0.6, "ringing", {"bells_count": float(min(6, len(found)))})
    ]


def _sibilance(source: Source) -> list[Finding]:
    settings = sibilance.SibilanceSettings()
    speaker = sibilance.analyse(source, (), settings, _nothing)
    if not speaker.count or speaker.usual_db < HARD_S_DB:
        return []
    survey = sibilance.survey(source, source, (), settings, speaker, _nothing)
    reduction = float(np.clip(round(2 * (speaker.usual_db + 10.0)) / 2, 2.0, 8.0))
    words = f"Hard S at {speaker.band_hz[0]:.0f} Hz and above, {format_number(speaker.usual_db, 1, plus=True)} dB relative to the voice."
    return [
        Finding(
            "sibilance",
            words,
            speaker.usual_db,
            "dB",
            0.7,
            "sibilance",
            {"reduction_db": reduction, "threshold_db": -reduction},
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
            f"The room rings for {format_number(middle, 2)} s (T60, from {found.count} word ends).",
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
        Finding("dull", f"The voice ends at {found.top_hz:.0f} Hz.", found.top_hz / 1000.0, "kHz", 0.7, "dull_voice")
    ]


def _levels(source: Source, names: Sequence[str]) -> list[Finding]:
    measures = measure(source, names=names, workers=1)
    figures = {row.name: row.value for row in passage_figures(source, names)}
    found = []
    offset = figures.get("Offset")
    if offset is not None and offset > OFFSET_DBFS:
        words = f"The wave lies off the middle by {format_number(offset)} dBFS."
        found.append(Finding("offset", words, offset, "dBFS", 0.9, "polarity", {"offset": "high_pass"}))
    swing = figures.get("Lopsided: positive over negative swing")
    if swing is not None and abs(swing) > LOPSIDED_DB:
        side = "positive" if swing > 0 else "negative"
        found.append(
            Finding(
                "lopsided",
                f"The voice swings {format_number(abs(swing))} dB further to the {side} side.",
                swing,
                "dB",
                0.8,
                "polarity",
                {"made_even": True},
            )
        )
    found += _unevenness(measures)
    return found


def _unevenness(measures: Measures) -> list[Finding]:
    """How far phrases differ: the spread of short-term loudness where there is speech."""
    curve = measures.short_term[np.isfinite(measures.short_term)]
    if measures.integrated_lufs is None or len(curve) < 20 * FRAMES_PER_S:
        return []
    heard = curve[curve > measures.integrated_lufs - 15.0]
    spread = float(np.quantile(heard, 0.95) - np.quantile(heard, 0.1)) if len(heard) else 0.0
    if spread < UNEVEN_LU:
        return []
    return [Finding("level", f"Phrases differ by {format_number(spread)} LU.", spread, "LU", 0.7, "leveller")]


def _dropouts(source: Source) -> list[Finding]:
    """Digital silence inside the sound."""
    marks: list[Mark] = []
    least = round(DROPOUT_S * source.rate)
    step = READ_S * source.rate
    for begin in range(0, source.frames, step):
        end = min(begin + step, source.frames)
        silent = np.logical_not(source.read(begin, end).any(axis=0))
        for a, b in runs(silent, at_least=least):
            if a + begin > 0 and b + begin < source.frames:
                marks.append(Mark(a + begin, b + begin, f"{1000 * (b - a) / source.rate:.0f} ms"))
    if not marks:
        return []
    first = format_time(marks[0].start / source.rate, 2)
    return [
        Finding(
            "silence",
            f"Digital silence in {len(marks)} places, the first at {first}.",
            float(len(marks)),
            "places",
            1.0,
            "room_tone",
            marks=tuple(marks),
        )
    ]


def _channels(source: Source) -> list[Finding]:
    """One side missing, opposite polarity, one side late."""
    if source.channels != 2:
        return []
    middle = max(0, source.frames // 2 - 30 * source.rate)
    left, right = source.read(middle, min(source.frames, middle + 60 * source.rate)).astype(np.float64)
    power = np.array([np.mean(left**2), np.mean(right**2)])
    if power.max() <= 1e-12:
        return []
    difference = 10 * np.log10(max(power.max(), 1e-20) / max(power.min(), 1e-20))
    if difference > ONE_SIDE_DB:
        side = "right" if power[0] > power[1] else "left"
        return [
            Finding(
                "channel missing",
                f"The {side} side is {format_number(min(difference, 120.0), 0)} dB quieter than the other.",
                float(difference),
                "dB",
                0.9,
                "channels",
                {"way": "left" if side == "right" else "right"},
            )
        ]
    size = 1 << int(np.ceil(np.log2(len(left) + 4096)))
    cross = (
        np.fft.irfft(np.fft.rfft(left, size) * np.conj(np.fft.rfft(right, size)), size)
        / np.sqrt(power.prod())
        / len(left)
    )
    near = np.concatenate([cross[-2048:], cross[:2048]])
    at = int(np.argmax(np.abs(near))) - 2048
    found = []
    if float(near[at + 2048]) < OPPOSITE:
        found.append(
            Finding(
                "polarity",
                f"The sides have opposite polarity (correlation {format_number(float(near[at + 2048]), 2)}).",
                float(near[at + 2048]),
                "",
                0.9,
                "polarity",
                {"invert": "right"},
            )
        )
    if abs(at) >= LATE_FRAMES and abs(float(near[at + 2048])) > 0.5:
        side, ms = ("left" if at > 0 else "right"), 1000 * abs(at) / source.rate
        earlier = round(-ms if at > 0 else ms, 3)
        found.append(
            Finding(
                "delay",
                f"The {side} side comes {format_number(ms, 2)} ms later.",
                ms,
                "ms",
                0.8,
                "channels",
                {"delay_ms": earlier},
            )
        )
    return found
