# SPDX-License-Identifier: GPL-3.0-or-later
"""Hours of sound for benchmarks: the demo recordings, tiled, as files in a temporary folder."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import soundfile

from pulizia.media.write import WavWriter

DEMO = Path(__file__).resolve().parent.parent / "src" / "pulizia" / "data" / "demo"
RATE = 48_000


def narration(channels: int = 1) -> np.ndarray:
    """The demo narration, (channels, frames) float32; the second channel 30 frames late."""
    mono, _ = soundfile.read(DEMO / "hall-of-pendulums.flac", dtype="float32")
    return np.stack([np.roll(mono, 30 * c) for c in range(channels)])


def long_wav(folder: Path, seconds: float, channels: int = 1) -> Path:
    """A 24-bit WAV of the given length; passages differ in level."""
    path = folder / f"long-{seconds:.0f}-{channels}.wav"
    piece = narration(channels)
    left, number = round(seconds * RATE), 0
    with WavWriter(path, rate=RATE, channels=channels, sample_format="int24") as writer:
        while left > 0:
            part = piece[:, : min(left, piece.shape[1])] * np.float32(0.6 + 0.4 * np.sin(number))
            writer.write(part)
            left, number = left - part.shape[1], number + 1
    return path
