# SPDX-License-Identifier: GPL-3.0-or-later
"""Ten-millisecond blocks: the small figures from which every loudness figure is added up.

A recording is measured in segments of ten seconds. Each segment depends only on its own samples
and a short warm-up before it, is cached under the key of that stretch, and so an edit costs only
the segments that it touches.
"""

from __future__ import annotations

import math
import threading
from collections import OrderedDict
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cache

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, read_padded
from pulizia.dsp.block_filter import BlockFilter
from pulizia.dsp.oversample import BLOCK, TAPS, factor_for, interpolator
from pulizia.measure.flat_tops import flattened

BLOCKS_PER_SECOND = 100
SEGMENT_BLOCKS = 10 * BLOCKS_PER_SECOND
WARM_UP_S = 0.25  # the slowest pole of the K-weighting has died to 1e-25 by then
EXACT_TRUE_PEAK_ABOVE = 10.0 ** (-3.0 / 20.0)  # below this a block's true peak matters to nobody

Progress = Callable[[float], None]


def k_weighting(rate_hz: int) -> NDArray[np.float64]:
    """Sections of the K-weighting filter at a sample rate.

    ITU-R BS.1770-5, Annex 1, tables 1 and 2 at 48 kHz; other rates by bilinear transform of the
    analogue prototype from which those tables come.

    Returns
    -------
    (2, 6) float64: shelf and high-pass, rows b0 b1 b2 a0 a1 a2
    """
    f0, gain_db, q = 1681.974450955533, 3.999843853973347, 0.7071752369554196
    k = math.tan(math.pi * f0 / rate_hz)
    vh = 10.0 ** (gain_db / 20.0)
    vb = vh**0.4996667741545416
    a0 = 1.0 + k / q + k * k
    shelf = [
        (vh + vb * k / q + k * k) / a0, 2.0 * (k * k - vh) / a0, (vh - vb * k / q + k * k) / a0,
        1.0, 2.0 * (k * k - 1.0) / a0, (1.0 - k / q + k * k) / a0,
    ]  # fmt: skip
    f0, q = 38.13547087602444, 0.5003270373238773
    k = math.tan(math.pi * f0 / rate_hz)
    a0 = 1.0 + k / q + k * k
    high_pass = [1.0, -2.0, 1.0, 1.0, 2.0 * (k * k - 1.0) / a0, (1.0 - k / q + k * k) / a0]
    return np.array([shelf, high_pass])


@dataclass(frozen=True, slots=True)
class Segment:
    """Figures of consecutive ten-millisecond blocks."""

    weighted: NDArray[np.float64]  # (channels, whole blocks) mean square after K-weighting
    power: NDArray[np.float64]  # (channels, blocks) sum of squares
    peak: NDArray[np.float32]  # (channels, blocks) largest absolute sample
    true_peak: NDArray[np.float32]  # (channels, blocks) exact above ``floor``, else ``peak``
    floor: NDArray[np.float32]  # (channels,) true peaks below this were not looked for
    total: NDArray[np.float64]  # (channels,) sum of samples, for the offset
    flat: NDArray[np.uint16]  # (blocks,) samples in flattened tops, all channels
    overs: int  # samples beyond full scale, all channels

    @property
    def nbytes(self) -> int:
        """Bytes held."""
        return int(self.weighted.nbytes + self.power.nbytes + 2 * self.peak.nbytes)


class SegmentStore:
    """Recently measured segments by content key; safe to share between threads."""

    def __init__(self, most_bytes: int = 64 << 20) -> None:
        self._segments: OrderedDict[str, Segment] = OrderedDict()
        self._most_bytes = most_bytes
        self._bytes = 0
        self._lock = threading.Lock()

    def get(self, key: str) -> Segment | None:
        """The segment, or None."""
        with self._lock:
            if (segment := self._segments.get(key)) is not None:
                self._segments.move_to_end(key)
            return segment

    def put(self, key: str, segment: Segment) -> None:
        """Keep a segment, dropping those not asked for longest."""
        with self._lock:
            if (old := self._segments.pop(key, None)) is not None:
                self._bytes -= old.nbytes
            self._segments[key] = segment
            self._bytes += segment.nbytes
            while self._bytes > self._most_bytes and len(self._segments) > 1:
                _, old = self._segments.popitem(last=False)
                self._bytes -= old.nbytes


