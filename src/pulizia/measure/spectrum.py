# SPDX-License-Identifier: GPL-3.0-or-later
"""Calibrated spectra of a passage: average and maximum, bands, peaks and reference curves.

A full-scale sine on a bin reads 0 dBFS in any window and size (amplitude correction); densities
divide by the equivalent noise bandwidth (Harris 1978; Heinzel, Rudiger and Schilling 2002).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source
from pulizia.dsp.fourier import rfft
from pulizia.units import powers_to_db
from pulizia.words import N_, tr

WINDOWS = {"hann": N_("Hann"), "blackman_harris": N_("Blackman-Harris"), "flat_top": N_("flat top"), "rectangular": N_("rectangular")}  # fmt: skip
SIZES = (1024, 2048, 4096, 8192, 16384, 32768)
WIDEST_LOBE = 20  # bins to either side: several times the main lobe of the widest window
MOST_FRAMES = 4000  # transforms per spectrum; a longer passage is sampled evenly
BAND_RATIO = 10.0**0.3  # IEC 61260-1, G
PINK_DB_PER_OCTAVE = -3.0103


@cache
def window(name: str, size: int) -> NDArray[np.float32]:
    """Periodic window of a name in WINDOWS."""
    n = 2 * np.pi * np.arange(size) / size
    terms = {
        "rectangular": (1.0,),
        "hann": (0.5, 0.5),
        "blackman_harris": (0.35875, 0.48829, 0.14128, 0.01168),
        "flat_top": (0.21557895, 0.41663158, 0.277263158, 0.083578947, 0.006947368),
    }[name]
    shape = sum((-1) ** k * a * np.cos(k * n) for k, a in enumerate(terms))
    return np.asarray(shape + np.zeros(size), dtype=np.float32)


def noise_bandwidth_bins(name: str, size: int) -> float:
    """Equivalent noise bandwidth of a window in bins."""
    w = window(name, size).astype(np.float64)
    return float(size * np.sum(w**2) / np.sum(w) ** 2)


@cache
def _bin_hz(size: int, rate: int) -> NDArray[np.float64]:
    made = np.asarray(np.arange(size // 2 + 1) * (rate / size), dtype=np.float64)
    made.flags.writeable = False
    return made


@dataclass(frozen=True, slots=True)
class Spectrum:
    """Levels per bin of a passage; channels averaged in power.

    ``average`` and ``maximum`` are powers relative to a full-scale sine: 1.0 is 0 dBFS.
    """

    rate: int
    size: int
    window: str
    average: NDArray[np.float64]  # (size // 2 + 1,)
    maximum: NDArray[np.float64]
    frames: int  # transforms that were averaged

    @property
    def hz(self) -> NDArray[np.float64]:
        """Frequency of each bin."""
        return _bin_hz(self.size, self.rate)

    def average_db(self) -> NDArray[np.float64]:
        """Average level in dBFS of a sine."""
        return powers_to_db(self.average)

    def maximum_db(self) -> NDArray[np.float64]:
        """Maximum level in dBFS of a sine."""
        return powers_to_db(self.maximum)

    def density_db(self) -> NDArray[np.float64]:
        """Level density in dB re full scale squared per Hz (a sine's power is half its square)."""
        bandwidth = noise_bandwidth_bins(self.window, self.size) * self.rate / self.size
        return powers_to_db(self.average * 0.5 / bandwidth)


def spectrum(
    source: Source,
    start: int,
    stop: int,
    *,
    size: int = 8192,
    window_name: str = "hann",
    progress: Callable[[float], None] = lambda _: None,
) -> Spectrum | None:
    """Spectrum of a passage, half-overlapped; None when it is shorter than one transform.

    ``progress`` (0..1) may raise to stop.
    """
    count = (stop - start - size) // (size // 2) + 1
    if count < 1:
        return None
    step = max(1, -(-count // MOST_FRAMES))
    starts = start + np.arange(0, count, step) * (size // 2)
    shape = window(window_name, size)
    scale = (2.0 / float(shape.sum(dtype=np.float64))) ** 2 / source.channels
    total = np.zeros(size // 2 + 1)
    most = np.zeros(size // 2 + 1)
    batch = 32
    for n in range(0, len(starts), batch):
        part = starts[n : n + batch]
        power = np.zeros((len(part), size // 2 + 1), dtype=np.float32)
        if step == 1:
            block = source.read(int(part[0]), int(part[-1]) + size)
            frames = np.lib.stride_tricks.sliding_window_view(block, size, axis=1)[:, :: size // 2]
        else:
            frames = np.stack([source.read(int(s), int(s) + size) for s in part], axis=1)
        for channel in frames:
            transformed = rfft(channel * shape, overwrite=True)
            power += transformed.real**2 + transformed.imag**2
        total += power.sum(axis=0, dtype=np.float64)
        np.maximum(most, power.max(axis=0), out=most)
        progress(min(1.0, (n + batch) / len(starts)))
    edges = np.ones(size // 2 + 1)
    edges[0] = edges[-1] = 0.5  # the bins at 0 and at half the rate have no mirror image
    return Spectrum(
        source.rate, size, window_name, total * scale * edges**2 / len(starts), most * scale * edges**2, len(starts)
    )


def smoothed(power: NDArray[np.float64], hz: NDArray[np.float64], per_octave: int) -> NDArray[np.float64]:
    """Power averaged over 1/n octave around each bin; unchanged for n = 0."""
    if per_octave <= 0:
        return power
    sums = np.concatenate([[0.0], np.cumsum(power)])
    low, high, width = _smoothing(len(hz), float(hz[1] - hz[0]), per_octave)
    return np.asarray((sums[high] - sums[low]) / width)


@cache
def _smoothing(
    bins: int, spacing: float, per_octave: int
) -> tuple[NDArray[np.intp], NDArray[np.intp], NDArray[np.intp]]:
    """First bin, bin after the last, and number of bins within 1/n octave around each."""
    hz, reach = np.arange(bins) * spacing, 2.0 ** (0.5 / per_octave)
    low = np.clip(np.rint(hz / reach / spacing).astype(np.intp), 0, bins - 1)
    high = np.clip(np.rint(hz * reach / spacing).astype(np.intp), 0, bins - 1) + 1
    return low, high, np.maximum(high - low, 1)


def band_centres(fraction: int) -> NDArray[np.float64]:
    """Exact mid-band frequencies of IEC 61260-1 from 20 Hz to 20 kHz; fraction 1 or 3."""
    steps = range(-5, 5) if fraction == 1 else range(-17, 14)
    return np.array([1000.0 * BAND_RATIO ** (x / fraction) for x in steps])


def band_levels_db(found: Spectrum, fraction: int) -> NDArray[np.float64]:
    """Level of each octave (1) or third-octave (3) band in dBFS of a sine, from the average.

    Bins are shared between neighbouring bands in proportion to their overlap.
    """
    spacing = found.rate / found.size
    power = found.average / noise_bandwidth_bins(found.window, found.size)
    sums = np.concatenate([[0.0], np.cumsum(power)])
    at = (np.arange(len(sums)) - 0.5) * spacing
    centres = band_centres(fraction)
    reach = BAND_RATIO ** (0.5 / fraction)
    return powers_to_db(np.interp(centres * reach, at, sums) - np.interp(centres / reach, at, sums))


@dataclass(frozen=True, slots=True)
class Peak:
    """A local maximum of a spectrum, between the bins."""

    hz: float
    level_db: float


def peaks(found: Spectrum, *, most: int = 12, above_neighbours_db: float = 6.0) -> list[Peak]:
    """The strongest peaks that stand out of their surroundings, loudest first.

    Frequency and level by :func:`peak_near`: a steady tone is exact to a thousandth of a bin.
    """
    level = found.average_db()
    inner = level[1:-1]
    tops = np.flatnonzero((inner > level[:-2]) & (inner >= level[2:])) + 1
    around = powers_to_db(_surroundings(found))
    tops = tops[level[tops] - around[tops] > above_neighbours_db]
    tops = tops[np.argsort(-level[tops])][:most]
    return [peak_near(found, int(top)) for top in tops]


def _surroundings(found: Spectrum) -> NDArray[np.float64]:
    """Mean power over a third of an octave around each bin, and over WIDEST_LOBE bins at least."""
    bins = np.arange(len(found.average))
    reach = np.maximum(bins * (BAND_RATIO ** (1 / 6) - 1.0), WIDEST_LOBE).astype(int)
    low, high = np.maximum(bins - reach, 0), np.minimum(bins + reach + 1, len(bins))
    sums = np.concatenate([[0.0], np.cumsum(found.average)])
    return np.asarray((sums[high] - sums[low]) / (high - low))


def peak_near(found: Spectrum, index: int) -> Peak:
    """The peak at a bin's local maximum: where between the bins a steady tone with these levels lies.

    The parabola through three levels in dB (Smith 2011) is a little off, by an amount that depends on
    the window alone; the window's own transform gives the exact place and height.
    """
    level = found.average_db()
    index = min(max(index, 1), len(level) - 2)
    shift = float(_parabola(*level[index - 1 : index + 2]))
    parabolic, true_shift, loss_db = _between_bins(found.window)
    shift = min(max(shift, -0.5), 0.5)
    exact = float(np.interp(shift, parabolic, true_shift))
    height = float(level[index]) + float(np.interp(exact, true_shift, loss_db))
    return Peak((index + exact) * found.rate / found.size, height)


def _parabola(a: float, b: float, c: float) -> float:
    """Place of the top of the parabola through three levels at -1, 0 and 1."""
    curve = a - 2 * b + c
    return 0.5 * (a - c) / curve if curve < -1e-9 else 0.0


@cache
def _between_bins(name: str) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """Top of the parabola, true place (-0.5..0.5 bins) and what the bin reads too low there, per window."""
    size = 512
    shape = window(name, size).astype(np.float64)
    n = np.arange(size) - size / 2
    true_shift = np.linspace(-0.5, 0.5, 201)

    def level(offset: NDArray[np.float64]) -> NDArray[np.float64]:
        amplitude = np.abs(np.exp(-2j * np.pi * offset[:, None] * n / size) @ shape) / shape.sum()
        return np.asarray(20.0 * np.log10(np.maximum(amplitude, 1e-7)), dtype=np.float64)

    left, middle, right = (level(bin_ - true_shift) for bin_ in (-1.0, 0.0, 1.0))
    parabolic = np.array([_parabola(*three) for three in zip(left, middle, right, strict=True)])
    return np.maximum.accumulate(parabolic), true_shift, -middle


def nearest_peak(found: Spectrum, hz: float) -> Peak:
    """The highest bin within a sixth of an octave of a frequency, interpolated."""
    bins = found.hz
    near = np.flatnonzero((bins > hz / 2 ** (1 / 6)) & (bins < hz * 2 ** (1 / 6)))
    if not len(near):
        return peak_near(found, round(hz * found.size / found.rate))
    return peak_near(found, int(near[np.argmax(found.average[near])]))


def mains_harmonic(hz: float, found: Spectrum | None = None) -> str:
    """The mains harmonic that a frequency agrees with to 0.4 %, in words, or "".

    A public grid keeps within that in normal operation (common practice: 50 Hz give or take 0.2 Hz). Where the
    spectrum is given, a line that swells by more than 5 dB over its mean is none: harmonics of a voice do.
    """
    best = ""
    if found is not None and found.frames >= LEAST_LOOKS:
        bin_ = min(round(hz * found.size / found.rate), len(found.average) - 1)
        if found.maximum[bin_] > STEADY * found.average[bin_]:
            return best
    closest = 0.004
    for base in (50, 60):
        order = round(hz / base)
        off = abs(hz - order * base) / base / max(order, 1) if 1 <= order <= 40 else 1.0
        if off < closest:
            closest, best = off, tr("{base} Hz × {order}", base=base, order=order)
    return best


STEADY, LEAST_LOOKS = 10**0.5, 4  # a steady line's highest power over its mean, at most; looks it takes to tell

SPEECH_THIRD_OCTAVES = (
    (63, 38.6), (80, 43.5), (100, 54.4), (125, 57.7), (160, 56.8), (200, 60.2), (250, 60.3), (315, 59.0),
    (400, 62.1), (500, 62.1), (630, 60.5), (800, 56.8), (1000, 53.7), (1250, 53.0), (1600, 52.0), (2000, 48.7),
    (2500, 48.1), (3150, 46.8), (4000, 45.6), (5000, 44.5), (6300, 44.3), (8000, 43.7), (10000, 43.4),
    (12500, 41.3), (16000, 40.7),
)  # fmt: skip
"""Long-term average speech, male and female together, third-octave levels in dB SPL for 70 dB overall
(Byrne et al. 1994, from memory; the power sum is 70.03 dB)."""


def reference_curve(name: str, found: Spectrum) -> tuple[NDArray[np.float64], NDArray[np.float64]] | None:
    """A curve (Hz, dBFS per bin) to compare with, at the level of the passage; "speech", "pink" or none.

    Band levels become levels per bin of this spectrum, so that shape and height can be compared.
    """
    inside = (found.hz >= 63.0) & (found.hz <= min(16_000.0, found.rate / 2.2))
    if name == "speech":
        hz = np.array([f for f, _ in SPEECH_THIRD_OCTAVES], dtype=float)
        density = np.array([level for _, level in SPEECH_THIRD_OCTAVES]) - 10.0 * np.log10(hz * 0.230768)
    elif name == "pink":
        hz = np.geomspace(20.0, 20_000.0, 31)
        density = PINK_DB_PER_OCTAVE * np.log2(hz)
    else:
        return None
    curve = np.interp(np.log(np.maximum(found.hz, 1.0)), np.log(hz), density)
    own = float(np.sum(found.average[inside]))
    reference = float(np.sum(10.0 ** (curve[inside] / 10.0)))
    lift = 10.0 * np.log10(max(own, 1e-20) / reference)
    chosen = (found.hz >= hz[0]) & (found.hz <= hz[-1])
    return found.hz[chosen], curve[chosen] + lift
