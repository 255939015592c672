"""Lowest, highest and mean square per 256 frames: what waveforms are drawn from at any zoom."""

from __future__ import annotations

import contextlib
import threading
from collections import OrderedDict
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol, runtime_checkable

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source

BIN_FRAMES = 256
SEGMENT_FRAMES = 1 << 20
SEGMENT_BINS = SEGMENT_FRAMES // BIN_FRAMES
STEP_FRAMES = 1 << 16  # read at once
SKETCH_BINS = 12  # looked at per segment for a first picture


@runtime_checkable
class HighWords(Protocol):
    """A source that can show the top 16 bits of its samples without converting them."""

    def high_words(self, start: int, stop: int) -> NDArray[np.int16] | None:
        """(frames, channels) int16 view, or None."""


@dataclass(frozen=True, slots=True)
class PeakSegment:
    """Figures of up to 4096 bins of 256 frames; all (channels, bins) float32."""

    low: NDArray[np.float32]
    high: NDArray[np.float32]
    power: NDArray[np.float32]  # mean square

    @property
    def nbytes(self) -> int:
        """Bytes held."""
        return int(self.low.nbytes * 3)


def peak_segment(source: Source, index: int) -> PeakSegment:
    """All bins of one segment of a source."""
    start = index * SEGMENT_FRAMES
    stop = min(start + SEGMENT_FRAMES, source.frames)
    parts = [_bins(source, a, min(a + STEP_FRAMES, stop)) for a in range(start, stop, STEP_FRAMES)]
    return PeakSegment(*(np.concatenate([p[k] for p in parts], axis=1) for k in range(3)))


