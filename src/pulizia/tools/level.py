# SPDX-License-Identifier: GPL-3.0-or-later
"""Level: a plain gain, or the gain that brings the sound to a chosen sample peak."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.settings.declare import Settings, choice, number, switch
from pulizia.tools.base import Block, Progress, Tool
from pulizia.units import Unit, db_to_gain, format_number
from pulizia.words import tr

READ_FRAMES = 1 << 18


@dataclass(frozen=True, slots=True, kw_only=True)
class LevelSettings(Settings):
    """By how much, or to which peak."""

    way: str = choice(
        "peak", options={"peak": "to a peak", "gain": "by a gain"}, label="Method",
        help="Bring the loudest sample to a chosen peak, or change the level by a fixed gain.",
    )  # fmt: skip
    peak_dbfs: float = number(
        -3.0, unit=Unit.DBFS, low=-40.0, high=0.0, step=0.1, label="Peak",
        help="Level of the loudest sample afterwards. Raises or lowers the sound.",
    )  # fmt: skip
    gain_db: float = number(
        0.0, unit=Unit.DB, low=-60.0, high=40.0, step=0.1, label="Gain",
        help="Change in level.",
    )  # fmt: skip
    linked: bool = switch(
        True, label="Link channels",
        help="On: one gain for all channels, the balance stays. Off: each to its own peak.",
    )  # fmt: skip
    each: bool = switch(
        False, label="Each section separately",
        help="On: every section gets its own gain. Off: one gain for all.",
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class Peaks:
    """Largest absolute sample of each channel in each stretch."""

    spans: tuple[Span, ...]
    peaks: NDArray[np.float32]  # (stretches, channels)


def analyse(source: Source, spans: Sequence[Span], settings: LevelSettings, progress: Progress) -> Peaks:
    """Measure the peaks of every stretch."""
    peaks = np.zeros((len(spans), source.channels), dtype=np.float32)
    if settings.way == "gain":
        return Peaks((), peaks)
    total = max(1, sum(s.frames for s in spans))
    done = 0
    for n, span in enumerate(spans):
        for start in range(span.start, span.stop, READ_FRAMES):
            block = source.read(start, min(start + READ_FRAMES, span.stop))
            np.maximum(peaks[n], np.abs(block).max(axis=1), out=peaks[n])
            done += block.shape[1]
            progress(done / total)
    return Peaks(tuple(spans), peaks)


def gains_of(settings: LevelSettings, found: Peaks) -> NDArray[np.float32]:
    """(stretches, channels) factor of each."""
    reference = found.peaks
    if not settings.each and len(reference):
        reference = np.broadcast_to(reference.max(axis=0, keepdims=True), reference.shape)
    if settings.linked and len(reference):
        reference = np.broadcast_to(reference.max(axis=1, keepdims=True), reference.shape)
    goal = np.float32(db_to_gain(settings.peak_dbfs))
    return np.where(reference > 0.0, goal / np.maximum(reference, np.float32(1e-9)), np.float32(1.0)).astype(np.float32)


def process(block: Block, settings: LevelSettings, found: Peaks) -> Samples:
    """Apply the gain."""
    if settings.way == "gain":
        return block.samples * np.float32(db_to_gain(settings.gain_db))
    out = block.samples.copy()
    stop = block.start + out.shape[1]
    for span, gains in zip(found.spans, gains_of(settings, found), strict=True):
        a, b = max(span.start, block.start) - block.start, min(span.stop, stop) - block.start
        if a < b:
            out[:, a:b] *= gains[:, None]
    return out


def analysis_places(settings: LevelSettings, _rate: int) -> tuple[Span, ...] | None:
    """Everything for a peak, nothing for a gain."""
    return () if settings.way == "gain" else None


def caption(settings: LevelSettings) -> str:
    """Short text on the strip."""
    if settings.way == "gain":
        return f"{format_number(settings.gain_db, 1, plus=True)} dB"
    return tr("peak {peak_dbfs} dBFS", peak_dbfs=format_number(settings.peak_dbfs, 1))


TOOL = Tool(
    id="level",
    title="Level",
    summary="Changes the level by a gain, or brings the loudest sample to a chosen peak.",
    settings=LevelSettings,
    order=90,
    family="level",
    process=process,
    caption=caption,
    analyse=analyse,
    analysis_places=analysis_places,
    analysis_fields=("way",),
    sets_level=True,
    applies=lambda settings, name: (
        not (name in ("peak_dbfs", "linked", "each") if settings.way == "gain" else name == "gain_db")
    ),
)
