# SPDX-License-Identifier: GPL-3.0-or-later
"""Loudness of a programme: ITU-R BS.1770-5, EBU Tech 3341 (M, S, I) and EBU Tech 3342 (LRA)."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.layouts import channel_names
from pulizia.audio.source import Source
from pulizia.errors import PuliziaError
from pulizia.measure.blocks import (
    Segment,
    SegmentStore,
    measured_segments,
)
from pulizia.units import gain_to_db, power_to_db
from pulizia.words import N_, tr

OFFSET_DB = -0.691  # BS.1770-5, Annex 1, equation (2)
ABSOLUTE_GATE_LUFS = -70.0  # BS.1770-5, Annex 1
RELATIVE_GATE_LU = -10.0  # BS.1770-5, Annex 1
RANGE_GATE_LU = -20.0  # Tech 3342
RANGE_LOW, RANGE_HIGH = 0.10, 0.95  # Tech 3342
MOMENTARY_BLOCKS = 40
SHORT_TERM_BLOCKS = 300
GATING_STEP_BLOCKS = 10  # 100 ms
SURROUND_GAIN = 1.41  # BS.1770-5, Annex 1, table 3
DUAL_MONO = N_("dual mono")
SURROUNDS = {"Ls", "Rs"}  # at 60 to 120 degrees; rear loudspeakers (Lb, Rb, Cs) count as 1


def channel_weights(names: Sequence[str]) -> NDArray[np.float64]:
    """Weights by channel name: surround channels 1.41, low-frequency effects 0, all others 1.

    One channel of the name DUAL_MONO counts twice: as it will sound from two loudspeakers.
    """
    weights = {"LFE": 0.0, DUAL_MONO: 2.0} | dict.fromkeys(SURROUNDS, SURROUND_GAIN)
    return np.array([weights.get(name, 1.0) for name in names])


@dataclass(frozen=True, slots=True, kw_only=True)
class Measures:
    """Everything that was measured of a programme. None means: no reading.

    ``momentary`` and ``short_term`` are LUFS at the end of each 10 ms block, -inf where silent;
    ``peak`` is the largest true peak of each block (exact above -3 dBTP), as an amplitude.
    """

    duration_s: float
    rate_hz: int
    channels: int
    integrated_lufs: float | None
    loudness_range_lu: float | None
    momentary_max_lufs: float | None
    short_term_max_lufs: float | None
    true_peak_dbtp: float | None
    sample_peak_dbfs: float | None
    rms_dbfs: float | None
    channel_true_peak_dbtp: tuple[float | None, ...]
    channel_sample_peak_dbfs: tuple[float | None, ...]
    channel_rms_dbfs: tuple[float | None, ...]
    channel_integrated_lufs: tuple[float | None, ...]
    channel_offset: tuple[float, ...]
    range_low_lufs: float | None
    range_high_lufs: float | None
    momentary: NDArray[np.float32]
    short_term: NDArray[np.float32]
    peak: NDArray[np.float32]
    overs: int  # samples beyond full scale
    flat_samples: int  # samples in flattened tops
    troubled: NDArray[np.int32]  # 10 ms blocks with a true peak over full scale or flattened tops

    @property
    def nbytes(self) -> int:
        """Bytes held by the curves."""
        return int(self.momentary.nbytes + self.short_term.nbytes + self.peak.nbytes + self.troubled.nbytes)

    @property
    def peak_to_loudness_lu(self) -> float | None:
        """True peak less integrated loudness (PLR)."""
        if self.true_peak_dbtp is None or self.integrated_lufs is None:
            return None
        return self.true_peak_dbtp - self.integrated_lufs

    def figures(self) -> dict[str, object]:
        """The figures without the curves, as plain JSON values."""
        return {
            name: list(value) if isinstance(value, tuple) else value
            for name in self.__dataclass_fields__
            if not isinstance(value := getattr(self, name), np.ndarray)
        }


def measure(
    source: Source,
    store: SegmentStore | None = None,
    progress: Callable[[float], None] = lambda _: None,
    *,
    names: Sequence[str] | None = None,
    workers: int = 2,
) -> Measures:
    """Measure a whole source.

    Parameters
    ----------
    source
        What to measure; a span is measured by passing a source of that span.
    store
        Segments measured earlier; only changed ones are measured again.
    progress
        Called with 0..1; may raise to stop.
    names
        Channel names, for the weights; the usual names for the count by default.
    """
    segments = measured_segments(source, store or SegmentStore(), progress, workers=workers)
    return summary(segments, source, names or channel_names(source.channels))


def summary(segments: Sequence[Segment], source: Source, names: Sequence[str]) -> Measures:
    """Add the figures of all segments up."""
    if not segments:
        message = tr("There is nothing to measure: the sound is 0 seconds long.")
        raise PuliziaError(message)
    weighted = np.concatenate([s.weighted for s in segments], axis=1)
    energy = channel_weights(names) @ weighted
    momentary = windowed_loudness(energy, MOMENTARY_BLOCKS)
    short_term = windowed_loudness(energy, SHORT_TERM_BLOCKS)
    integrated = gated_loudness(energy)
    low, high = loudness_range(energy)
    power = sum((s.power.sum(axis=1) for s in segments), np.zeros(source.channels))
    total = sum((s.total for s in segments), np.zeros(source.channels))
    peak = np.max([s.peak.max(axis=1) for s in segments], axis=0)
    true_peak = np.max([s.true_peak.max(axis=1) for s in segments], axis=0)
    true_peaks = np.concatenate([s.true_peak.max(axis=0) for s in segments])
    return Measures(
        duration_s=source.frames / source.rate,
        rate_hz=source.rate,
        channels=source.channels,
        integrated_lufs=integrated,
        loudness_range_lu=None if low is None or high is None else high - low,
        momentary_max_lufs=_largest(momentary),
        short_term_max_lufs=_largest(short_term),
        true_peak_dbtp=_reading(gain_to_db(float(true_peak.max()))),
        sample_peak_dbfs=_reading(gain_to_db(float(peak.max()))),
        rms_dbfs=_reading(power_to_db(float(power.mean()) / source.frames)),
        channel_true_peak_dbtp=tuple(_reading(gain_to_db(float(p))) for p in true_peak),
        channel_sample_peak_dbfs=tuple(_reading(gain_to_db(float(p))) for p in peak),
        channel_rms_dbfs=tuple(_reading(power_to_db(float(p) / source.frames)) for p in power),
        channel_integrated_lufs=tuple(gated_loudness(row) for row in weighted),
        channel_offset=tuple(float(t) / source.frames for t in total),
        range_low_lufs=low,
        range_high_lufs=high,
        momentary=momentary,
        short_term=short_term,
        peak=true_peaks,
        overs=sum(s.overs for s in segments),
        flat_samples=sum(int(s.flat.sum()) for s in segments),
        troubled=np.flatnonzero((true_peaks > 1.0) | (np.concatenate([s.flat for s in segments]) > 0)).astype(np.int32),
    )


def windowed_loudness(energy: NDArray[np.float64], blocks: int) -> NDArray[np.float32]:
    """Loudness in a sliding rectangle that ends with each block; -inf before it has filled.

    Parameters
    ----------
    energy : (n,) float64
        Weighted mean square of each 10 ms block, summed over channels.
    """
    loudness = np.full(len(energy), -np.inf, dtype=np.float32)
    if len(energy) >= blocks:
        sums = np.concatenate([[0.0], np.cumsum(energy)])
        means = np.maximum(sums[blocks:] - sums[:-blocks], 0.0) / blocks
        means[means < 1e-16] = 0.0  # what is left of a sum of larger numbers
        with np.errstate(divide="ignore"):
            loudness[blocks - 1 :] = OFFSET_DB + 10.0 * np.log10(means)
    return loudness


def gated_loudness(energy: NDArray[np.float64]) -> float | None:
    """Integrated loudness with both gates (BS.1770-5, Annex 1), None below the absolute gate."""
    loudness = windowed_loudness(energy, MOMENTARY_BLOCKS)[MOMENTARY_BLOCKS - 1 :: GATING_STEP_BLOCKS]
    means = 10.0 ** ((loudness.astype(np.float64) - OFFSET_DB) / 10.0)
    loud = loudness >= ABSOLUTE_GATE_LUFS
    if not loud.any():
        return None
    threshold = OFFSET_DB + power_to_db(float(means[loud].mean())) + RELATIVE_GATE_LU
    kept = loud & (loudness > threshold)
    return OFFSET_DB + power_to_db(float(means[kept].mean()))


def loudness_range(energy: NDArray[np.float64]) -> tuple[float | None, float | None]:
    """Lower and upper end of the loudness range (Tech 3342, 100 ms steps); 0 wide when short."""
    loudness = windowed_loudness(energy, SHORT_TERM_BLOCKS)[SHORT_TERM_BLOCKS - 1 :: GATING_STEP_BLOCKS]
    loud = loudness[loudness >= ABSOLUTE_GATE_LUFS].astype(np.float64)
    if not len(loud):
        level = gated_loudness(energy)
        return level, level
    mean = 10.0 * math.log10(float(np.mean(10.0 ** (loud / 10.0))))
    kept = np.sort(loud[loud >= mean + RANGE_GATE_LU])
    return (
        float(kept[round((len(kept) - 1) * RANGE_LOW)]),
        float(kept[round((len(kept) - 1) * RANGE_HIGH)]),
    )


def _largest(curve: NDArray[np.float32]) -> float | None:
    return _reading(float(curve.max())) if len(curve) else None


def _reading(level: float) -> float | None:
    return level if math.isfinite(level) else None
