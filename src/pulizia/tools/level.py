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

READ_FRAMES = 1 << 18


@dataclass(frozen=True, slots=True, kw_only=True)
class LevelSettings(Settings):
    """By how much, or to which peak."""

    way: str = choice(
        "peak", options={"peak": "to a peak", "gain": "by a gain"}, label="Way",
        help="Bring the loudest sample to a chosen peak, or change the level by a fixed gain.",
    )  # fmt: skip
    peak_dbfs: float = number(
        -3.0, unit=Unit.DBFS, low=-40.0, high=0.0, step=0.1, label="Peak",
        help="Level of the loudest sample afterwards. It may raise or lower the sound.",
    )  # fmt: skip
    gain_db: float = number(
        0.0, unit=Unit.DB, low=-60.0, high=40.0, step=0.1, label="Gain",
        help="How much louder or quieter the sound becomes.",
    )  # fmt: skip
    linked: bool = switch(
        True, label="Channels linked",
        help="On: one gain for all channels, the balance stays. Off: each to its own peak.",
    )  # fmt: skip


def analyse(
    source: Source, spans: Sequence[Span], settings: LevelSettings, progress: Progress
) -> NDArray[np.float32]:
    """Largest absolute sample of each channel within the spans: (channels,) float32."""
    peaks = np.zeros(source.channels, dtype=np.float32)
    if settings.way == "gain":
        return peaks
    total = max(1, sum(s.frames for s in spans))
    done = 0
    for span in spans:
        for start in range(span.start, span.stop, READ_FRAMES):
            block = source.read(start, min(start + READ_FRAMES, span.stop))
            np.maximum(peaks, np.abs(block).max(axis=1), out=peaks)
            done += block.shape[1]
            progress(done / total)
    return peaks


def process(block: Block, settings: LevelSettings, peaks: NDArray[np.float32]) -> Samples:
    """Apply the gain."""
    if settings.way == "gain":
        return block.samples * np.float32(db_to_gain(settings.gain_db))
    goal = np.float32(db_to_gain(settings.peak_dbfs))
    reference = np.full_like(peaks, peaks.max()) if settings.linked else peaks
    gains = np.where(reference > 0.0, goal / np.maximum(reference, np.float32(1e-9)), 1.0)
    return np.asarray(block.samples * gains[:, None], dtype=np.float32)


def analysis_places(settings: LevelSettings, _rate: int) -> tuple[Span, ...] | None:
    """Everything for a peak, nothing for a gain."""
    return () if settings.way == "gain" else None


def caption(settings: LevelSettings) -> str:
    """Short text on the strip."""
    if settings.way == "gain":
        return f"{format_number(settings.gain_db, 1, plus=True)} dB"
    return f"peak {format_number(settings.peak_dbfs, 1)} dBFS"


TOOL = Tool(
    id="level",
    title="Level",
    summary="Changes the level by a gain, or brings the loudest sample to a chosen peak.",
    settings=LevelSettings,
    order=90,
    process=process,
    caption=caption,
    analyse=analyse,
    analysis_places=analysis_places,
    analysis_fields=("way",),
    sets_level=True,
)
