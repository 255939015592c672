# SPDX-License-Identifier: GPL-3.0-or-later
"""Lowest, highest and mean square per 256 frames: what waveforms are drawn from at any zoom."""

from __future__ import annotations

import contextlib
import threading
from collections import OrderedDict
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol, runtime_checkable

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.arrays import read_array, write_array
from pulizia.audio.source import Source

SUFFIX = ".peaks"
BIN_FRAMES = 256
SEGMENT_FRAMES = 1 << 20
SEGMENT_BINS = SEGMENT_FRAMES // BIN_FRAMES
STEP_FRAMES = 1 << 16  # read at once
SUMMARY_BINS = 64  # bins in one bin of the summary that far views are drawn from


@runtime_checkable
class HighWords(Protocol):
    """A source that can show the top 16 bits of its samples without converting them."""

    def high_words(self, start: int, stop: int) -> NDArray[np.int16] | None:
        """(frames, channels) int16 view, or None."""


@dataclass(frozen=True, slots=True)
class PeakSegment:
    """Figures of up to 4096 bins of 256 frames; all (channels, bins) float16.

    Half precision is three digits: more than a waveform shows, at half the memory. Where only
    levels matter ``low`` and ``high`` have no channels and ``rms`` has one, the mean of all.
    """

    low: NDArray[np.float16]
    high: NDArray[np.float16]
    rms: NDArray[np.float16]

    @property
    def nbytes(self) -> int:
        """Bytes held."""
        return int(self.low.nbytes + self.high.nbytes + self.rms.nbytes)


@dataclass(frozen=True, slots=True)
class Columns:
    """What a view draws: (channels, columns) float32, NaN where nothing is known.

    ``older`` (columns,) is True where an earlier picture stands in for one that is being made; None is nowhere.
    """

    low: NDArray[np.float32]
    high: NDArray[np.float32]
    power: NDArray[np.float32]  # mean square
    older: NDArray[np.bool_] | None = None


def peak_segment(source: Source, index: int, *, levels_only: bool = False) -> PeakSegment:
    """All bins of one segment of a source."""
    start = index * SEGMENT_FRAMES
    stop = min(start + SEGMENT_FRAMES, source.frames)
    parts = [_bins(source, a, min(a + STEP_FRAMES, stop)) for a in range(start, stop, STEP_FRAMES)]
    low, high, power = (np.concatenate([p[k] for p in parts], axis=1) for k in range(3))
    if levels_only:
        power = power.mean(axis=0, keepdims=True)
        low = high = low[:0]
    return _stored(low, high, power)


