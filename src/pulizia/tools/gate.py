# SPDX-License-Identifier: GPL-3.0-or-later
"""Gate: turns the sound down between phrases.

A level gate with separate opening and closing thresholds, hold, look-ahead and a limited range
(common practice). The level is taken every millisecond in a side-chain band; the state at a moment
depends on the last three seconds only, so that reading order never matters.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, read_padded
from pulizia.audio.spans import Span
from pulizia.dsp import biquads
from pulizia.dsp.block_filter import BlockFilter
from pulizia.dsp.dynamics import over_frames
from pulizia.dsp.moments import runs
from pulizia.measure.speech_activity import FRAMES_PER_S, speech_between
from pulizia.settings.declare import Settings, number, switch
from pulizia.tools.base import Block, Margin, Progress, Suggestion, Survey, Table, Tool
from pulizia.tools.finding import Mark
from pulizia.units import Unit, format_number
from pulizia.words import plural, tr

STEPS_PER_S = 1000
WINDOW_STEPS = 6  # of the level: two periods of a low voice would be 20, but onsets must not wait
MEMORY_S = 3.0
BLOCK = 64
BREATH_BELOW_DB, BREATH_STEPS = 10.0, 140
SURVEY_S = 20
CUT_MS = 10.0
NEVER_CLOSED_PERCENT = 98.0
MOST_MARKS, MOST_LANE = 500, 20_000


@dataclass(frozen=True, slots=True, kw_only=True)
class GateSettings(Settings):
    """When the gate opens and closes, and how far it closes."""

    threshold_db: float = number(
        -45.0, unit=Unit.DB, low=-90.0, high=-10.0, step=0.5, label="Threshold",
        help="In dBFS: the gate opens above this level. Set it a little over the noise, never into the voice.",
    )  # fmt: skip
    range_db: float = number(
        12.0, unit=Unit.DB, low=0.0, high=60.0, step=0.5, label="Range",
        help="Attenuation while closed. A full cut sounds unnatural.",
    )  # fmt: skip
    hysteresis_db: float = number(
        6.0, unit=Unit.DB, low=0.0, high=20.0, step=0.5, label="Hysteresis",
        help="The gate closes this far below the threshold, so that it does not chatter.",
    )  # fmt: skip
    attack_ms: float = number(
        5.0, unit=Unit.MS, low=0.5, high=100.0, step=0.5, scale="log", label="Attack", help="Time to open.",
    )  # fmt: skip
    hold_ms: float = number(
        150.0, unit=Unit.MS, low=0.0, high=1000.0, step=5.0, label="Hold",
        help="The gate stays open this long after the voice, for quiet word ends.",
    )  # fmt: skip
    release_ms: float = number(
        150.0, unit=Unit.MS, low=5.0, high=1000.0, step=5.0, scale="log", label="Release", help="Time to close.",
    )  # fmt: skip
    look_ahead_ms: float = number(
        15.0, unit=Unit.MS, low=0.0, high=100.0, step=1.0, label="Look-ahead",
        help="The gate opens this much before the threshold is passed, so that no word loses its start.",
    )  # fmt: skip
    low_hz: float = number(
        120.0, unit=Unit.HZ, low=20.0, high=2000.0, step=10.0, scale="log", label="Detector from", more=True,
        help="Side-chain high-pass: rumble below does not open the gate.",
    )  # fmt: skip
    high_hz: float = number(
        8000.0, unit=Unit.HZ, low=1000.0, high=20_000.0, step=100.0, scale="log", label="Detector to", more=True,
        help="Side-chain low-pass.",
    )  # fmt: skip
    keep_breaths: bool = switch(
        False,
        label="Keep breaths",
        help="Breaths, which are quieter than words but last longer than clicks, open the gate as well.",
    )
    linked: bool = switch(True, label="Link channels", help="One gate for all channels, by the loudest.", more=True)


@lru_cache(maxsize=8)
def _filter(low_hz: float, high_hz: float, rate: int) -> BlockFilter:
    parts = [biquads.passes(low_hz, 2, rate, high=True)]
    if high_hz < 0.45 * rate:
        parts.append(biquads.passes(high_hz, 2, rate, high=False))
    return BlockFilter.of_sections(np.concatenate(parts), BLOCK)


def _side_chain(samples: Samples, low_hz: float, high_hz: float, rate: int) -> Samples:
    frames = samples.shape[1]
    padded = np.zeros((len(samples), -(-frames // BLOCK) * BLOCK), dtype=np.float32)
    padded[:, :frames] = samples
    return _filter(low_hz, high_hz, rate).apply(padded)[:, :frames]


def levels(samples: Samples, start: int, settings: GateSettings, rate: int) -> tuple[NDArray[np.float64], int]:
    """(channels or 1, steps) level in dBFS of a sine's RMS every millisecond, and the first whole step.

    Steps lie on the recording's own grid; ``start`` is the recording's frame at ``samples[:, 0]``.
    """
    side = _side_chain(samples, settings.low_hz, settings.high_hz, rate)
    first = -(-start * STEPS_PER_S // rate)
    last = (start + samples.shape[1]) * STEPS_PER_S // rate
    edges = (np.arange(first, last + 1) * rate + STEPS_PER_S - 1) // STEPS_PER_S - start
    sums = np.add.reduceat(side**2, edges[:-1], axis=1) if last > first else np.zeros((len(side), 0))
    if last > first and edges[-1] < side.shape[1]:
        sums[:, -1] -= (side[:, edges[-1] :] ** 2).sum(axis=1)
    power = np.maximum(sums, 0.0) / np.maximum(np.diff(edges), 1)
    if settings.linked:
        power = power.max(axis=0, keepdims=True)
    kernel = np.ones(WINDOW_STEPS) / WINDOW_STEPS
    calm = np.stack([np.convolve(row, kernel, mode="same") for row in power])
    return 10.0 * np.log10(np.maximum(calm, 1e-16)), int(first)


def open_steps(level: NDArray[np.float64], settings: GateSettings) -> NDArray[np.bool_]:
    """Where the gate is wanted open: last event decides between the thresholds, then hold and look-ahead."""
    up = level > settings.threshold_db
    if settings.keep_breaths:
        raised = level > settings.threshold_db - BREATH_BELOW_DB
        inside = np.convolve(raised, np.ones(BREATH_STEPS), mode="same") >= 0.9 * BREATH_STEPS
        up = up | (inside & raised)
    down = level < settings.threshold_db - settings.hysteresis_db - (BREATH_BELOW_DB if settings.keep_breaths else 0.0)
    event = np.where(up | down, np.arange(len(level)), -1)
    last = np.maximum.accumulate(event)
    state = np.where(last >= 0, up[np.maximum(last, 0)], False)
    state &= np.arange(len(level)) - last < MEMORY_S * STEPS_PER_S / 2
    hold, ahead = round(settings.hold_ms), round(settings.look_ahead_ms)
    sums = np.concatenate([[0], np.cumsum(state)])
    n = np.arange(len(state))
    return np.asarray(sums[np.minimum(n + ahead + 1, len(state))] - sums[np.maximum(n - hold, 0)] > 0)


def gain_db(wanted: NDArray[np.bool_], settings: GateSettings) -> NDArray[np.float64]:
    """Gain in dB at each step: smooth ramps after each opening and closing."""
    if not len(wanted):
        return np.zeros(0)
    n = np.arange(len(wanted))
    last_open = np.maximum.accumulate(np.where(wanted, n, -(10**9)))
    fall = _smooth((n - last_open) / max(1.0, settings.release_ms))
    gain = -settings.range_db * fall
    starts = np.flatnonzero(wanted & ~np.concatenate([[True], wanted[:-1]]))
    attack = max(1, round(settings.attack_ms))
    for start in starts.tolist():
        stop = min(start + attack, len(wanted))
        rise = -settings.range_db * (1.0 - _smooth((np.arange(start, stop) - start + 1) / attack))
        gain[start:stop] = np.minimum(gain[start:stop], np.maximum(rise, gain[start - 1]))
    return np.asarray(gain)


def _smooth(share: NDArray[np.float64]) -> NDArray[np.float64]:
    share = np.clip(share, 0.0, 1.0)
    return np.asarray(share * share * (3.0 - 2.0 * share))


def process(block: Block, settings: GateSettings, _analysis: None) -> Samples:
    """Turn the block down where the gate is closed."""
    level, first = levels(block.samples, block.start, settings, block.rate)
    out = np.empty_like(block.samples)
    frames = block.samples.shape[1]
    curves = [
        over_frames(gain_db(open_steps(row, settings), settings), first, block.start, frames, block.rate)
        for row in level
    ]
    for channel in range(len(out)):
        curve = curves[0 if settings.linked else channel]
        np.multiply(block.samples[channel], curve, out=out[channel])
    return out


def margin(settings: GateSettings, rate: int) -> Margin:
    """The memory of the state, and the look-ahead."""
    spare = round(0.1 * rate)  # the side chain's filters have settled
    breath = round(BREATH_STEPS * rate / STEPS_PER_S) if settings.keep_breaths else 0
    ahead = round(settings.look_ahead_ms * rate / 1000.0)
    before = round((MEMORY_S + (settings.hold_ms + settings.release_ms) / 1000.0) * rate)
    return Margin(before + spare + breath, ahead + spare + breath)


def caption(settings: GateSettings) -> str:
    """Short text on the strip."""
    return tr(
        "{threshold_db} dBFS, range {range_db} dB",
        threshold_db=format_number(settings.threshold_db, 0),
        range_db=format_number(settings.range_db, 0),
    )


def survey(
    source: Source, after: Source, spans: Sequence[Span], settings: GateSettings, analysis: None, progress: Progress
) -> Survey:
    """Openings, and those that cut into a word's start or end."""
    del after, analysis
    wanted: list[NDArray[np.bool_]] = []
    step = SURVEY_S * source.rate
    reach = margin(settings, source.rate)
    for start in range(0, source.frames, step):
        block = read_padded(source, start - reach.before, min(start + step, source.frames) + reach.after)
        level, first = levels(block, start - reach.before, settings, source.rate)
        opened = open_steps(level.max(axis=0), settings)
        a = start * STEPS_PER_S // source.rate - first
        b = min(start + step, source.frames) * STEPS_PER_S // source.rate - first
        wanted.append(opened[a:b])
        progress(0.7 * min(1.0, (start + step) / source.frames))
    opened = np.concatenate(wanted) if wanted else np.zeros(0, dtype=bool)
    speech = speech_between(source, 0, source.frames).core
    voiced = np.repeat(speech, STEPS_PER_S // FRAMES_PER_S)[: len(opened)]
    opened = opened[: len(voiced)]
    marks = tuple(m for m in _cuts(opened, voiced, settings, source.rate) if _inside(m, spans, source))[:MOST_MARKS]
    openings = int(np.count_nonzero(np.diff(opened.astype(np.int8)) == 1))
    share = 100.0 * float(opened.mean()) if len(opened) else 0.0
    rows = (("openings", str(openings)), ("open", f"{format_number(share, 0)} %"), (tr("words cut"), str(len(marks))))
    words = (
        plural(
            "1 opening cuts into a word; lower the threshold or lengthen hold and look-ahead.",
            "{n} openings cut into a word; lower the threshold or lengthen hold and look-ahead.",
            len(marks),
        )
        if marks
        else tr("No opening cuts into a word.")
    )
    acts = bool(len(opened)) and settings.range_db > 0.0
    never_closed, never_open = acts and share >= NEVER_CLOSED_PERCENT, acts and not opened.any()
    if never_closed:
        words = tr("The gate hardly closes here: the pauses lie above the threshold. Raise it, or press U.")
    elif never_open:
        words = tr("The gate never opens here: the voice lies below the threshold. Lower it, or press U.")
    lane = tuple((a * source.rate // STEPS_PER_S, b * source.rate // STEPS_PER_S) for a, b in runs(opened))
    return Survey(words, marks, Table(("", ""), rows), lane[:MOST_LANE], stands_first=never_closed or never_open)


def _inside(mark: Mark, spans: Sequence[Span], source: Source) -> bool:
    return not spans or any(s.overlaps(mark.start, max(mark.stop, mark.start + 1)) for s in spans) or source.frames == 0


def _cuts(opened: NDArray[np.bool_], voiced: NDArray[np.bool_], settings: GateSettings, rate: int) -> list[Mark]:
    """Stretches in which somebody speaks while the gate is closed, next to an opening."""
    if settings.range_db == 0.0 or not len(opened):
        return []
    lost = voiced & ~opened
    edges = np.flatnonzero(np.diff(np.concatenate([[False], lost, [False]]).astype(np.int8)))
    found = []
    for a, b in zip(edges[0::2].tolist(), edges[1::2].tolist(), strict=True):
        start_cut = b < len(opened) and opened[b]
        end_cut = a > 0 and opened[a - 1]
        if b - a >= CUT_MS + 5 and (start_cut or end_cut):
            length = b - a
            words = (
                tr("{length} ms of a word's start", length=length)
                if start_cut
                else tr("{length} ms of a word's end", length=length)
            )
            span = (a * rate // STEPS_PER_S, b * rate // STEPS_PER_S)
            found.append(Mark(*span, words, value=float(length)))
    return found


def suggest(source: Source, spans: Sequence[Span], settings: GateSettings, progress: Progress) -> Suggestion:
    """A threshold between the noise and the voice, from the passages without speech."""
    start, stop = (spans[0].start, spans[-1].stop) if spans else (0, source.frames)
    stop = min(stop, start + 600 * source.rate)
    speech = speech_between(source, start, stop, lambda p: progress(0.5 * p))
    if not speech.active.any() or speech.active.all():
        return Suggestion({}, tr("Speech and pauses could not be told apart here; set the threshold by ear."))
    gathered, voice = [], []
    step = SURVEY_S * source.rate
    for begin in range(start, stop, step):
        block = read_padded(source, begin, min(begin + step, stop))
        level, first = levels(block, begin, settings, source.rate)
        row = level.max(axis=0)
        frame = np.minimum(
            ((first + np.arange(len(row))) * FRAMES_PER_S // STEPS_PER_S) - start * FRAMES_PER_S // source.rate,
            len(speech.active) - 1,
        )
        active = speech.active[np.maximum(frame, 0)]
        gathered.append(row[~active])
        voice.append(row[active])
        progress(0.5 + 0.5 * min(1.0, (begin + step - start) / (stop - start)))
    noise = np.concatenate(gathered)
    heard = noise[noise > -140.0]
    if not len(heard):
        return Suggestion({"threshold_db": -80.0}, tr("The pauses are digital silence; any low threshold works."))
    top = float(np.quantile(heard, 0.98))
    loud = float(np.quantile(np.concatenate(voice), 0.75))
    threshold = min(top + 3.0, 0.5 * (top + loud))
    threshold = float(np.clip(round(2 * threshold) / 2, -90.0, -10.0))
    hysteresis = float(np.clip(round(threshold - top + 2.0), 3.0, 8.0))
    # the weaker a word's first consonant beside the noise, the later its level tells: open earlier then
    ahead = float(np.clip(round(110.0 - 2.0 * (loud - top)), 25.0, 90.0))
    words = tr(
        "Noise in the pauses reaches {top} dBFS, the voice lies at {loud}.",
        top=format_number(top),
        loud=format_number(loud),
    )
    return Suggestion(
        {"threshold_db": threshold, "hysteresis_db": hysteresis, "hold_ms": 200.0, "look_ahead_ms": ahead}, words
    )


TOOL = Tool(
    id="gate",
    title="Gate",
    summary="Turns the sound down between phrases and opens in time for every word.",
    settings=GateSettings,
    order=47,  # behind Noise: before it, the noise learned in the pauses is that of a closed gate
    family="steady",
    process=process,
    caption=caption,
    margin=margin,
    survey=survey,
    suggest=suggest,
)
