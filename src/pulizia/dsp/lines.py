# SPDX-License-Identifier: GPL-3.0-or-later
"""Steady tones: finding the mains and its harmonics, following their frequency, and taking them out.

A tone is followed by inner products of short windows with a complex exponential at its frequency
(complex demodulation). Averaged over seconds, with little weight where the voice is loud near the
tone, they give amplitude and phase of the tone alone: weighted least squares for a slowly changing
sinusoid. With equal weights the same subtraction is a linear-phase notch.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source, read_padded
from pulizia.dsp.fourier import fast_length, rfft
from pulizia.dsp.stft import hann_window

FRAMES_PER_S = 50
SPAN = 4  # hops in a window: 80 ms, whose Hann main lobe ends 25 Hz beside the tone
BESIDE_HZ = 25.0
BASES_HZ = (50.0, 60.0)
MOST_ORDER = 40
LONG_S = 2.7  # window of the search: 0.37 Hz between bins
MOST_LOOKS = 400
STANDS_OUT_DB = 6.0
TRACK_WINDOWS_S = (0.8, 1.5, 3.0, 3.0)
TRACK_LAG_S = 0.3
PHASE_WINDOWS_S, PHASE_PRIOR_RAD = (1.0, 0.7, 0.5), 0.1
SEARCH_SHARE = 0.012


@dataclass(frozen=True, slots=True)
class Lines:
    """Tones with a common drift.

    ``hz`` are mean frequencies; ``pull`` says how much of the common drift each takes (its order for
    harmonics, 0 for others); ``drift_hz`` is that of the base every ``drift_hop`` frames.
    """

    hz: NDArray[np.float64]
    pull: NDArray[np.float64]
    level_db: NDArray[np.float64]
    base_hz: float
    drift_hz: NDArray[np.float64]
    drift_hop: int

    def phase(self, frames: NDArray[np.int64], rate: int) -> NDArray[np.float64]:
        """(frames, lines) phase in radians at frames of the recording."""
        turned = np.zeros(len(frames))
        if len(self.drift_hz):
            steps = np.concatenate([[0.0], np.cumsum(self.drift_hz)]) * self.drift_hop / rate
            turned = np.interp(frames, np.arange(len(steps)) * self.drift_hop, steps)
        seconds = frames / rate
        return np.asarray(2 * np.pi * (np.outer(seconds, self.hz) % 1.0 + np.outer(turned, self.pull)))


def hop_of(rate: int) -> int:
    """Frames between two windows."""
    return round(rate / FRAMES_PER_S)


def median_spectrum(
    source: Source, start: int, stop: int, *, least_looks: int = 3
) -> tuple[NDArray[np.float64], float]:
    """Median over time of the power spectrum from long windows, and the distance of its bins in Hz.

    What is always there stays, what comes and goes does not. Power 1 is a full-scale sine. Short passages are looked
    at through shorter windows: the tallest bins of a single look at noise pass for lines.
    """
    size = int(2 ** round(np.log2(LONG_S * source.rate)))
    while size * (least_looks + 1) > 2 * (stop - start) and size > 1024:
        size //= 2
    window = hann_window(size)
    count = max(1, 2 * (stop - start) // size - 1)
    chosen = np.unique(np.linspace(0, count - 1, min(count, MOST_LOOKS)).astype(int))
    scale = (2.0 / float(window.sum())) ** 2 / source.channels
    top = min(size // 2 + 1, int(12_000 * size / source.rate))
    looks = np.empty((len(chosen), top), dtype=np.float32)
    for n, k in enumerate(chosen):
        block = read_padded(source, start + k * size // 2, start + k * size // 2 + size)
        spectrum = rfft(block * window)[:, :top]
        looks[n] = (spectrum.real**2 + spectrum.imag**2).sum(axis=0) * scale
    return np.quantile(looks, 0.3, axis=0).astype(np.float64), source.rate / size


def excess_db(power: NDArray[np.float64], bin_hz: float, reach_hz: float = 9.0) -> NDArray[np.float64]:
    """How far each bin stands above the median of its surroundings."""
    reach = max(4, round(reach_hz / bin_hz))
    padded = np.pad(np.log10(np.maximum(power, 1e-20)), reach, mode="edge")
    around = np.lib.stride_tricks.sliding_window_view(padded, 2 * reach + 1)
    return np.asarray(10.0 * (padded[reach:-reach] - np.median(around, axis=1)))


def find_base(power: NDArray[np.float64], bin_hz: float, bases: tuple[float, ...] = BASES_HZ) -> tuple[float, float]:
    """The mains frequency whose harmonics stand out most, and how far (mean dB); 0, 0 when none does."""
    excess = np.clip(excess_db(power, bin_hz), 0.0, 30.0)
    best, score = 0.0, 0.0
    for base in bases:
        for hz in base * (1.0 + np.arange(-SEARCH_SHARE, SEARCH_SHARE, 0.0004)):
            orders = np.arange(1, min(12, int((len(power) - 2) * bin_hz / hz)) + 1)
            at = np.rint(orders * hz / bin_hz).astype(int)
            # every line may be missing, but three must stand out, or two strongly
            heights = np.sort(np.maximum(excess[at], np.maximum(excess[at - 1], excess[at + 1]) - 2))[::-1]
            total = float(heights[:3].mean())
            if total > score + 0.3:
                best, score = float(hz), total
    return (best, score) if score >= STANDS_OUT_DB + 3.0 else (0.0, 0.0)


def top_near(power: NDArray[np.float64], bin_hz: float, hz: float, reach_hz: float) -> tuple[float, float]:
    """Frequency and level (dB) of the highest bin near a frequency, between the bins (Hann)."""
    low = max(1, int((hz - reach_hz) / bin_hz))
    high = min(len(power) - 2, max(low + 1, int(np.ceil((hz + reach_hz) / bin_hz))))
    k = low + int(np.argmax(power[low : high + 1]))
    side = 1 if power[k + 1] > power[k - 1] else -1
    ratio = np.sqrt(power[k + side] / max(power[k], 1e-30))
    shift = float(np.clip((2 * ratio - 1) / (ratio + 1), 0.0, 0.5))
    loss = 1.0 if shift < 1e-6 else abs(np.sinc(shift) / (1 - shift**2))
    return (k + side * shift) * bin_hz, float(10 * np.log10(max(power[k], 1e-20)) - 20 * np.log10(loss))


def inner_products(
    samples: NDArray[np.float32],
    starts: NDArray[np.int64],
    offset: int,
    lines: Lines,
    rate: int,
    *,
    beside: bool = True,
) -> tuple[NDArray[np.complex128], NDArray[np.float64]]:
    """Complex amplitude seen by each window, and the power beside the tone, for one channel.

    Parameters
    ----------
    samples : (n,) float32
        ``samples[0]`` is the recording's frame ``offset``.
    starts
        Frames of the recording at which windows begin.

    Returns
    -------
    (windows, lines) amplitude relative to the tracked phase, (windows, lines) power
    """
    size = SPAN * hop_of(rate)
    view = np.lib.stride_tricks.sliding_window_view(samples, size)[starts - offset]
    count = len(lines.hz)
    made = view @ _turning(lines.hz.tobytes(), rate, beside=beside)
    amplitude = (made[:, :count] + 1j * made[:, count : 2 * count]) * np.exp(
        -1j * lines.phase(starts + size // 2, rate)
    )
    if not beside:
        return amplitude, np.zeros(amplitude.shape)
    rest = made[:, 2 * count :].astype(np.float64) ** 2
    low, high = rest[:, :count] + rest[:, count : 2 * count], rest[:, 2 * count : 3 * count] + rest[:, 3 * count :]
    return amplitude, np.minimum(low, high) + 0.5 * np.maximum(low, high)


@lru_cache(maxsize=8)
def _turning(hz_bytes: bytes, rate: int, *, beside: bool) -> NDArray[np.float32]:
    """Windowed exponentials at the lines, and below and above them, real parts before imaginary ones."""
    hz, size = np.frombuffer(hz_bytes), SPAN * hop_of(rate)
    window = hann_window(size).astype(np.float64)
    window *= 2.0 / window.sum()
    n = np.arange(size) - size / 2
    parts = []
    for at in (hz, np.maximum(hz - BESIDE_HZ, 0.0), hz + BESIDE_HZ)[: 3 if beside else 1]:
        turning = np.exp(-2j * np.pi * np.outer(n, at) / rate) * window[:, None]
        parts += [turning.real, turning.imag]
    return np.ascontiguousarray(np.concatenate(parts, axis=1), dtype=np.float32)


@lru_cache(maxsize=8)
def _returning(hz_bytes: bytes, rate: int) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Exponentials at the lines over two hops under a triangle, real and imaginary parts."""
    hop = hop_of(rate)
    m = np.arange(-hop, hop)
    forward = np.exp(2j * np.pi * np.outer(np.frombuffer(hz_bytes), m) / rate) * (1.0 - np.abs(m) / hop)
    return forward.real.astype(np.float32), forward.imag.astype(np.float32)


