# SPDX-License-Identifier: GPL-3.0-or-later
"""Fade: the sound comes or goes over each marked stretch."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.settings.declare import Settings, choice, number
from pulizia.tools.base import Block, Progress, Tool
from pulizia.units import Unit
from pulizia.words import translated

FLOOR_DB = -60.0  # where a fade that is straight in dB ends, a little before silence


@dataclass(frozen=True, slots=True, kw_only=True)
class FadeSettings(Settings):
    """Which way, how long and in which shape."""

    way: str = choice(
        "out", options={"in": "in", "out": "out", "both": "in and out"}, label="Fade", help="In, out, or both."
    )
    shape: str = choice(
        "smooth", options={"smooth": "smooth", "power": "equal power", "linear": "linear", "decibel": "linear in dB"},
        label="Shape", help="Smooth suits speech; equal power suits cross-fades.",
    )  # fmt: skip
    length_s: float = number(
        0.0, unit=Unit.SECONDS, low=0.0, high=60.0, step=0.1, label="Length",
        help="Length of each fade; 0 uses the whole selection, or half of it for both.",
    )  # fmt: skip


def analyse(_source: Source, spans: Sequence[Span], _settings: FadeSettings, _progress: Progress) -> tuple[Span, ...]:
    """The stretches over which the sound fades."""
    return tuple(spans)


def gain_at(share: NDArray[np.float64], shape: str) -> NDArray[np.float64]:
    """Gain 0..1 at a share 0..1 of a fade-in."""
    share = np.clip(share, 0.0, 1.0)
    if shape == "linear":
        return share
    if shape == "power":
        return np.asarray(np.sin(0.5 * np.pi * share))
    if shape == "decibel":
        return np.asarray(
            np.where(share > 0.0, 10.0 ** (FLOOR_DB * (1.0 - share) / 20.0), 0.0) * np.minimum(1.0, share * 50.0)
        )
    return np.asarray(0.5 - 0.5 * np.cos(np.pi * share))


def process(block: Block, settings: FadeSettings, spans: tuple[Span, ...]) -> Samples:
    """Fade a block."""
    out = block.samples.copy()
    stop = block.start + out.shape[1]
    for span in spans:
        a, b = max(span.start, block.start), min(span.stop, stop)
        if a >= b:
            continue
        at = np.arange(a, b, dtype=np.float64)
        length = span.frames / (2.0 if settings.way == "both" else 1.0)
        if settings.length_s > 0.0:
            length = min(length, settings.length_s * block.rate)
        length = max(length, 1.0)
        gain = np.ones(b - a)
        if settings.way in ("in", "both"):
            gain *= gain_at((at - span.start + 0.5) / length, settings.shape)
        if settings.way in ("out", "both"):
            gain *= gain_at((span.stop - at - 0.5) / length, settings.shape)
        out[:, a - block.start : b - block.start] *= gain.astype(np.float32)
    return out


def caption(settings: FadeSettings) -> str:
    """Short text on the strip."""
    return translated({"in": "in", "out": "out", "both": "in and out"}[settings.way])


TOOL = Tool(
    id="fade",
    title="Fade",
    summary="Fades the sound in or out over the selection.",
    settings=FadeSettings,
    order=92,
    family="edits",
    process=process,
    caption=caption,
    analyse=analyse,
    analysis_places=lambda _settings, _rate: None,
    shapes_tone=True,
)
