# SPDX-License-Identifier: GPL-3.0-or-later
"""Leveller: brings phrases to one loudness by a ride that stands still inside each phrase.

Phrases are found by speech activity (``measure.phrases``) and measured as ITU-R BS.1770 weights them.
Pauses are never lifted: a gain above 0 dB dies away with the voice, one below 0 dB is carried across
short pauses, so that the room does not come up between words. What is far softer than the middle phrase is not lifted
either: breaths, noises, and whoever speaks into another microphone.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.dsp.moments import overlaps_any
from pulizia.measure.phrases import Phrases, find_phrases
from pulizia.measure.speech_activity import FRAMES_PER_S
from pulizia.settings.declare import Settings, Stretches, choice, levels, number, places
from pulizia.tools.base import Block, Handle, LaneCurve, Progress, Suggestion, Survey, Table, Tool
from pulizia.tools.finding import Finding, Mark, Problem
from pulizia.units import Unit, format_number
from pulizia.words import plural, tr

LOWEST_LUFS, HIGHEST_LUFS = -60.0, -10.0  # recorders with much headroom leave voices at -45
NO_PHRASE_LU, NOT_RAISED_LU = 14.0, 20.0  # what lies so far under the middle is a breath, a noise or a voice far away
CARRY_S = 1.5  # pauses up to this long keep a gain below 0 dB


@dataclass(frozen=True, slots=True, kw_only=True)
class LevellerSettings(Settings):
    """Where to, how far and how quickly."""

    way: str = choice(
        "relative", options={"relative": "recording's median", "loudness": "fixed loudness"}, label="Target",
        help="The median of this recording's phrases, or a fixed loudness.",
    )  # fmt: skip
    target_lufs: float = number(
        -23.0, unit=Unit.LUFS, low=LOWEST_LUFS, high=HIGHEST_LUFS, step=0.5, label="Loudness",
        help="Loudness of every phrase, with a fixed target.",
    )  # fmt: skip
    amount: float = number(
        1.0, unit=Unit.SHARE, low=0.0, high=1.0, step=0.05, label="Amount",
        help="How much of the difference is evened out. Some difference keeps a voice lively.",
    )  # fmt: skip
    up_db: float = number(
        12.0, unit=Unit.DB, low=0.0, high=24.0, step=0.5, label="Max. boost", help="No phrase is raised by more than this.",
    )  # fmt: skip
    down_db: float = number(
        12.0, unit=Unit.DB, low=0.0, high=24.0, step=0.5, label="Max. cut", help="No phrase is lowered by more than this.",
    )  # fmt: skip
    speed_ms: float = number(
        40.0, unit=Unit.MS, low=10.0, high=500.0, step=5.0, scale="log", label="Transition time",
        help="Time in which the gain changes between phrases.",
    )  # fmt: skip
    ride_levels: Stretches = levels(
        label="Manual gain", help="Gain of single phrases: time in s, dB. Drag the dots over the waveform.",
    )  # fmt: skip
    left_s: Stretches = places(
        label="Skipped", learned=False, help="Phrases that begin in these sections keep their level."
    )


def analyse(source: Source, spans: Sequence[Span], _settings: LevellerSettings, progress: Progress) -> Phrases:
    """Find the phrases and their loudness."""
    whole = len(spans) == 1 and spans[0].start == 0 and spans[0].stop >= source.frames
    return find_phrases(source, () if whole else spans, progress)


def phrase_gains(phrases: Phrases, settings: LevellerSettings) -> NDArray[np.float64]:
    """Gain of each phrase in dB."""
    if not len(phrases.lufs):
        return np.zeros(0)
    usual = usual_lufs(phrases)
    goal = settings.target_lufs if settings.way == "loudness" else usual
    gains = np.clip(settings.amount * (goal - phrases.lufs), -settings.down_db, settings.up_db)
    raised = np.interp(usual - phrases.lufs, (NO_PHRASE_LU, NOT_RAISED_LU), (1.0, 0.0))
    gains = np.where(gains > 0.0, raised * gains, gains)
    for n, (a, b) in enumerate(phrases.spans.tolist()):
        if overlaps_any((a, b), settings.left_s, FRAMES_PER_S):
            gains[n] = 0.0
    for seconds, gain in settings.ride_levels:
        at = np.flatnonzero(
            (phrases.spans[:, 0] <= seconds * FRAMES_PER_S) & (phrases.spans[:, 1] > seconds * FRAMES_PER_S)
        )
        gains[at] = gain
    return np.asarray(gains)


def usual_lufs(phrases: Phrases) -> float:
    """Loudness of the middle phrase, counted by time."""
    order = np.argsort(phrases.lufs)
    lengths = np.cumsum((phrases.spans[:, 1] - phrases.spans[:, 0])[order])
    return float(phrases.lufs[order][np.searchsorted(lengths, lengths[-1] / 2.0)])


@lru_cache(maxsize=16)
def ride_db(phrases: Phrases, settings: LevellerSettings) -> NDArray[np.float32]:
    """Gain in dB every hundredth of a second."""
    count = len(phrases.speech)
    gains = phrase_gains(phrases, settings)
    ride = np.zeros(count)
    if not len(gains):
        return ride.astype(np.float32)
    starts, stops = phrases.spans[:, 0], phrases.spans[:, 1]
    for n, gain in enumerate(gains.tolist()):
        ride[starts[n] : stops[n]] = gain
        end = int(starts[n + 1]) if n + 1 < len(gains) else count
        after = float(gains[n + 1]) if n + 1 < len(gains) else 0.0
        ride[stops[n] : end] = _pause(end - int(stops[n]), gain, after, phrases.speech[stops[n] : end])
    lead = int(starts[0])
    ride[:lead] = _pause(lead, 0.0, float(gains[0]), phrases.speech[:lead])
    reach = max(1, round(settings.speed_ms / 2000.0 * FRAMES_PER_S))
    kernel = np.hanning(2 * reach + 3)[1:-1]
    padded = np.pad(ride, reach, mode="edge")
    return np.convolve(padded, kernel / kernel.sum(), mode="valid").astype(np.float32)


def _pause(count: int, before: float, after: float, speech: NDArray[np.float32]) -> NDArray[np.float64]:
    """Gain in a pause: what is below 0 dB is carried over, what is above dies away with the voice."""
    if not count:
        return np.zeros(0)
    share = (np.arange(count) + 0.5) / count
    low = min(before, 0.0) * (1.0 - share) + min(after, 0.0) * share
    if count > CARRY_S * FRAMES_PER_S:
        edge = np.clip(np.minimum(share, 1.0 - share) * count / (0.5 * CARRY_S * FRAMES_PER_S), 0.0, 1.0)
        low = low * (1.0 - edge) ** 2
    half = count // 2
    nearer = np.concatenate([np.full(half, max(before, 0.0)), np.full(count - half, max(after, 0.0))])
    return np.asarray(low + nearer * speech)


def process(block: Block, settings: LevellerSettings, phrases: Phrases) -> Samples:
    """Apply the ride to a block."""
    ride = ride_db(phrases, settings)
    frames = block.samples.shape[1]
    if not len(ride):
        return block.samples
    step = block.rate / FRAMES_PER_S
    first = max(0, int(block.start / step) - 1)
    last = min(len(ride), int((block.start + frames) / step) + 3)
    part = ride[first:last]
    if not part.any():
        return block.samples
    at = (np.arange(frames) + block.start) / step - 0.5
    curve = np.interp(at, np.arange(first, last), part)
    return np.asarray(block.samples * (10.0 ** (curve / 20.0)).astype(np.float32))


def caption(settings: LevellerSettings) -> str:
    """Short text on the strip."""
    goal = tr("median phrase") if settings.way == "relative" else f"{format_number(settings.target_lufs)} LUFS"
    return tr(
        "to {goal}, +{up_db} {down_db} dB",
        goal=goal,
        up_db=format_number(settings.up_db, 0),
        down_db=format_number(-settings.down_db, 0),
    )


def survey(
    source: Source,
    after: Source,
    spans: Sequence[Span],
    settings: LevellerSettings,
    phrases: Phrases,
    progress: Progress,
) -> Survey:
    """The ride with a handle on each phrase, and how far phrases differ before and after."""
    del after, spans
    rate = source.rate
    gains = phrase_gains(phrases, settings)
    if not len(gains):
        return Survey(tr("No speech here: there is nothing to level."), stands_first=True)
    marks, handles = [], []
    for (a, b), gain in zip(phrases.spans.tolist(), gains.tolist(), strict=True):
        start, stop = a * rate // FRAMES_PER_S, b * rate // FRAMES_PER_S
        on = not overlaps_any((a, b), settings.left_s, FRAMES_PER_S)
        marks.append(Mark(start, stop, f"{format_number(gain, plus=True)} dB", on=on, value=abs(gain)))
        handles.append(Handle((start + stop) // 2, gain))
    progress(1.0)
    length = (phrases.spans[:, 1] - phrases.spans[:, 0]).astype(float)
    speech = _are_speech(phrases.lufs, length)
    rows = tuple(
        (
            name,
            f"{format_number(_spread(values[speech], length[speech]))} LU",
            tr("{min} to {max}", min=format_number(float(values.min())), max=format_number(float(values.max()))),
        )
        for name, values in ((tr("before"), phrases.lufs), (tr("after"), phrases.lufs + gains))
    )
    words = plural(
        "1 phrase, moved by {min} dB.",
        "{n} phrases, moved by {min} to {max} dB.",
        len(marks),
        min=format_number(float(gains.min()), plus=True),
        max=format_number(float(gains.max()), plus=True),
    )
    ride = LaneCurve("ride", rate // FRAMES_PER_S, ride_db(phrases, settings))
    return Survey(words, tuple(marks), Table(("", tr("spread"), "LUFS"), rows), curves=(ride,), handles=tuple(handles))


def _spread(lufs: NDArray[np.float64], length: NDArray[np.float64]) -> float:
    """How far phrases differ, in LU: from the tenth to the ninetieth of a hundred, each weighted with its length."""
    return _weighted(lufs, length, 0.9) - _weighted(lufs, length, 0.1)


def _are_speech(lufs: NDArray[np.float64], length: NDArray[np.float64]) -> NDArray[np.bool_]:
    return np.asarray(lufs > _weighted(lufs, length, 0.5) - NO_PHRASE_LU)


def suggest(source: Source, spans: Sequence[Span], settings: LevellerSettings, progress: Progress) -> Suggestion:
    """Limits that reach nearly all phrases."""
    phrases = analyse(source, spans, settings, progress)
    if len(phrases.lufs) < 2:
        return Suggestion({}, tr("There are fewer than two phrases: nothing to level."))
    goal = usual_lufs(phrases)
    up = float(np.clip(np.ceil(np.quantile(goal - phrases.lufs, 0.95)), 1.0, 15.0))
    down = float(np.clip(np.ceil(np.quantile(phrases.lufs - goal, 0.95)), 1.0, 15.0))
    return Suggestion(
        {"up_db": up, "down_db": down},
        tr(
            "Phrases lie from {min} to {max} LUFS.",
            min=format_number(float(phrases.lufs.min())),
            max=format_number(float(phrases.lufs.max())),
        ),
    )


UNEVEN = Problem(kind="level", mild=7.0, grave=14.0, unit="LU", certainty=(0.25, 0.85))
LEAST_PHRASES, FEW_PHRASES, UNEVEN_OF_FEW_LU = 2, 4, 8.0
LOUD_SHARE = 0.75  # the louder speaker stays, the softer one is raised


def findings(source: Source, progress: Progress) -> list[Finding]:
    """How far phrases differ: the spread of their loudness, each weighted with its length."""
    phrases = find_phrases(source, (), progress)
    if len(phrases.lufs) < LEAST_PHRASES:
        return []
    length = (phrases.spans[:, 1] - phrases.spans[:, 0]).astype(float)
    kept = _are_speech(phrases.lufs, length)
    if kept.sum() < LEAST_PHRASES:
        return []
    lufs, length = phrases.lufs[kept], length[kept]
    spread = _spread(lufs, length)
    if spread < (UNEVEN.mild if len(lufs) >= FEW_PHRASES else UNEVEN_OF_FEW_LU):
        return []
    words = tr("Phrases differ by {spread} LU.", spread=format_number(spread))
    target = float(np.clip(round(2.0 * _weighted(lufs, length, LOUD_SHARE)) / 2.0, LOWEST_LUFS, HIGHEST_LUFS))
    return [UNEVEN.found("leveller", words, spread, {"way": "loudness", "target_lufs": target})]


def _weighted(values: NDArray[np.float64], weights: NDArray[np.float64], share: float) -> float:
    """Quantile of weighted values."""
    order = np.argsort(values)
    reached = np.cumsum(weights[order]) / weights.sum()
    return float(values[order][min(int(np.searchsorted(reached, share)), len(values) - 1)])


TOOL = Tool(
    id="leveller",
    title="Leveller",
    summary="Brings phrases to one loudness and leaves the pauses down.",
    settings=LevellerSettings,
    version=3,
    order=74,
    family="level",
    strength_field="amount",
    process=process,
    caption=caption,
    analyse=analyse,
    analysis_places=lambda _settings, _rate: None,
    survey=survey,
    suggest=suggest,
    skip_field="left_s",
    applies=lambda settings, name: name != "target_lufs" or settings.way == "loudness",
    handle_field="ride_levels",
    shapes_tone=True,
    problems=(UNEVEN,),
    find=findings,
)
