# SPDX-License-Identifier: GPL-3.0-or-later
"""Levels of what is being played, looked up by how much of it has been heard."""

from __future__ import annotations

import threading
from collections import deque
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.dsp.oversample import BLOCK, TAPS, factor_for, interpolator
from pulizia.measure.ballistics import PpmNeedle, VuNeedle

HOLD_S = 1.5
FALL_DB_PER_S = 26.0
KEPT_S = 4.0
SAME_S = 0.01
PICTURED_S = 0.2  # of sound in the goniometer
MOST_PICTURED = 4800

Amplitudes = NDArray[np.float64]


class _Block(NamedTuple):
    """What is kept of a block that was fed."""

    start: int
    frames: int
    peak: NDArray[np.float32]
    true_peak: NDArray[np.float32]
    power: Amplitudes
    cross: float
    vu: Amplitudes
    ppm: Amplitudes
    overs: int
    pair: Samples | None
    before: tuple[Samples, VuNeedle, PpmNeedle]  # the state in which the block was met


@dataclass(frozen=True, slots=True)
class Reading:
    """Levels at one moment, as amplitudes per channel. RMS is mathematical: a sine of 1 reads 0.707."""

    peak: NDArray[np.float32]
    true_peak_hold: NDArray[np.float32]
    rms: NDArray[np.float32]
    correlation: float | None
    vu: Amplitudes
    ppm: Amplitudes
    peak_since_reset: NDArray[np.float32]
    true_peak_since_reset: NDArray[np.float32]
    overs: int  # samples beyond full scale since the reset
    true_peak_overs: int  # blocks of 20 ms with a true peak above the ceiling since the reset
    pair: Samples | None = field(default=None, repr=False)  # (2, n) the last moments of two channels


class LiveLevels:
    """Fed with blocks by the transport; read by gauges. Safe across threads."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._rate = 48_000
        self._blocks: deque[_Block] = deque()
        self._tail = np.zeros((1, TAPS), dtype=np.float32)
        self.rms_s = 0.6
        self.ppm_kind = "IIa"
        self.ceiling = 10.0 ** (-1.0 / 20.0)
        self._vu, self._ppm = VuNeedle(48_000, 1), PpmNeedle(48_000, 1)
        self._counted = 0  # frames of the run that the counts have taken in
        self._most = np.zeros(1, dtype=np.float32)
        self._most_true = np.zeros(1, dtype=np.float32)
        self._overs = self._true_overs = 0
        self._known: tuple[int, _Block, Reading, float] | None = None

    def start(self, rate: int, channels: int) -> None:
        """Get ready for a new run; held peaks and counts stay unless the channels differ."""
        with self._lock:
            self._rate, self._known = rate, None
            self._blocks.clear()
            self._tail = np.zeros((channels, TAPS), dtype=np.float32)
            self._vu, self._ppm = VuNeedle(rate, channels), PpmNeedle(rate, channels, self.ppm_kind)
            self._counted = 0
            if len(self._most) != channels:
                self._forget(channels)

    def reset(self) -> None:
        """Forget held peaks and counts."""
        with self._lock:
            self._known = None
            self._forget(len(self._most))

    def _forget(self, channels: int) -> None:
        self._most = np.zeros(channels, dtype=np.float32)
        self._most_true = np.zeros(channels, dtype=np.float32)
        self._overs = self._true_overs = 0

    def feed(self, block: Samples, fed_frame: int) -> None:
        """Note a block that begins at ``fed_frame`` of the run."""
        padded = np.concatenate([self._tail, block], axis=1)
        peak = np.abs(block).max(axis=1)
        true_peak = np.maximum(peak, _true_peak(padded, self._rate))
        power = np.einsum("cn,cn->c", block, block, dtype=np.float64)
        pair = block[:, :: max(1, self._rate // 24_000)].copy() if len(block) == 2 else None
        cross = float(np.dot(block[0], block[1])) if len(block) == 2 else 0.0
        overs = int(np.count_nonzero(np.abs(block) > 1.0)) if peak.max() > 1.0 else 0
        self._ppm.kind = self.ppm_kind
        before = (self._tail, self._vu.copied(), self._ppm.copied())
        vu, ppm = self._vu.feed(block), self._ppm.feed(block)
        made = _Block(fed_frame, block.shape[1], peak, true_peak, power, cross, vu, ppm, overs, pair, before)
        with self._lock:
            self._tail = padded[:, -TAPS:]
            self._blocks.append(made)
            while self._blocks and self._blocks[0].start < fed_frame - KEPT_S * self._rate:
                self._blocks.popleft()

    def forget_from(self, fed_frame: int) -> None:
        """Other sound takes the place of all blocks from ``fed_frame`` on, where one of them begins."""
        with self._lock:
            self._known = None
            while self._blocks and self._blocks[-1].start >= fed_frame:
                self._tail, self._vu, self._ppm = self._blocks.pop().before

    def at(self, heard: int) -> Reading | None:
        """Levels at the moment when ``heard`` frames of the run have been heard."""
        with self._lock:
            known, self._known = self._known, None
            if (
                known is not None
                and 0 <= heard - known[0] < SAME_S * self._rate
                and self._blocks
                and known[1] is self._blocks[-1]
                and known[3] == self.rms_s
            ):
                self._known = known
                return known[2]  # several gauges ask for the same moment
            blocks = [b for b in self._blocks if b.start < heard]
            if not blocks:
                return None
            for block in blocks:
                if block.start >= self._counted:
                    self._count(block)
            most, most_true, overs, true_overs = (
                self._most.copy(),
                self._most_true.copy(),
                self._overs,
                self._true_overs,
            )
            rate = self._rate
        last = blocks[-1]
        now = min(heard, last.start + last.frames)
        reach = now - max(self.rms_s, HOLD_S) * rate
        near = [b for b in blocks if b.start + b.frames >= reach] or [last]
        age = np.maximum(0.0, now - np.array([b.start + b.frames for b in near])) / rate
        fall = 10.0 ** (-FALL_DB_PER_S * age / 20.0)
        peak = np.max(np.stack([b.peak for b in near]) * fall[:, None], axis=0).astype(np.float32)
        held = [b.true_peak for b, old in zip(near, age, strict=True) if old <= HOLD_S]
        hold = np.max(held, axis=0) if held else np.zeros_like(peak)
        averaged = [b for b, old in zip(near, age, strict=True) if old <= self.rms_s] or [last]
        power = np.sum([b.power for b in averaged], axis=0)
        frames = sum(b.frames for b in averaged)
        norm = float(np.sqrt(power[0] * power[1])) if len(power) == 2 else 0.0
        correlation = sum(b.cross for b in averaged) / norm if norm > 1e-12 else None
        rms = np.sqrt(power / max(frames, 1)).astype(np.float32)
        pairs = [b.pair for b, old in zip(near, age, strict=True) if old <= PICTURED_S and b.pair is not None]
        pair = np.concatenate(pairs, axis=1)[:, -MOST_PICTURED:] if pairs else None
        made = Reading(peak, hold, rms, correlation, last.vu, last.ppm, most, most_true, overs, true_overs, pair)
        with self._lock:
            if self._blocks:
                self._known = (heard, self._blocks[-1], made, self.rms_s)
        return made

    def _count(self, block: _Block) -> None:
        np.maximum(self._most, block.peak, out=self._most)
        np.maximum(self._most_true, block.true_peak, out=self._most_true)
        self._overs += block.overs
        self._true_overs += int(block.true_peak.max() > self.ceiling)
        self._counted = block.start + block.frames


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
