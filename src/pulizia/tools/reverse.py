# SPDX-License-Identifier: GPL-3.0-or-later
"""Reverse: each marked stretch sounds backwards."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.settings.declare import Settings
from pulizia.tools.base import Block, Progress, Tool
from pulizia.words import tr


@dataclass(frozen=True, slots=True, kw_only=True)
class ReverseSettings(Settings):
    """Nothing to set: mark the stretch."""


@dataclass(frozen=True, slots=True)
class Backwards:
    """Where a stretch is read from its end."""

    source: Source
    spans: tuple[Span, ...]


def analyse(source: Source, spans: Sequence[Span], _settings: ReverseSettings, _progress: Progress) -> Backwards:
    """Keep the sound that is read backwards; nothing is read yet."""
    return Backwards(source, tuple(spans))


def process(block: Block, _settings: ReverseSettings, backwards: Backwards) -> Samples:
    """Exchange each frame for the one as far from the stretch's other end."""
    out = block.samples.copy()
    stop = block.start + out.shape[1]
    for span in backwards.spans:
        a, b = max(span.start, block.start), min(span.stop, stop)
        if a < b:
            mirrored = backwards.source.read(span.start + span.stop - b, span.start + span.stop - a)
            out[:, a - block.start : b - block.start] = mirrored[:, ::-1]
    return out


TOOL = Tool(
    id="reverse",
    title="Reverse",
    summary="Plays the selection backwards.",
    settings=ReverseSettings,
    order=78,
    family="edits",
    process=process,
    caption=lambda _settings: tr("backwards"),
    analyse=analyse,
    analysis_places=lambda _settings, _rate: None,
    shapes_tone=True,
)