def sketched_segment(source: Source, index: int, bins_looked_at: int) -> PeakSegment:
    """A first picture of a segment from a few of its bins, spread over the others."""
    start = index * SEGMENT_FRAMES
    stop = min(start + SEGMENT_FRAMES, source.frames)
    bins = -(-(stop - start) // BIN_FRAMES)
    chosen = np.unique(np.linspace(0, bins - 1, min(bins, bins_looked_at)).astype(int))
    frames = np.minimum((chosen[:, None] * BIN_FRAMES + np.arange(BIN_FRAMES)).ravel(), stop - start - 1)
    words = source.high_words(start, stop) if isinstance(source, HighWords) else None
    if words is not None:
        figures = _figures(np.ascontiguousarray(words[frames].T), 2.0**-15)
    else:
        parts = [source.read(start + a, min(start + a + BIN_FRAMES, stop)) for a in chosen * BIN_FRAMES]
        padded = [np.pad(p, ((0, 0), (0, BIN_FRAMES - p.shape[1])), mode="edge") for p in parts]
        figures = _figures(np.concatenate(padded, axis=1), 1.0)
    spread = np.searchsorted(chosen, np.arange(bins), side="right") - 1
    return _stored(*(x[:, spread] for x in figures))


def _stored(low: NDArray[np.float32], high: NDArray[np.float32], power: NDArray[np.float32]) -> PeakSegment:
    rms = np.sqrt(power)
    return PeakSegment(*(np.clip(x, -6e4, 6e4).astype(np.float16) for x in (low, high, rms)))


def _bins(source: Source, start: int, stop: int) -> tuple[NDArray[np.float32], ...]:
    words = source.high_words(start, stop) if isinstance(source, HighWords) else None
    if words is None:
        x: NDArray[np.float32] | NDArray[np.int16] = source.read(start, stop)
    else:
        x = np.ascontiguousarray(words.T)
    last = (stop - start) % BIN_FRAMES
    if last:
        x = np.concatenate([x, np.repeat(x[:, -1:], BIN_FRAMES - last, axis=1)], axis=1)
    return _figures(x, 1.0 if words is None else 2.0**-15)


def _figures(x: NDArray[np.float32] | NDArray[np.int16], unit: float) -> tuple[NDArray[np.float32], ...]:
    """Low, high and mean square of whole bins; each (channels, bins) float32."""
    scale = np.float32(unit)
    blocks = x.reshape(-1, BIN_FRAMES)
    low, high = blocks, blocks
    while low.shape[1] > 1:  # halving keeps the inner loops long
        half = low.shape[1] // 2
        low = np.minimum(low[:, :half], low[:, half:])
        high = np.maximum(high[:, :half], high[:, half:])
    floats = blocks.astype(np.float32)
    power = np.einsum("bn,bn->b", floats, floats) / np.float32(BIN_FRAMES)
    shape = (x.shape[0], -1)
    return (
        low.reshape(shape) * scale,
        high.reshape(shape) * scale,
        (power * scale * scale).reshape(shape),
    )


class PeakStore:
    """Segments by content key: bounded in memory, those of files kept in the cache folder."""

    def __init__(self, folder: Path | None = None, most_bytes: int = 64 << 20) -> None:
        self._folder = folder
        self._most_bytes = most_bytes
        self._held = 0
        self._segments: OrderedDict[str, PeakSegment] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: str) -> PeakSegment | None:
        """The segment, or None."""
        with self._lock:
            if (segment := self._segments.get(key)) is not None:
                self._segments.move_to_end(key)
            return segment

    def put(self, key: str, segment: PeakSegment) -> None:
        """Keep a segment."""
        with self._lock:
            if (old := self._segments.pop(key, None)) is not None:
                self._held -= old.nbytes
            self._segments[key] = segment
            self._held += segment.nbytes
            while self._held > self._most_bytes and len(self._segments) > 1:
                _, gone = self._segments.popitem(last=False)
                self._held -= gone.nbytes

    def save(self, name: str, segments: list[PeakSegment]) -> None:
        """Keep a file's whole picture on disk for the next time it is opened."""
        if self._folder is None:
            return
        target = self._folder / f"{name}{SUFFIX}"
        beside = target.with_suffix(".part")
        whole = np.stack([
            np.concatenate([getattr(s, k) for s in segments], axis=1) for k in ("low", "high", "rms")
        ])  # fmt: skip
        try:
            with beside.open("wb") as file:
                write_array(file, whole)
            beside.replace(target)
        except OSError:  # a full disk only costs the cache
            beside.unlink(missing_ok=True)

    def load(self, name: str, channels: int, bins: int) -> list[PeakSegment] | None:
        """A file's whole picture from an earlier session."""
        if self._folder is None:
            return None
        with contextlib.suppress(OSError, ValueError), (self._folder / f"{name}{SUFFIX}").open("rb") as file:
            whole = read_array(file)
            if whole.dtype == np.float16 and whole.shape == (3, channels, bins):
                edges = range(0, bins, SEGMENT_BINS)
                return [PeakSegment(*whole[:, :, a : a + SEGMENT_BINS]) for a in edges]
        return None


