# SPDX-License-Identifier: GPL-3.0-or-later
"""Channels: one side for both, sides exchanged, their sum, and a side that comes late brought back."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, read_padded
from pulizia.audio.spans import Span
from pulizia.dsp.side_delay import LONGEST_MS, delay_of, shifted
from pulizia.measure.sides import sides_of
from pulizia.settings.declare import Settings, choice, number
from pulizia.tools.base import Block, Margin, Progress, Suggestion, Tool
from pulizia.tools.finding import Finding, Problem
from pulizia.units import Unit, format_number, ms_to_frames
from pulizia.words import tr, translated

MOST_LISTENED_S = 60
CERTAIN = 0.3  # correlation of the sides from which a delay is believed (common practice)
SPARE_FRAMES = 64  # the interpolator's reach


@dataclass(frozen=True, slots=True, kw_only=True)
class ChannelsSettings(Settings):
    """What becomes of the sides, and by how much one of them is moved."""

    way: str = choice(
        "keep",
        options={"keep": "unchanged", "left": "left on both", "right": "right on both", "swap": "swapped", "mono": "their mean on both"},
        label="Channels", help="Copies one channel to both, swaps them, or puts their mean on both.",
    )  # fmt: skip
    delay_ms: float = number(
        0.0, unit=Unit.MS, low=-LONGEST_MS, high=LONGEST_MS, step=0.01, label="Advance right by",
        help="Advances the right channel; negative values advance the left. Find settings measures it.",
    )  # fmt: skip


def process(block: Block, settings: ChannelsSettings, _analysis: None) -> Samples:
    """Move and mix the sides of a block; other than two channels stay as they are."""
    if len(block.samples) != 2:
        return block.samples
    frames = settings.delay_ms * block.rate / 1000.0
    left, right = block.samples
    if frames > 0.0:
        right = shifted(right, frames)
    elif frames < 0.0:
        left = shifted(left, -frames)
    if settings.way == "left":
        right = left
    elif settings.way == "right":
        left = right
    elif settings.way == "swap":
        left, right = right, left
    elif settings.way == "mono":
        left = right = np.float32(0.5) * (left + right)
    return np.stack([left, right])


def margin(settings: ChannelsSettings, rate: int) -> Margin:
    """The delay and the interpolator's reach."""
    if settings.delay_ms == 0.0:
        return Margin(0, 0)
    frames = ms_to_frames(abs(settings.delay_ms), rate) + SPARE_FRAMES
    return Margin(frames, frames)


def caption(settings: ChannelsSettings) -> str:
    """Short text on the strip."""
    words = {
        "keep": "",
        "left": tr("left on both"),
        "right": tr("right on both"),
        "swap": tr("swapped"),
        "mono": tr("mean on both"),
    }[settings.way]
    delay = tr("{delay_ms} ms", delay_ms=format_number(settings.delay_ms, 2, plus=True)) if settings.delay_ms else ""
    return ", ".join(part for part in (words, delay) if part) or tr("as they are")


def suggest(source: Source, spans: Sequence[Span], _settings: ChannelsSettings, progress: Progress) -> Suggestion:
    """Measure how much later the right side comes."""
    if source.channels != 2:
        return Suggestion({}, tr("This recording is not stereo; the step changes nothing."))
    middle = (spans[0].start + spans[-1].stop) // 2 if spans else source.frames // 2
    half = MOST_LISTENED_S * source.rate // 2
    left, right = read_padded(source, max(0, middle - half), min(source.frames, middle + half))
    frames, agreement = delay_of(left, right, ms_to_frames(LONGEST_MS, source.rate))
    progress(1.0)
    ms = round(1000.0 * frames / source.rate, 3)
    if abs(agreement) < CERTAIN:
        return Suggestion(
            {},
            tr(
                "The channels have too little in common (correlation {agreement}) to measure a delay.",
                agreement=format_number(agreement, 2),
            ),
        )
    if abs(frames) < 0.05:
        return Suggestion({"delay_ms": 0.0}, tr("Both channels are in time."))
    figures = {"ms": format_number(abs(ms), 2), "agreement": format_number(agreement, 2)}
    return Suggestion(
        {"delay_ms": ms},
        tr("The right channel is {ms} ms late (correlation {agreement}).", **figures)
        if ms > 0
        else tr("The left channel is {ms} ms late (correlation {agreement}).", **figures),
    )


ONE_SIDE = Problem(kind="channel missing", mild=30.0, grave=60.0, unit="dB", certainty=(0.9, 0.9))
LATE = Problem(kind="delay", mild=0.0, grave=1.0, unit="ms", certainty=(0.8, 0.8))
OPPOSITE = Problem(kind="polarity", mild=-0.3, grave=-0.8, unit="", certainty=(0.9, 0.9))
LATE_FRAMES, ALIKE = 3, 0.5  # and the correlation from which sides are one sound, alike or opposite


def findings(source: Source, progress: Progress) -> list[Finding]:
    """One side missing, of opposite polarity, or late; measured once for all of them."""
    sides = sides_of(source)
    progress(1.0)
    if sides is None:
        return []
    if abs(sides.louder_db) > ONE_SIDE.mild:
        side = "right" if sides.louder_db > 0.0 else "left"
        words = tr(
            "The {side} channel is {difference} dB quieter than the other.",
            side=translated(side),
            difference=format_number(abs(sides.louder_db), 0),
        )
        return [
            ONE_SIDE.found("channels", words, abs(sides.louder_db), {"way": "left" if side == "right" else "right"})
        ]
    if abs(sides.correlation) <= ALIKE:
        return []
    found = []
    if sides.correlation < 0.0:
        words = tr(
            "The channels have opposite polarity (correlation {near}).", near=format_number(sides.correlation, 2)
        )
        found.append(OPPOSITE.found("polarity", words, sides.correlation, {"invert": "right"}))
    if abs(sides.late_frames) < LATE_FRAMES:
        return found
    ms = 1000.0 * sides.late_frames / source.rate
    words = tr(
        "The {side} channel is {ms} ms late.",
        side=translated("right" if ms > 0 else "left"),
        ms=format_number(abs(ms), 2),
    )
    return [*found, LATE.found("channels", words, abs(ms), {"delay_ms": round(ms, 3)})]


TOOL = Tool(
    id="channels",
    title="Channels",
    summary="Copies, swaps or mixes the channels, and corrects a delay between them.",
    settings=ChannelsSettings,
    order=5,
    relates_channels=True,
    family="edits",
    process=process,
    caption=caption,
    margin=margin,
    suggest=suggest,
    shapes_tone=True,
    problems=(ONE_SIDE, OPPOSITE, LATE),
    find=findings,
)