def smoothed(amplitude: NDArray[np.complex128], weight: NDArray[np.float64], frames: int) -> NDArray[np.complex128]:
    """Weighted mean over a Hann window of ``frames`` windows around each; same shape."""
    shape = np.hanning(frames + 2)[1:-1]
    size = fast_length(len(amplitude) + frames - 1)
    kernel = np.fft.fft(shape, size)[:, None]
    top = np.fft.ifft(np.fft.fft(amplitude * weight, size, axis=0) * kernel, axis=0)
    low = np.fft.ifft(np.fft.fft(weight, size, axis=0) * kernel, axis=0).real
    cut = slice((frames - 1) // 2, (frames - 1) // 2 + len(amplitude))
    return np.asarray(top[cut] / np.maximum(low[cut], 1e-12))


def weights(beside: NDArray[np.float64], floor: NDArray[np.float64]) -> NDArray[np.float64]:
    """Little weight where something else is loud near the tone; ``floor`` (lines,) is what always is."""
    limit = np.maximum(floor, 1e-16)
    return np.asarray(1.0 / (1.0 + (beside / (4.0 * limit)) ** 2))


def follow(
    source: Source, start: int, stop: int, lines: Lines, progress: Callable[[float], None]
) -> tuple[Lines, NDArray[np.float64], NDArray[np.float64]]:
    """The lines with their common drift followed over time, the power always beside each, and that of each.

    Several passes, each with a longer window on what the last one left of the drift.
    """
    hop = hop_of(source.rate)
    step = 5  # ten looks a second
    starts = np.arange(start // hop * hop, max(start // hop * hop + 1, stop - SPAN * hop), hop * step)
    if len(starts) < 16 or not len(lines.hz):
        return lines, np.zeros(len(lines.hz)), 10.0 ** (lines.level_db / 10.0)
    amplitude, beside = _looks(source, starts, lines, progress)
    floor = np.quantile(beside, 0.2, axis=0)
    weight = weights(beside, floor)
    per_s = FRAMES_PER_S / step
    lead = int(starts[0] // (hop * step))  # before the first look the drift is the first one's
    for window_s in TRACK_WINDOWS_S:
        present = lines.phase(starts + SPAN * hop // 2, source.rate) if len(lines.drift_hz) else None
        fixed = Lines(lines.hz, lines.pull, lines.level_db, lines.base_hz, np.zeros(0), hop * step)
        seen = amplitude
        if present is not None:
            seen = amplitude * np.exp(1j * (fixed.phase(starts + SPAN * hop // 2, source.rate) - present))
        drift, own = _drift(seen, weight, floor, lines.pull, per_s, window_s)
        known = lines.drift_hz[lead:] if len(lines.drift_hz) else np.zeros(len(drift))
        total = known + drift
        lines = Lines(
            lines.hz,
            lines.pull,
            lines.level_db,
            lines.base_hz,
            np.concatenate([np.full(lead, total[0]), total]),
            hop * step,
        )
        if own.any():  # single lines have no common drift: their mean frequency is put right
            turn = 2j * np.pi * np.outer((starts + SPAN * hop // 2) / source.rate, own)
            amplitude = amplitude * np.exp(-turn)
            lines = Lines(lines.hz + own, lines.pull, lines.level_db, lines.base_hz, lines.drift_hz, hop * step)
    for window_s in PHASE_WINDOWS_S:
        lines = _locked(lines, amplitude, weight, floor, starts, source.rate, window_s)
    fixed = Lines(lines.hz, lines.pull, lines.level_db, lines.base_hz, np.zeros(0), hop * step)
    middles = starts + SPAN * hop // 2
    seen = amplitude * np.exp(1j * (fixed.phase(middles, source.rate) - lines.phase(middles, source.rate)))
    calm = smoothed(seen, weight, max(3, round(TRACK_WINDOWS_S[-1] * per_s)) | 1)
    return lines, floor, np.median(np.abs(calm) ** 2, axis=0)


def _locked(
    lines: Lines, amplitude: NDArray[np.complex128], weight: NDArray[np.float64], floor: NDArray[np.float64],
    starts: NDArray[np.int64], rate: int, window_s: float,
) -> Lines:  # fmt: skip
    """The common drift put right by the phase that all harmonics together still show against their own slow mean.

    The drift was found from how far phases turn from look to look, so what is left of it adds up; the phase itself
    does not. Maximum likelihood for one phase of several noisy harmonics: each counts by its order and its power over
    the noise beside it (linearised, with a prior that keeps it where little is known).
    """
    harmonic = lines.pull > 0
    if not harmonic.any():
        return lines
    per_s = rate / lines.drift_hop
    middles = starts + SPAN * hop_of(rate) // 2
    still = Lines(lines.hz, lines.pull, lines.level_db, lines.base_hz, np.zeros(0), lines.drift_hop)
    seen = (amplitude * np.exp(1j * (still.phase(middles, rate) - lines.phase(middles, rate))))[:, harmonic]
    sure = weight[:, harmonic]
    slow = smoothed(seen, sure, max(3, round(TRACK_WINDOWS_S[-1] * per_s)) | 1)
    order = lines.pull[harmonic]
    power = np.abs(slow) ** 2
    ratio = sure * power / (floor[harmonic] + 1e-16)
    off = np.imag(seen * np.conj(slow)) / np.maximum(power, 1e-30)
    kernel = np.hanning((max(3, round(window_s * per_s)) | 1) + 2)[1:-1]
    top = np.convolve((ratio * order * off).sum(axis=1), kernel, mode="same")
    low = np.convolve((ratio * order**2).sum(axis=1), kernel, mode="same")
    phase = top / (low + 0.5 / PHASE_PRIOR_RAD**2)
    grid = np.arange(len(lines.drift_hz) + 1) * lines.drift_hop
    turned = np.interp(grid, middles, phase) / (2 * np.pi)
    drift = lines.drift_hz + np.diff(turned) * per_s
    return Lines(lines.hz, lines.pull, lines.level_db, lines.base_hz, drift, lines.drift_hop)


def line_powers(source: Source, start: int, stop: int, lines: Lines) -> NDArray[np.float64]:
    """Power of each line along its known track, listened to between the words; 1 is a full-scale sine."""
    hop = hop_of(source.rate)
    starts = np.arange(start // hop * hop, max(start // hop * hop + 1, stop - SPAN * hop), 5 * hop)
    amplitude, beside = _looks(source, starts, lines, lambda _p: None)
    weight = weights(beside, np.quantile(beside, 0.2, axis=0))
    calm = smoothed(amplitude, weight, max(3, round(TRACK_WINDOWS_S[-1] * FRAMES_PER_S / 5)) | 1)
    return np.asarray(np.median(np.abs(calm) ** 2, axis=0))


def _looks(
    source: Source, starts: NDArray[np.int64], lines: Lines, progress: Callable[[float], None]
) -> tuple[NDArray[np.complex128], NDArray[np.float64]]:
    """Amplitudes and powers beside the lines at each look, of the loudest channel."""
    size = SPAN * hop_of(source.rate)
    amplitude = np.zeros((len(starts), len(lines.hz)), dtype=np.complex128)
    beside = np.zeros(amplitude.shape)
    loudest: int | None = None
    for a in range(0, len(starts), 200):
        part = starts[a : a + 200]
        block = read_padded(source, int(part[0]), int(part[-1]) + size)
        if loudest is None:
            loudest = int(np.argmax((block**2).sum(axis=1)))
        amplitude[a : a + 200], beside[a : a + 200] = inner_products(
            block[loudest], part, int(part[0]), lines, source.rate
        )
        progress(min(1.0, (a + 200) / len(starts)))
    return amplitude, beside


def _drift(
    amplitude: NDArray[np.complex128], weight: NDArray[np.float64], floor: NDArray[np.float64],
    pull: NDArray[np.float64], per_s: float, window_s: float,
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:  # fmt: skip
    """Drift of the base in Hz at each look, and by how much each single line is off on the mean."""
    calm = smoothed(amplitude, weight, max(3, round(window_s * per_s)) | 1)
    lag = max(1, round(TRACK_LAG_S * per_s))
    turn = np.angle(calm[lag:] * np.conj(calm[:-lag])) * per_s / (2 * np.pi * lag)
    strength = np.minimum(np.abs(calm[lag:]), np.abs(calm[:-lag])) ** 2 / (floor + 1e-16)
    own = np.zeros(len(pull))
    drift = np.zeros(len(amplitude))
    harmonic = pull > 0
    if harmonic.any():
        orders = pull[harmonic]
        share = strength[:, harmonic] * orders**2
        base = (share * turn[:, harmonic] / orders).sum(axis=1) / np.maximum(share.sum(axis=1), 1e-30)
        base = np.concatenate([np.full(lag // 2, base[0]), base, np.full(lag - lag // 2, base[-1])])
        kernel = np.hanning((max(3, round(window_s * per_s / 2)) | 1) + 2)[1:-1]
        drift = np.convolve(np.pad(base, len(kernel) // 2, mode="edge"), kernel / kernel.sum(), mode="valid")[
            : len(drift)
        ]
    if not harmonic.all():
        alone = strength[:, ~harmonic]
        own[~harmonic] = (alone * turn[:, ~harmonic]).sum(axis=0) / np.maximum(alone.sum(axis=0), 1e-30)
    return drift, own


def estimated(
    samples: NDArray[np.float32], offset: int, lines: Lines, floor: NDArray[np.float64], rate: int,
    *, window_s: float, weighted: bool,
) -> NDArray[np.float32]:  # fmt: skip
    """The tones alone, as they go on through a stretch of one channel: same length as ``samples``.

    Windows lie on the recording's own grid; those outside the recording, where all is zero, count
    for nothing.
    """
    hop, size = hop_of(rate), SPAN * hop_of(rate)
    first = -(-offset // hop) * hop
    starts = np.arange(first, offset + len(samples) - size + 1, hop)
    if not len(starts):
        return np.zeros_like(samples)
    amplitude, beside = inner_products(samples, starts, offset, lines, rate, beside=weighted)
    weight = weights(beside, floor) if weighted else np.ones(amplitude.shape)
    sounding = np.flatnonzero(samples)
    begin, end = (int(sounding[0]), int(sounding[-1]) + 1) if len(sounding) else (0, 0)
    weight[(starts < max(0, offset + begin)) | (starts + size > offset + end)] = 0.0
    frames = max(3, round(window_s * FRAMES_PER_S)) | 1
    calm = smoothed(amplitude, weight, frames)
    centres = starts + size // 2
    turned = calm * np.exp(1j * lines.phase(centres, rate))
    real, imaginary = _returning(lines.hz.tobytes(), rate)
    pieces = turned.real.astype(np.float32) @ real
    pieces -= turned.imag.astype(np.float32) @ imaginary
    made = np.zeros((len(starts) + 1, hop), dtype=np.float32)
    made[:-1] += pieces[:, :hop]
    made[1:] += pieces[:, hop:]
    out = np.zeros_like(samples)
    at = int(centres[0]) - hop - offset
    flat = made.reshape(-1)
    low, high = max(0, at), min(len(out), at + len(flat))
    out[low:high] = flat[low - at : high - at]
    return out