def sketched_segment(source: Source, index: int) -> PeakSegment:
    """A first picture of a segment from a few of its bins, spread over the others."""
    start = index * SEGMENT_FRAMES
    stop = min(start + SEGMENT_FRAMES, source.frames)
    bins = -(-(stop - start) // BIN_FRAMES)
    chosen = np.unique(np.linspace(0, bins - 1, min(bins, SKETCH_BINS)).astype(int))
    parts = [
        _bins(source, start + b * BIN_FRAMES, min(start + (b + 1) * BIN_FRAMES, stop)) for b in chosen
    ]
    spread = np.searchsorted(chosen, np.arange(bins), side="right") - 1
    return PeakSegment(*(np.concatenate([p[k] for p in parts], axis=1)[:, spread] for k in range(3)))


def _bins(source: Source, start: int, stop: int) -> tuple[NDArray[np.float32], ...]:
    words = source.high_words(start, stop) if isinstance(source, HighWords) else None
    if words is None:
        x: NDArray[np.float32] | NDArray[np.int16] = source.read(start, stop)
        scale = np.float32(1.0)
    else:
        x = np.ascontiguousarray(words.T)
        scale = np.float32(2.0**-15)
    frames = stop - start
    bins = -(-frames // BIN_FRAMES)
    last = frames - (bins - 1) * BIN_FRAMES
    if last != BIN_FRAMES:
        x = np.concatenate([x, np.repeat(x[:, -1:], BIN_FRAMES - last, axis=1)], axis=1)
    blocks = x.reshape(x.shape[0] * bins, BIN_FRAMES)
    low, high = blocks, blocks
    while low.shape[1] > 1:  # halving keeps the inner loops long
        half = low.shape[1] // 2
        low = np.minimum(low[:, :half], low[:, half:])
        high = np.maximum(high[:, :half], high[:, half:])
    floats = blocks.astype(np.float32)
    power = np.einsum("bn,bn->b", floats, floats) / np.float32(BIN_FRAMES)
    shape = (x.shape[0], bins)
    return (
        low.reshape(shape) * scale,
        high.reshape(shape) * scale,
        (power * scale * scale).reshape(shape),
    )


class PeakStore:
    """Segments by content key: bounded in memory, those of files kept in the cache folder."""

    def __init__(self, folder: Path | None = None, most_bytes: int = 160 << 20) -> None:
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
        target = self._folder / f"{name}.npy"
        beside = target.with_suffix(".part")
        whole = np.stack([
            np.concatenate([getattr(s, k) for s in segments], axis=1) for k in ("low", "high", "power")
        ])  # fmt: skip
        try:
            with beside.open("wb") as file:
                np.save(file, whole, allow_pickle=False)
            beside.replace(target)
        except OSError:  # a full disk only costs the cache
            beside.unlink(missing_ok=True)

    def load(self, name: str, channels: int, bins: int) -> list[PeakSegment] | None:
        """A file's whole picture from an earlier session."""
        if self._folder is None:
            return None
        with contextlib.suppress(OSError, ValueError, EOFError):
            whole = np.load(self._folder / f"{name}.npy", allow_pickle=False)
            if whole.dtype == np.float32 and whole.shape == (3, channels, bins):
                edges = range(0, bins, SEGMENT_BINS)
                return [PeakSegment(*whole[:, :, a : a + SEGMENT_BINS]) for a in edges]
        return None


class PeakPicture:
    """A source's peaks as far as they are known, and the columns that a view draws."""

    def __init__(self, source: Source, store: PeakStore) -> None:
        self.source = source
        self._store = store
        self.count = -(-source.frames // SEGMENT_FRAMES)
        self._segments: list[PeakSegment | None] = [None] * self.count
        self._sketched: set[int] = set()
        self._whole: PeakSegment | None = None
        self._versions = [0] * self.count
        self.version = 0  # rises whenever anything becomes known

    def version_in(self, start: int, stop: int) -> int:
        """Rises whenever anything becomes known of [start, stop)."""
        return sum(self._versions[start // SEGMENT_FRAMES : -(-stop // SEGMENT_FRAMES)])

    def segment_key(self, index: int) -> str:
        """Content key of a segment."""
        start = index * SEGMENT_FRAMES
        stop = min(start + SEGMENT_FRAMES, self.source.frames)
        return "peaks:" + self.source.span_key(start, stop)

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
        segment = self._store.get(key) or peak_segment(self.source, index)
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
        self._whole = None
        self._versions[index] += 1
        self.version += 1

    @property
    def complete(self) -> list[PeakSegment] | None:
        """All segments once every one is exact."""
        if self._sketched or any(s is None for s in self._segments):
            return None
        return [s for s in self._segments if s is not None]

    def columns(self, first_frame: float, frames_per_column: float, count: int) -> PeakSegment:
        """Low, high and mean square per column, NaN where nothing is known yet.

        Only for columns at least as wide as a bin; closer than that read the samples.
        """
        whole = self._joined()  # a reader in another thread may join once more; no harm
        bins = whole.low.shape[1]
        edges = (first_frame + np.arange(count + 1) * frames_per_column) / BIN_FRAMES
        edges = np.floor(edges + 1e-9).astype(np.int64)
        inside = (edges[:-1] >= 0) & (edges[:-1] < bins)
        low = np.full((self.source.channels, count), np.nan, dtype=np.float32)
        high, power = low.copy(), low.copy()
        if inside.any():
            starts = edges[:-1][inside]
            last = min(bins, max(int(edges[1:][inside][-1]), int(starts[-1]) + 1))
            a = int(starts[0])
            at = starts - a
            low[:, inside] = np.minimum.reduceat(whole.low[:, a:last], at, axis=1)
            high[:, inside] = np.maximum.reduceat(whole.high[:, a:last], at, axis=1)
            widths = np.diff(np.append(at, last - a)).clip(min=1)
            power[:, inside] = np.add.reduceat(whole.power[:, a:last], at, axis=1) / widths
        return PeakSegment(low, high, power)

    def _joined(self) -> PeakSegment:
        whole = self._whole
        if whole is None:
            channels, frames = self.source.channels, self.source.frames
            parts = []
            for index, segment in enumerate(self._segments):
                left = min(SEGMENT_FRAMES, frames - index * SEGMENT_FRAMES)
                unknown = np.full((channels, -(-left // BIN_FRAMES)), np.nan, dtype=np.float32)
                parts.append(segment or PeakSegment(unknown, unknown, unknown))
            whole = self._whole = PeakSegment(
                *(np.concatenate([getattr(p, k) for p in parts], axis=1) for k in ("low", "high", "power"))
            )
        return whole


