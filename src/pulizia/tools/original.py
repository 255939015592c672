# SPDX-License-Identifier: GPL-3.0-or-later
"""Original: the raw recording put back in a stretch of a worked one.

Where only a worked file came in, the raw recording beside it is found by its sound (measure/same_sound.py)
and takes its place again, at the level of the worked file. A whole number of frames and no drift copy the
samples; anything else is read between the frames by windowed-sinc interpolation (Kaiser window, 48 taps; see
J. O. Smith, "Digital Audio Resampling", CCRMA; the shape of the window is common practice).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, read_padded
from pulizia.audio.spans import Span
from pulizia.measure.same_sound import SameSound
from pulizia.settings.declare import Settings, number, switch, word
from pulizia.tools.base import Block, Progress, Survey, Tool
from pulizia.units import Unit, db_to_gain, format_number
from pulizia.words import N_, tr, translated

TAPS, PHASES, BETA = 48, 4096, 10.0
PIECE = 1 << 14  # frames whose taps are gathered at once
LEAST_DRIFT_PPM = 1.0  # less is the error of the search
NOT_HERE = N_("The raw recording is not in the project: use Find the original in the File menu.")


@dataclass(frozen=True, slots=True, kw_only=True)
class OriginalSettings(Settings):
    """Which recording, and how it lies beside the worked one."""

    recording: str = word(
        label="Recording", help="The raw recording, by the fingerprint of its file; it has to be in the project.",
    )  # fmt: skip
    offset_s: float = number(
        0.0, unit=Unit.SECONDS, low=-360_000.0, high=360_000.0, step=0.00001, label="Begins at",
        help="Where the start of the processed recording lies in the raw one.", more=True,
    )  # fmt: skip
    gain_db: float = number(
        0.0, unit=Unit.DB, low=-60.0, high=60.0, step=0.1, label="Gain",
        help="Gain that brings the raw sound to the level of the processed one.",
    )  # fmt: skip
    drift_count: float = number(
        0.0, unit=Unit.COUNT, low=-5000.0, high=5000.0, step=0.1, label="Drift, ppm",
        help="How much faster the raw recording's clock ran, in millionths.", more=True,
    )  # fmt: skip
    inverted: bool = switch(False, label="Polarity inverted", help="The processed recording has inverted polarity.", more=True)  # fmt: skip


def process(block: Block, settings: OriginalSettings, raw: Source | None) -> Samples:
    """The raw sound in place of the block; the block itself while the raw recording is not there."""
    if raw is None or raw.rate != block.rate:
        return block.samples
    channels, frames = block.samples.shape
    gain = np.float32(db_to_gain(settings.gain_db) * (-1.0 if settings.inverted else 1.0))
    offset = settings.offset_s * block.rate
    if settings.drift_count == 0.0 and abs(offset - round(offset)) < 1e-3:
        start = block.start + round(offset)
        return _as_many(read_padded(raw, start, start + frames), channels) * gain
    out = np.empty_like(block.samples)
    for first in range(0, frames, PIECE):
        last = min(first + PIECE, frames)
        at = np.arange(block.start + first, block.start + last) * (1.0 + settings.drift_count * 1e-6) + offset
        out[:, first:last] = _as_many(_between(raw, at), channels)
    return out * gain


def _between(raw: Source, at: NDArray[np.float64]) -> Samples:
    """Samples at any places, in frames."""
    begin = int(np.floor(at[0])) - TAPS // 2 + 1
    block = read_padded(raw, begin, int(np.floor(at[-1])) + TAPS // 2 + 1)
    whole = np.floor(at).astype(np.int64)
    phase = np.rint((at - whole) * PHASES).astype(np.int64)
    places = whole - begin - TAPS // 2 + 1
    taps = _table()[phase]
    return np.stack(
        [
            np.einsum("nt,nt->n", np.lib.stride_tricks.sliding_window_view(channel, TAPS)[places], taps)
            for channel in block
        ]
    )


@cache
def _table() -> NDArray[np.float32]:
    """(PHASES + 1, TAPS) windowed sinc; row p reads p / PHASES of a frame behind the frame at TAPS / 2 - 1."""
    t = np.arange(TAPS) - (TAPS // 2 - 1) - np.arange(PHASES + 1)[:, None] / PHASES
    window = np.i0(BETA * np.sqrt(np.maximum(0.0, 1.0 - (t / (TAPS // 2)) ** 2))) / np.i0(BETA)
    rows = np.sinc(t) * window
    return np.asarray(rows / rows.sum(axis=1, keepdims=True), dtype=np.float32)


def _as_many(samples: Samples, channels: int) -> Samples:
    """The same number of channels as the worked recording has."""
    if len(samples) == channels:
        return samples
    if channels == 1:
        return np.asarray(samples.mean(axis=0, keepdims=True, dtype=np.float32))
    return samples[np.minimum(np.arange(channels), len(samples) - 1)]


def lying_at(fingerprint: str, same: SameSound, passage_s: float) -> dict[str, Any]:
    """Settings that put back what was found for the passage that begins at ``passage_s`` of the worked recording."""
    drift = same.drift_ppm if abs(same.drift_ppm) >= LEAST_DRIFT_PPM else 0.0
    return {
        "recording": fingerprint, "offset_s": round(same.offset_s - passage_s * (1.0 + drift * 1e-6), 9),
        "gain_db": round(same.gain_db, 2), "drift_count": round(drift, 2), "inverted": same.inverted,
    }  # fmt: skip


def caption(settings: OriginalSettings) -> str:
    """Short text on the strip."""
    return tr("raw recording, {gain_db} dB", gain_db=format_number(settings.gain_db, 1, plus=True))


def survey(
    source: Source,
    after: Source,
    spans: Sequence[Span],
    settings: OriginalSettings,
    raw: Source | None,
    progress: Progress,
) -> Survey:
    """Whether the raw recording is there, and where it is read."""
    del source, after, progress
    if raw is None:
        return Survey(translated(NOT_HERE), stands_first=True)
    start = settings.offset_s + (spans[0].start / raw.rate if spans else 0.0)
    return Survey(
        tr(
            "Read from {start} s of the raw recording on, at {gain_db} dB.",
            start=format_number(start, 2),
            gain_db=format_number(settings.gain_db, 1, plus=True),
        )
    )


TOOL = Tool(
    id="original",
    title="Original",
    summary="Puts the raw recording back in a section of a processed one.",
    settings=OriginalSettings,
    order=0,
    relates_channels=True,
    family="edits",
    process=process,
    caption=caption,
    survey=survey,
    other_field="recording",
    shapes_tone=True,
)