class PeakPicture:
    """A source's peaks as far as they are known, and the columns that a view draws."""

    def __init__(self, source: Source, store: PeakStore, *, levels_only: bool = False) -> None:
        self.source = source
        self._store = store
        self.levels_only = levels_only
        self.count = -(-source.frames // SEGMENT_FRAMES)
        self._segments: list[PeakSegment | None] = [None] * self.count
        self._sketched: set[int] = set()
        bins = -(-source.frames // (BIN_FRAMES * SUMMARY_BINS))
        rows, levels = (0, 1) if levels_only else (source.channels, source.channels)
        self._summary = _made(np.full((n, bins), np.nan, dtype=np.float32) for n in (rows, rows, levels))
        self._versions = [0] * self.count
        self.version = 0  # rises whenever anything becomes known
        self.stand_in: PeakPicture | None = None  # what is shown where nothing is known yet

    def version_in(self, start: int, stop: int) -> int:
        """Another number whenever anything becomes known of [start, stop)."""
        own = sum(self._versions[start // SEGMENT_FRAMES : -(-stop // SEGMENT_FRAMES)])
        return own + (self.stand_in.version_in(start, stop) << 24 if self.stand_in is not None else 0)

    @property
    def missing(self) -> list[int]:
        """Segments of which nothing exact is known."""
        return [n for n in range(self.count) if self._segments[n] is None or n in self._sketched]

    def segment_key(self, index: int) -> str:
        """Content key of a segment."""
        start = index * SEGMENT_FRAMES
        stop = min(start + SEGMENT_FRAMES, self.source.frames)
        kind = "levels:" if self.levels_only else "peaks:"
        return kind + self.source.span_key(start, stop)

    def take_known(self) -> list[int]:
        """Take what the store has; returns the segments that are still to be computed."""
        missing = []
        for index in range(self.count):
            if self._segments[index] is not None and index not in self._sketched:
                continue
            known = self._store.get(self.segment_key(index))
            if known is None:
                missing.append(index)
            else:
                self.put(index, known)
        return missing

    def compute(self, index: int) -> PeakSegment:
        """Compute a segment and keep it in the store (in a worker)."""
        key = self.segment_key(index)
        segment = self._store.get(key)
        if segment is None:
            segment = peak_segment(self.source, index, levels_only=self.levels_only)
        self._store.put(key, segment)
        return segment

    def put(self, index: int, segment: PeakSegment, *, sketch: bool = False) -> None:
        """Take a computed segment."""
        if sketch and self._segments[index] is not None:
            return
        self._segments[index] = segment
        if sketch:
            self._sketched.add(index)
        else:
            self._sketched.discard(index)
        self._summarise(index, segment)
        self._versions[index] += 1
        self.version += 1
        if self.stand_in is not None and self.is_complete:
            self.stand_in = None

    @property
    def is_complete(self) -> bool:
        """Whether every segment is known exactly."""
        return not self._sketched and all(s is not None for s in self._segments)

    def columns(self, first_frame: float, frames_per_column: float, count: int) -> Columns:
        """Low, high and mean square per column; the stand-in's where nothing is known yet, NaN where it knows nothing.

        Only for columns at least as wide as a bin; closer than that read the samples.
        """
        own = self._columns(first_frame, frames_per_column, count)
        instead = self.stand_in
        if instead is None or instead.source.channels != self.source.channels:
            return own
        older = np.isnan(own.power[0])
        if not older.any():
            return own
        other = instead.columns(first_frame, frames_per_column, count)
        low, high, power = (np.where(older, b, a) for a, b in zip(_of(own), _of(other), strict=True))
        return Columns(low, high, power, older)

    def _columns(self, first_frame: float, frames_per_column: float, count: int) -> Columns:
        far = frames_per_column >= 2 * BIN_FRAMES * SUMMARY_BINS
        bin_frames = BIN_FRAMES * (SUMMARY_BINS if far else 1)
        edges = (first_frame + np.arange(count + 1) * frames_per_column) / bin_frames
        edges = np.floor(edges + 1e-9).astype(np.int64)
        total = -(-self.source.frames // bin_frames)
        inside = (edges[:-1] >= 0) & (edges[:-1] < total)
        rows, levels = len(self._summary.low), len(self._summary.power)
        out = _made(np.full((n, count), np.nan, dtype=np.float32) for n in (rows, rows, levels))
        if inside.any():
            starts = edges[:-1][inside]
            a = int(starts[0])
            b = min(total, max(int(edges[1:][inside][-1]), int(starts[-1]) + 1))
            fine = _made(x[:, a:b] for x in _of(self._summary)) if far else self._fine(a, b)
            at = (starts - a).astype(np.intp)
            widths = np.diff(np.append(at, b - a)).clip(min=1)
            if rows:
                out.low[:, inside] = np.minimum.reduceat(fine.low, at, axis=1)
                out.high[:, inside] = np.maximum.reduceat(fine.high, at, axis=1)
            out.power[:, inside] = np.add.reduceat(fine.power, at, axis=1) / widths
        return out

    def _fine(self, first: int, last: int) -> Columns:
        """Bins [first, last) of the segments, as float32."""
        rows, levels = len(self._summary.low), len(self._summary.power)
        out = _made(np.full((n, last - first), np.nan, dtype=np.float32) for n in (rows, rows, levels))
        for index in range(first // SEGMENT_BINS, -(-last // SEGMENT_BINS)):
            segment = self._segments[index]
            if segment is None:
                continue
            start = index * SEGMENT_BINS
            a, b = max(first, start), min(last, start + segment.rms.shape[1])
            to, of = slice(a - first, b - first), slice(a - start, b - start)
            out.low[:, to] = segment.low[:, of]
            out.high[:, to] = segment.high[:, of]
            out.power[:, to] = np.square(segment.rms[:, of].astype(np.float32))
        return out

    def _summarise(self, index: int, segment: PeakSegment) -> None:
        at = np.arange(0, segment.rms.shape[1], SUMMARY_BINS, dtype=np.intp)
        to = slice(index * SEGMENT_BINS // SUMMARY_BINS, index * SEGMENT_BINS // SUMMARY_BINS + len(at))
        if len(segment.low):
            self._summary.low[:, to] = np.minimum.reduceat(segment.low.astype(np.float32), at, axis=1)
            self._summary.high[:, to] = np.maximum.reduceat(segment.high.astype(np.float32), at, axis=1)
        power = np.square(segment.rms.astype(np.float32))
        widths = np.diff(np.append(at, power.shape[1]))
        self._summary.power[:, to] = np.add.reduceat(power, at, axis=1) / widths


def _made(parts: Iterable[NDArray[np.float32]]) -> Columns:
    low, high, power = parts
    return Columns(low, high, power)


def _of(columns: Columns) -> tuple[NDArray[np.float32], ...]:
    return columns.low, columns.high, columns.power
