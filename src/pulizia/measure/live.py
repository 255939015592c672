"""Levels of what is being played, looked up by how much of it has been heard."""

from __future__ import annotations

import threading
from collections import deque
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.dsp.oversample import BLOCK, TAPS, factor_for, interpolator

RMS_TIME_S = 0.3  # common practice between 0.3 and 0.6 s
HOLD_S = 1.5
FALL_DB_PER_S = 26.0


@dataclass(frozen=True, slots=True)
class Reading:
    """Levels at one moment, as amplitudes per channel."""

    peak: NDArray[np.float32]
    true_peak_hold: NDArray[np.float32]
    rms: NDArray[np.float32]
    correlation: float | None


class LiveLevels:
    """Fed with blocks by the transport; read by gauges. Safe across threads."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._rate = 48_000
        self._blocks: deque[tuple[int, int, NDArray[np.float32], NDArray[np.float32], NDArray[np.float64], float]] = deque()  # fmt: skip
        self._tail = np.zeros((1, TAPS), dtype=np.float32)

    def start(self, rate: int, channels: int) -> None:
        """Forget what was, get ready for a new run."""
        with self._lock:
            self._rate = rate
            self._blocks.clear()
            self._tail = np.zeros((channels, TAPS), dtype=np.float32)

    def feed(self, block: Samples, fed_frame: int) -> None:
        """Note a block that begins at ``fed_frame`` of the run."""
        padded = np.concatenate([self._tail, block], axis=1)
        peak = np.abs(block).max(axis=1)
        true_peak = np.maximum(peak, _true_peak(padded, self._rate))
        power = np.einsum("cn,cn->c", block, block, dtype=np.float64)
        cross = float(np.dot(block[0], block[1])) if len(block) == 2 else 0.0
        with self._lock:
            self._tail = padded[:, -TAPS:]
            self._blocks.append((fed_frame, block.shape[1], peak, true_peak, power, cross))
            while self._blocks and self._blocks[0][0] < fed_frame - 4 * self._rate:
                self._blocks.popleft()

    def at(self, heard: int) -> Reading | None:
        """Levels at the moment when ``heard`` frames of the run have been heard."""
        with self._lock:
            blocks = [b for b in self._blocks if b[0] < heard]
            rate = self._rate
        if not blocks:
            return None
        last_start, last_frames, *_ = blocks[-1]
        now = min(heard, last_start + last_frames)
        peak = np.zeros_like(blocks[-1][2])
        hold = np.zeros_like(peak)
        power = np.zeros(len(peak))
        cross, frames = 0.0, 0
        for start, count, block_peak, block_true_peak, block_power, block_cross in blocks:
            age = max(0.0, (now - start - count) / rate)
            np.maximum(peak, block_peak * np.float32(10.0 ** (-FALL_DB_PER_S * age / 20.0)), out=peak)
            if age <= HOLD_S:
                np.maximum(hold, block_true_peak, out=hold)
            if age <= RMS_TIME_S:
                power += block_power
                cross += block_cross
                frames += count
        norm = float(np.sqrt(power[0] * power[1])) if len(power) == 2 else 0.0
        correlation = cross / norm if norm > 1e-12 else None
        return Reading(peak, hold, np.sqrt(power / max(frames, 1)).astype(np.float32), correlation)


def _true_peak(padded: Samples, rate: int) -> NDArray[np.float32]:
    """Largest value between samples, up to where the interpolator still sees enough of them."""
    filter_ = interpolator(factor_for(rate))
    width = BLOCK + TAPS - 1
    if padded.shape[1] < width:
        return np.zeros(len(padded), dtype=np.float32)
    places = np.append(np.arange(0, padded.shape[1] - width, BLOCK), padded.shape[1] - width)
    windows = np.lib.stride_tricks.sliding_window_view(padded, width, axis=1)[:, places]
    values = np.abs(filter_.between(windows.reshape(-1, width)))
    return np.asarray(values.max(axis=(1, 2)).reshape(padded.shape[0], -1).max(axis=1))
