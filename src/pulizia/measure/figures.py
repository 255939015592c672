# SPDX-License-Identifier: GPL-3.0-or-later
"""Figures of a stretch: one table of everything that is asked of a passage."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source
from pulizia.measure.loudness import Measures, measure
from pulizia.measure.spectrum import Spectrum, mains_harmonic, peaks, spectrum
from pulizia.units import format_number, gain_to_db, power_to_db
from pulizia.words import tr

READ_FRAMES = 1 << 17
P56_TIME_S = 0.03  # ITU-T P.56, method B: envelope time constant
P56_HANGOVER_S = 0.2
P56_MARGIN_DB = 15.9
P56_RATE = 1000  # envelope values per second kept for the count: hangover is 200 of them


@dataclass(frozen=True, slots=True)
class Row:
    """One line of the table."""

    name: str
    value: float | None
    unit: str
    decimals: int = 1
    note: str = ""

    @property
    def text(self) -> str:
        """The figure as people read it."""
        return format_number(self.value, self.decimals)


def passage_figures(
    source: Source,
    names: Sequence[str],
    progress: Callable[[float], None] = lambda _: None,
) -> list[Row]:
    """All figures of a source, which is usually a :class:`SpanSource`.

    ``progress`` (0..1) may raise to stop. What cannot be said of a passage (too short, silent) has
    the value None.
    """
    measures = measure(source, progress=lambda p: progress(0.6 * p), names=names, workers=1)
    swing = _swing(source)
    active, activity = active_speech_level(source)
    floor = _noise_floor(source)
    found = spectrum(source, 0, source.frames, size=8192, progress=lambda p: progress(0.7 + 0.3 * p))
    rms = measures.rms_dbfs
    peak = measures.sample_peak_dbfs
    snr = None if active is None or floor is None or active - floor < 1 else active - floor
    rows = [
        Row(tr("Length"), source.frames / source.rate, "s", 3),
        Row(tr("Sample peak"), peak, "dBFS"),
        Row(tr("True peak"), measures.true_peak_dbtp, "dBTP"),
        Row("RMS", rms, "dBFS"),
        Row(tr("Crest"), None if peak is None or rms is None else peak - rms, "dB"),
        Row(tr("Integrated"), measures.integrated_lufs, "LUFS"),
        Row(tr("Highest momentary"), measures.momentary_max_lufs, "LUFS"),
        Row(tr("Highest short-term"), measures.short_term_max_lufs, "LUFS"),
        Row(tr("Loudness range"), measures.loudness_range_lu, "LU"),
        Row(tr("Peak to loudness"), measures.peak_to_loudness_lu, "LU"),
        Row(tr("Offset"), _largest_offset(measures), "dBFS"),
        Row(tr("Asymmetry: positive over negative peaks"), swing, "dB", note=tr("above 0: more to the positive side")),
        Row(tr("Samples over full scale"), measures.overs, "", 0),
        Row(
            tr("Clipped samples (flat peaks)"),
            measures.flat_samples,
            "",
            0,
            note=tr("three or more equal samples between steep flanks"),
        ),
        Row(tr("Noise floor"), floor, "dBFS", note=tr("the quietest tenth of 50 ms blocks")),
        Row(tr("Active speech level"), active, "dBFS", note=tr("ITU-T P.56, method B")),
        Row(tr("Speech activity"), None if activity is None else 100.0 * activity, "%"),
        Row(tr("Speech-to-noise ratio"), snr, "dB", note=tr("active speech level less noise floor")),
        Row(tr("Spectral centroid"), _centroid(found), "Hz", 0),
    ]
    if source.channels == 2:
        rows.append(Row(tr("Correlation"), _correlation(source), "", 2))
    return rows + _mains_lines(source)


def _mains_lines(source: Source) -> list[Row]:
    """Lines of the mains that stand out: long transforms, for a hundredth of a hertz."""
    size = 32_768 if source.frames >= 32_768 else 8192
    found = spectrum(source, 0, source.frames, size=size, window_name="blackman_harris")
    if found is None:
        return []
    tops = peaks(found, most=16, above_neighbours_db=9.0)
    named = [(top, mains_harmonic(top.hz, found)) for top in tops]
    return [Row(tr("Line at {hz} Hz", hz=format_number(t.hz, 2)), t.level_db, "dBFS", note=m) for t, m in named if m]


def as_text(rows: Sequence[Row]) -> str:
    """The table for the clipboard: name, figure and unit between tabs."""
    return "\n".join(f"{row.name}\t{row.text}\t{row.unit}" for row in rows) + "\n"


def active_speech_level(source: Source) -> tuple[float | None, float | None]:
    """Active speech level in dBFS and activity factor 0..1 (ITU-T P.56, method B); None for silence.

    Channels are averaged. Two one-pole smoothers of 30 ms, hangover 0.2 s, thresholds 6.02 dB
    apart, level where it lies 15.9 dB above the threshold.
    """
    envelope, energy = _p56_envelope(source)
    if energy <= 0.0 or not len(envelope):
        return None, None
    hangover = round(P56_HANGOVER_S * P56_RATE)
    share = source.frames / len(envelope)
    levels, thresholds = [], []
    for exponent in range(-15, 0):
        threshold = 2.0**exponent
        above = envelope >= threshold
        last = np.where(above, np.arange(len(above)), -(10**9))
        np.maximum.accumulate(last, out=last)
        active = float(np.count_nonzero(np.arange(len(above)) - last <= hangover)) * share
        if active > 0:
            levels.append(10.0 * math.log10(energy / active))
            thresholds.append(20.0 * math.log10(threshold))
    margins = np.array(levels) - np.array(thresholds)
    below = np.flatnonzero(margins <= P56_MARGIN_DB)
    long_term = 10.0 * math.log10(energy / source.frames)
    if not levels:
        return None, None
    if not len(below) or below[0] == 0:
        level = levels[0]
    else:
        k = int(below[0])
        part = (margins[k - 1] - P56_MARGIN_DB) / (margins[k - 1] - margins[k])
        level = levels[k - 1] + part * (levels[k] - levels[k - 1])
    return level, min(1.0, 10.0 ** ((long_term - level) / 10.0))


def _p56_envelope(source: Source) -> tuple[NDArray[np.float64], float]:
    from scipy.signal import lfilter

    g = math.exp(-1.0 / (source.rate * P56_TIME_S))
    step = max(1, source.rate // P56_RATE)
    state = [np.zeros(1), np.zeros(1)]
    parts, energy = [], 0.0
    for start in range(0, source.frames, READ_FRAMES // step * step):
        stop = min(start + READ_FRAMES // step * step, source.frames)
        x = source.read(start, stop).mean(axis=0, dtype=np.float64)
        energy += float(np.dot(x, x))
        y = np.abs(x)
        for n in range(2):
            y, state[n] = lfilter([1.0 - g], [1.0, -g], y, zi=state[n])
        parts.append(y[::step])
    return np.concatenate(parts) if parts else np.zeros(0), energy


def _swing(source: Source) -> float | None:
    """Positive over negative peaks in dB; None where one side has none."""
    low = high = 0.0
    for start in range(0, source.frames, READ_FRAMES):
        block = source.read(start, min(start + READ_FRAMES, source.frames))
        low, high = min(low, float(block.min())), max(high, float(block.max()))
    return gain_to_db(high / -low) if low < 0.0 < high else None


def _noise_floor(source: Source) -> float | None:
    block = max(1, round(0.05 * source.rate))
    count = source.frames // block
    if count < 4:
        return None
    power = []
    per_read = max(1, READ_FRAMES // block)
    for first in range(0, count, per_read):
        last = min(first + per_read, count)
        x = source.read(first * block, last * block).reshape(source.channels, last - first, block)
        power.append(np.einsum("cbn,cbn->b", x, x) / (block * source.channels))
    level = power_to_db(float(np.quantile(np.concatenate(power), 0.1)))
    return level if math.isfinite(level) else None


def _largest_offset(measures: Measures) -> float | None:
    level = gain_to_db(max(abs(offset) for offset in measures.channel_offset))
    return level if math.isfinite(level) else None


def _centroid(found: Spectrum | None) -> float | None:
    if found is None or found.average.sum() <= 0.0:
        return None
    return float(np.sum(found.hz * found.average) / np.sum(found.average))


def _correlation(source: Source) -> float | None:
    sums = np.zeros(3)
    for start in range(0, source.frames, READ_FRAMES):
        left, right = source.read(start, min(start + READ_FRAMES, source.frames)).astype(np.float64)
        sums += (left @ right, left @ left, right @ right)
    norm = math.sqrt(sums[1] * sums[2])
    return float(sums[0] / norm) if norm > 0.0 else None
