# SPDX-License-Identifier: GPL-3.0-or-later
"""Polarity and offset: turns the wave over, takes an offset out, evens a lopsided voice by turning its phases."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.dsp.phase_turn import half_length, turned
from pulizia.settings.declare import Settings, choice, number, switch
from pulizia.tools.base import Block, Margin, Progress, Suggestion, Survey, Table, Tool
from pulizia.tools.finding import Finding, Problem
from pulizia.units import Unit, format_number, gain_to_db
from pulizia.words import tr

READ_FRAMES = 1 << 18
MOST_LISTENED_S = 600
ANGLES = tuple(range(-90, 91, 15))
CORNER_HZ = 10.0
RING_S = 0.25  # what the high-pass remembers, to -120 dB


@dataclass(frozen=True, slots=True, kw_only=True)
class PolaritySettings(Settings):
    """Which channels are turned over, what is done about an offset, and the phase."""

    invert: str = choice(
        "none", options={"none": "as it is", "all": "all channels", "left": "left", "right": "right"}, label="Polarity",
        help="Inverts all channels or one.",
    )  # fmt: skip
    offset: str = choice(
        "none", options={"none": "as it is", "mean": "subtract mean", "high_pass": "high-pass at 10 Hz"}, label="Offset",
        help="Subtracting the mean suits a constant offset; the high-pass follows one that drifts.",
    )  # fmt: skip
    phase_degrees_count: float = number(
        0.0, unit=Unit.COUNT, low=-180.0, high=180.0, step=1.0, label="Phase rotation",
        help="Rotates the phase of all frequencies. It sounds the same and makes an asymmetric waveform symmetrical.",
    )  # fmt: skip
    made_even: bool = switch(False, label="Find rotation", help="Finds the rotation with the lowest peaks.")


@dataclass(frozen=True, slots=True)
class Learned:
    """Mean of each channel, and the turn that gives the lowest peaks."""

    mean: NDArray[np.float64]
    degrees: float
    won_db: float


def analyse(source: Source, spans: Sequence[Span], settings: PolaritySettings, progress: Progress) -> Learned:
    """Measure the offset, and try turns of the phase."""
    mean, count = np.zeros(source.channels), 0
    if settings.offset == "mean":
        total = max(1, sum(s.frames for s in spans))
        for span in spans:
            for start in range(span.start, span.stop, READ_FRAMES):
                block = source.read(start, min(start + READ_FRAMES, span.stop))
                mean += block.sum(axis=1, dtype=np.float64)
                count += block.shape[1]
                progress(0.5 * count / total)
    degrees, won = best_turn(source, spans, progress) if settings.made_even else (settings.phase_degrees_count, 0.0)
    return Learned(mean / max(count, 1), degrees, won)


def best_turn(source: Source, spans: Sequence[Span], progress: Progress) -> tuple[float, float]:
    """The turn with the lowest peak, and by how many dB it is lower than without."""
    start, stop = (spans[0].start, spans[-1].stop) if spans else (0, source.frames)
    most = MOST_LISTENED_S * source.rate
    if stop - start > most:
        start, stop = (start + stop - most) // 2, (start + stop + most) // 2
    peaks = np.zeros(len(ANGLES))
    half = half_length(source.rate)
    for begin in range(start, stop, READ_FRAMES):
        a, b = max(0, begin - half), min(source.frames, begin + READ_FRAMES + half)
        block = source.read(a, b)
        quarter = turned(block, 90.0, source.rate)
        for n, degrees in enumerate(ANGLES):
            c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
            peaks[n] = max(peaks[n], float(np.abs(np.float32(c) * block + np.float32(s) * quarter).max()))
        progress(min(1.0, 0.5 + 0.5 * (b - start) / max(1, stop - start)))
    if peaks.max() <= 0.0:
        return 0.0, 0.0
    at = int(np.argmin(peaks + 1e-4 * np.abs(ANGLES)))
    return float(ANGLES[at]), gain_to_db(float(peaks[ANGLES.index(0)] / max(peaks[at], 1e-9)))


def process(block: Block, settings: PolaritySettings, learned: Learned) -> Samples:
    """Apply offset, phase and polarity to a block."""
    out = block.samples
    if settings.offset == "mean":
        inside = np.arange(out.shape[1]) + block.start >= 0
        out = out - learned.mean[:, None].astype(np.float32) * inside
    elif settings.offset == "high_pass":
        out = _high_passed(out, block.rate)
    if learned.degrees:
        out = turned(out, learned.degrees, block.rate)
    if settings.invert == "all":
        return -out
    if settings.invert in ("left", "right") and len(out) >= 2:
        out = out.copy()
        out[0 if settings.invert == "left" else 1] *= -1.0
    return out


def _high_passed(samples: Samples, rate: int) -> Samples:
    from scipy.signal import sosfilt

    from pulizia.dsp.biquads import passes

    return np.asarray(sosfilt(passes(CORNER_HZ, 2, rate, high=True), samples.astype(np.float64)), dtype=np.float32)


def margin(settings: PolaritySettings, rate: int) -> Margin:
    """What the high-pass remembers, and the phase filter's reach."""
    half = half_length(rate) if settings.made_even or settings.phase_degrees_count else 0
    ring = round(RING_S * rate) if settings.offset == "high_pass" else 0
    return Margin(half + ring, half)