def block_edge(index: int, rate_hz: int) -> int:
    """First frame of a block."""
    return round(index * rate_hz / BLOCKS_PER_SECOND)


def segment_edges(source: Source) -> list[tuple[int, int]]:
    """Start and stop frames of a source's segments."""
    edges = []
    index = 0
    while (start := block_edge(index, source.rate)) < source.frames:
        index += SEGMENT_BLOCKS
        edges.append((start, min(block_edge(index, source.rate), source.frames)))
    return edges


def measured_segments(
    source: Source,
    store: SegmentStore,
    progress: Progress = lambda _: None,
    *,
    workers: int = 2,
) -> list[Segment]:
    """Measure a whole source. ``progress`` (0..1) may raise to stop."""
    edges = segment_edges(source)

    largest = np.zeros(source.channels, dtype=np.float32)

    def one(place: tuple[int, int]) -> Segment:
        segment = measured_segment(source, *place, store, floor=largest.copy())
        np.maximum(largest, segment.true_peak.max(axis=1), out=largest)
        return segment

    if workers == 1 or len(edges) == 1:
        found = []
        for n, place in enumerate(edges):
            found.append(one(place))
            progress((n + 1) / len(edges))
        return with_true_peaks(found, source, store)
    found = []
    with ThreadPoolExecutor(workers, thread_name_prefix="measure") as pool:
        waiting = [pool.submit(one, place) for place in edges]
        try:
            for n, future in enumerate(waiting):
                found.append(future.result())
                progress((n + 1) / len(edges))
        except BaseException:
            for future in waiting:
                future.cancel()
            raise
    return with_true_peaks(found, source, store)


def with_true_peaks(found: list[Segment], source: Source, store: SegmentStore) -> list[Segment]:
    """The segments, those measured again that looked only for peaks above what there is now.

    A segment skips true peaks below the largest known when it was measured. After an edit the
    largest may be gone; then the others have to look closer.
    """
    largest = np.stack([s.true_peak.max(axis=1) for s in found]).max(axis=0)
    for n, ((start, stop), segment) in enumerate(zip(segment_edges(source), found, strict=True)):
        if (segment.floor > largest).any():
            found[n] = measured_segment(source, start, stop, store, floor=largest, again=True)
    return found


def measured_segment(
    source: Source,
    start: int,
    stop: int,
    store: SegmentStore,
    *,
    floor: NDArray[np.float32],
    again: bool = False,
) -> Segment:
    """One segment, from the store where it is known; ``again`` measures it in any case."""
    warm = warm_up_frames(source.rate)
    key = f"segment:{source.span_key(max(0, start - warm), min(stop + TAPS, source.frames))}"
    if not again and (known := store.get(key)) is not None:
        return known
    block = read_padded(source, start - warm, stop + TAPS)
    segment = measure_block(block, warm, stop - start, start, source.rate, floor)
    store.put(key, segment)
    return segment