def caption(settings: PolaritySettings) -> str:
    """Short text on the strip."""
    parts = [tr("inverted")] if settings.invert != "none" else []
    parts += [tr("no offset")] if settings.offset != "none" else []
    parts += (
        [tr("made symmetrical")]
        if settings.made_even
        else [f"{settings.phase_degrees_count:.0f}\u00b0"]
        if settings.phase_degrees_count
        else []
    )
    return ", ".join(parts) or tr("as it is")


def survey(
    source: Source,
    after: Source,
    spans: Sequence[Span],
    settings: PolaritySettings,
    learned: Learned,
    progress: Progress,
) -> Survey:
    """Swing to both sides and the headroom won."""
    idle = settings.invert == "none" and settings.offset == "none" and not learned.degrees
    rows = []
    for name, sound in ((tr("before"), source), (tr("after"), after)):
        high, low = _swing(sound, spans)
        rows.append((name, f"{format_number(gain_to_db(high))} dBFS", f"{format_number(gain_to_db(low))} dBFS"))
        progress(0.5 if sound is source else 1.0)
    won = gain_to_db(max(_swing(source, spans)) / max(*_swing(after, spans), 1e-9))
    if idle:
        words = tr("Nothing is changed yet. Choose what to invert, remove or rotate, or press U.")
    elif won > 0.05:
        words = tr("{won} dB of headroom gained.", won=format_number(won))
    else:
        words = tr("The highest peak is as high as before.")
    if learned.degrees:
        words += " " + tr("Rotated by {degrees:.0f}°.", degrees=learned.degrees)
    return Survey(words, table=Table(("", tr("upward"), tr("downward")), tuple(rows)), stands_first=idle)


def _swing(source: Source, spans: Sequence[Span]) -> tuple[float, float]:
    high = low = 0.0
    start, stop = (spans[0].start, spans[-1].stop) if spans else (0, source.frames)
    stop = min(stop, start + MOST_LISTENED_S * source.rate)
    for begin in range(start, stop, READ_FRAMES):
        block = source.read(begin, min(stop, begin + READ_FRAMES))
        high, low = max(high, float(block.max())), max(low, float(-block.min()))
    return high, low


def suggest(source: Source, spans: Sequence[Span], _settings: PolaritySettings, progress: Progress) -> Suggestion:
    """The turn with the lowest peaks."""
    degrees, won = best_turn(source, spans, progress)
    if won < 0.3:
        return Suggestion({}, tr("Phase rotation would gain no headroom; the waveform is already symmetrical."))
    return Suggestion(
        {"phase_degrees_count": degrees},
        tr("Rotating by {degrees:.0f}° lowers the peaks by {won} dB.", degrees=degrees, won=format_number(won)),
    )


OFFSET = Problem(kind="offset", mild=-50.0, grave=-25.0, unit="dBFS", certainty=(0.9, 0.9))
LOPSIDED = Problem(kind="lopsided", mild=5.0, grave=10.0, unit="dB", certainty=(0.8, 0.8))


def findings(source: Source, progress: Progress) -> list[Finding]:
    """An offset, and a wave that swings further to one side."""
    found = []
    sums = np.zeros(source.channels)
    high = low = 0.0
    for start in range(0, source.frames, READ_FRAMES):
        block = source.read(start, min(start + READ_FRAMES, source.frames))
        sums += block.sum(axis=1, dtype=np.float64)
        high, low = max(high, float(block.max())), min(low, float(block.min()))
        progress((start + block.shape[1]) / source.frames)
    offset = gain_to_db(float(np.abs(sums).max()) / max(source.frames, 1))
    if offset > OFFSET.mild:
        words = tr("DC offset {offset} dBFS.", offset=format_number(offset))
        found.append(OFFSET.found("polarity", words, offset, {"offset": "high_pass"}))
    swing = gain_to_db(high / -low) if low < 0.0 < high else 0.0
    if abs(swing) > LOPSIDED.mild:
        words = tr(
            "Waveform asymmetry: {swing} dB more on the {side} side.",
            swing=format_number(abs(swing)),
            side=tr("positive") if swing > 0 else tr("negative"),
        )
        found.append(LOPSIDED.found("polarity", words, abs(swing), {"made_even": True}))
    return found


TOOL = Tool(
    id="polarity",
    title="Polarity and offset",
    summary="Inverts polarity, removes DC offset, and corrects an asymmetric waveform.",
    settings=PolaritySettings,
    order=6,
    relates_channels=True,
    family="edits",
    process=process,
    caption=caption,
    margin=margin,
    analyse=analyse,
    analysis_places=lambda settings, _rate: None if settings.offset == "mean" or settings.made_even else (),
    analysis_fields=("offset", "made_even", "phase_degrees_count"),
    survey=survey,
    suggest=suggest,
    applies=lambda settings, name: name != "phase_degrees_count" or not settings.made_even,
    shapes_tone=True,
    problems=(OFFSET, LOPSIDED),
    find=findings,
)