def warm_up_frames(rate_hz: int) -> int:
    """Frames read before a segment so that its filters have settled."""
    return -(-round(WARM_UP_S * rate_hz) // 4800) * 4800


def measure_block(
    samples: Samples, lead: int, frames: int, start: int, rate_hz: int, floor: NDArray[np.float32]
) -> Segment:
    """Figures of ``frames`` frames that follow ``lead`` frames of warm-up.

    ``samples`` is (channels, lead + frames + TAPS); ``start`` is the recording's frame at ``lead``
    and fixes where the blocks lie.
    """
    edges, whole = _edges_of(start, frames, rate_hz)
    body = samples[:, lead : lead + frames]
    lengths = np.diff(edges)
    power = _sums_of_squares(body, edges)
    peak = _peaks(body, edges)
    k_filtered = _k_filtered(samples[:, : lead + frames], rate_hz)[:, lead:]
    weighted = _sums_of_squares(k_filtered, edges)[:, :whole] / lengths[:whole]
    true_peak = np.stack([
        _true_peaks(samples[c, lead - TAPS :], edges, peak[c], rate_hz, float(floor[c]))
        for c in range(samples.shape[0])
    ])  # fmt: skip
    overs = int(np.count_nonzero(np.abs(body) > 1.0)) if peak.max(initial=0.0) > 1.0 else 0
    flat = flattened(body, edges)
    return Segment(weighted, power, peak, true_peak, floor, body.sum(axis=1).astype(np.float64), flat, overs)


@cache
def _k_block_filter(rate_hz: int) -> BlockFilter | None:
    """Matrices for rates whose ten milliseconds are whole frames; None for the others."""
    if rate_hz % BLOCKS_PER_SECOND:
        return None
    frames = rate_hz // BLOCKS_PER_SECOND
    sizes = [n for n in range(16, 97) if frames % n == 0]
    if not sizes:
        return None
    return BlockFilter.of_sections(k_weighting(rate_hz), min(sizes, key=lambda n: abs(n - 48)))


def _k_filtered(samples: Samples, rate_hz: int) -> NDArray[np.floating]:
    block_filter = _k_block_filter(rate_hz)
    if block_filter is None:
        from scipy.signal import sosfilt

        return np.asarray(sosfilt(k_weighting(rate_hz), samples.astype(np.float64)))
    frames = samples.shape[1]
    padded_frames = -(-frames // block_filter.block) * block_filter.block
    if padded_frames != frames:
        padded = np.zeros((samples.shape[0], padded_frames), dtype=np.float32)
        padded[:, :frames] = samples
        samples = padded
    return block_filter.apply(np.ascontiguousarray(samples))[:, :frames]


def _sums_of_squares(x: NDArray[np.floating], edges: list[int]) -> NDArray[np.float64]:
    frames = edges[1] - edges[0]
    regular = len(edges) > 2 and edges[-2] == frames * (len(edges) - 2)
    sums = np.zeros((x.shape[0], len(edges) - 1))
    done = 0
    if regular:
        done = len(edges) - 2 if edges[-1] - edges[-2] != frames else len(edges) - 1
        parts = x[:, : done * frames].reshape(x.shape[0], done, frames)
        sums[:, :done] = np.einsum("cbn,cbn->cb", parts, parts, dtype=x.dtype)
    for n in range(done, len(edges) - 1):
        part = x[:, edges[n] : edges[n + 1]].astype(np.float64)
        sums[:, n] = np.einsum("cn,cn->c", part, part)
    return sums


def _peaks(x: Samples, edges: list[int]) -> NDArray[np.float32]:
    starts = np.asarray(edges[:-1])
    high = np.maximum.reduceat(x, starts, axis=1)
    low = np.minimum.reduceat(x, starts, axis=1)
    return np.asarray(np.maximum(high, -low), dtype=np.float32)


def _true_peaks(
    padded: NDArray[np.float32],
    edges: list[int],
    peak: NDArray[np.float32],
    rate_hz: int,
    floor: float,
) -> NDArray[np.float32]:
    """True peak of each block of one channel.

    ``padded`` has TAPS frames before the first and after the last edge. No true peak exceeds the
    sample peak of its surroundings times the interpolator's L1 norm, so only those rows of BLOCK
    frames are interpolated that can pass ``floor`` or EXACT_TRUE_PEAK_ABOVE, loudest first.
    """
    filter_ = interpolator(factor_for(rate_hz))
    result = peak.copy()
    largest = max(floor, float(peak.max(initial=0.0)))
    near = peak.copy()
    near[1:] = np.maximum(near[1:], peak[:-1])
    near[:-1] = np.maximum(near[:-1], peak[1:])
    hopeful = near * np.float32(filter_.largest_gain) > min(largest, EXACT_TRUE_PEAK_ABOVE)
    hopeful[[0, -1]] = True  # what lies beyond the segment is not in its peaks
    marks = np.asarray(edges)
    windows = _windows(padded, edges[-1])
    rows = np.unique(
        np.concatenate([
            np.arange(a // BLOCK, (b - 1) // BLOCK + 1)
            for a, b in zip(marks[:-1][hopeful], marks[1:][hopeful], strict=True)
        ])
    )  # fmt: skip
    chosen = windows[rows]
    bound = np.abs(chosen).max(axis=1) * np.float32(filter_.largest_gain)
    order = np.argsort(-bound, kind="stable")
    done, batch = 0, 32
    found = np.zeros((len(windows), BLOCK), dtype=np.float32)
    within = edges[-1] - (len(windows) - 1) * BLOCK  # of the last row
    while done < len(order):
        part = order[done : done + batch]
        part = part[bound[part] > min(largest, EXACT_TRUE_PEAK_ABOVE)]
        if not len(part):
            break
        values = filter_.between(chosen[part])
        high = np.abs(values, out=values).max(axis=1)
        high[rows[part] == len(windows) - 1, within:] = 0.0
        found[rows[part]] = high
        largest = max(largest, float(high.max()))
        done, batch = done + batch, 256
    if done:
        np.maximum(result, np.maximum.reduceat(found.ravel()[: edges[-1]], marks[:-1]), out=result)
    return result


def _windows(padded: NDArray[np.float32], frames: int) -> NDArray[np.float32]:
    """Rows of BLOCK frames with the context that the interpolator wants; a view."""
    before = TAPS // 2 - 1
    rows = -(-frames // BLOCK)
    wanted = before + rows * BLOCK + TAPS // 2
    x = padded[TAPS - before :][:wanted]
    if len(x) < wanted:
        x = np.concatenate([x, np.zeros(wanted - len(x), dtype=np.float32)])
    return np.lib.stride_tricks.sliding_window_view(x, BLOCK + TAPS - 1)[::BLOCK]


def measure_energies(
    source: Source, progress: Progress = lambda _: None, *, weights: NDArray[np.float64] | None = None
) -> NDArray[np.float64]:
    """(whole blocks,) mean square after K-weighting of every ten milliseconds, channels added with their weights (1)."""
    parts = []
    weights = np.ones(source.channels) if weights is None else weights
    warm = warm_up_frames(source.rate)
    segments = segment_edges(source)
    for n, (start, stop) in enumerate(segments):
        edges, whole = _edges_of(start, stop - start, source.rate)
        weighted = _k_filtered(read_padded(source, start - warm, stop), source.rate)[:, warm:]
        parts.append(weights @ _sums_of_squares(weighted, edges)[:, :whole] / np.diff(edges)[:whole])
        progress((n + 1) / len(segments))
    return np.concatenate(parts) if parts else np.zeros(0)


def _edges_of(start: int, frames: int, rate_hz: int) -> tuple[list[int], int]:
    """Edges of the blocks of a segment, counted from its start, and how many of them are whole."""
    first = round(start * BLOCKS_PER_SECOND / rate_hz)
    count = int(frames * BLOCKS_PER_SECOND / rate_hz) + 3
    marks = np.rint((first + np.arange(count)) * (rate_hz / BLOCKS_PER_SECOND)).astype(int) - start
    edges: list[int] = marks[: int(np.searchsorted(marks, frames)) + 1].tolist()
    whole = len(edges) - 1 if edges[-1] == frames else len(edges) - 2
    edges[-1] = frames
    return edges, whole
