# SPDX-License-Identifier: GPL-3.0-or-later
"""Findings of levels and channels: offset, lopsided or uneven sound, dropouts, a side missing, opposite or late."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source
from pulizia.audio.spans import Span, normalised
from pulizia.dsp.moments import runs
from pulizia.inspection.finding import Finding
from pulizia.measure.figures import passage_figures
from pulizia.measure.phrases import find_phrases
from pulizia.tools.base import Mark
from pulizia.units import format_number, format_time
from pulizia.words import plural, tr, translated

UNEVEN_LU = 5.5
LEAST_PHRASES, FEW_PHRASES, UNEVEN_OF_FEW_LU = 2, 4, 8.0
LOUD_SHARE = 0.75  # the louder speaker stays, the softer one is raised
NO_PHRASE_LU = 14.0  # what lies further under the middle is a breath or a noise
LOPSIDED_DB = 5.0
OFFSET_DBFS = -50.0
DROPOUT_S = 0.02
ONE_SIDE_DB = 30.0
OPPOSITE = -0.5
LATE_FRAMES = 3
READ_S = 20


def levels(source: Source, names: Sequence[str]) -> list[Finding]:
    """Offset, a lopsided wave, and phrases that differ."""
    figures = {row.name: row.value for row in passage_figures(source, names)}
    found = []
    offset = figures.get(tr("Offset"))
    if offset is not None and offset > OFFSET_DBFS:
        words = tr("DC offset {offset} dBFS.", offset=format_number(offset))
        found.append(Finding("offset", words, offset, "dBFS", 0.9, "polarity", {"offset": "high_pass"}))
    swing = figures.get(tr("Asymmetry: positive over negative peaks"))
    if swing is not None and abs(swing) > LOPSIDED_DB:
        found.append(
            Finding(
                "lopsided",
                tr(
                    "Waveform asymmetry: {swing} dB more on the {side} side.",
                    swing=format_number(abs(swing)),
                    side=tr("positive") if swing > 0 else tr("negative"),
                ),
                swing,
                "dB",
                0.8,
                "polarity",
                {"made_even": True},
            )
        )
    found += _unevenness(source)
    return found


def _unevenness(source: Source) -> list[Finding]:
    """How far phrases differ: the spread of their loudness, each weighted with its length."""
    phrases = find_phrases(source, ())
    if len(phrases.lufs) < LEAST_PHRASES:
        return []
    length = (phrases.spans[:, 1] - phrases.spans[:, 0]).astype(float)
    kept = phrases.lufs > _weighted(phrases.lufs, length, 0.5) - NO_PHRASE_LU
    if kept.sum() < LEAST_PHRASES:
        return []
    lufs, length = phrases.lufs[kept], length[kept]
    spread = _weighted(lufs, length, 0.9) - _weighted(lufs, length, 0.1)
    if spread < (UNEVEN_LU if len(lufs) >= FEW_PHRASES else UNEVEN_OF_FEW_LU):
        return []
    return [
        Finding(
            "level",
            tr("Phrases differ by {spread} LU.", spread=format_number(spread)),
            spread,
            "LU",
            0.7,
            "leveller",
            {"way": "loudness", "target_lufs": round(2.0 * _weighted(lufs, length, LOUD_SHARE)) / 2.0},
        )
    ]


def _weighted(values: NDArray[np.float64], weights: NDArray[np.float64], share: float) -> float:
    """Quantile of weighted values."""
    order = np.argsort(values)
    reached = np.cumsum(weights[order]) / weights.sum()
    return float(values[order][min(int(np.searchsorted(reached, share)), len(values) - 1)])


def dropouts(source: Source) -> list[Finding]:
    """Digital silence inside the sound."""
    least = round(DROPOUT_S * source.rate)
    step = READ_S * source.rate
    silent: list[Span] = []
    for begin in range(0, source.frames, step):
        end = min(begin + step, source.frames)
        still = np.logical_not(source.read(begin, end).any(axis=0))
        silent += [Span(a + begin, b + begin) for a, b in _silences(still, least)]
    marks = [
        Mark(span.start, span.stop, tr("{frames:.0f} ms", frames=1000 * span.frames / source.rate))
        for span in normalised(silent)
        if span.frames >= least and span.start > 0 and span.stop < source.frames
    ]
    if not marks:
        return []
    first = format_time(marks[0].start / source.rate, 2)
    return [
        Finding(
            "silence",
            plural(
                "Digital silence in 1 place, at {first}.",
                "Digital silence in {n} places, the first at {first}.",
                len(marks),
                first=first,
            ),
            float(len(marks)),
            "places",
            1.0,
            "room_tone",
            marks=tuple(marks),
        )
    ]


def _silences(still: NDArray[np.bool_], least: int) -> list[tuple[int, int]]:
    """Stretches that are long enough, and those that touch an end and may go on beyond it."""
    if still.all():
        return [(0, len(still))]
    first, last = int(np.argmin(still)), len(still) - int(np.argmin(still[::-1]))
    return [(0, first), *runs(still, at_least=least), (last, len(still))]


def channels(source: Source) -> list[Finding]:
    """One side missing, opposite polarity, one side late."""
    if source.channels != 2:
        return []
    middle = max(0, source.frames // 2 - 30 * source.rate)
    left, right = source.read(middle, min(source.frames, middle + 60 * source.rate)).astype(np.float64)
    power = np.array([np.mean(left**2), np.mean(right**2)])
    if power.max() <= 1e-12:
        return []
    difference = 10 * np.log10(max(power.max(), 1e-20) / max(power.min(), 1e-20))
    if difference > ONE_SIDE_DB:
        side = "right" if power[0] > power[1] else "left"
        return [
            Finding(
                "channel missing",
                tr(
                    "The {side} channel is {difference} dB quieter than the other.",
                    side=translated(side),
                    difference=format_number(min(difference, 120.0), 0),
                ),
                float(difference),
                "dB",
                0.9,
                "channels",
                {"way": "left" if side == "right" else "right"},
            )
        ]
    size = 1 << int(np.ceil(np.log2(len(left) + 4096)))
    cross = (
        np.fft.irfft(np.fft.rfft(left, size) * np.conj(np.fft.rfft(right, size)), size)
        / np.sqrt(power.prod())
        / len(left)
    )
    near = np.concatenate([cross[-2048:], cross[:2048]])
    at = int(np.argmax(np.abs(near))) - 2048
    found = []
    if float(near[at + 2048]) < OPPOSITE:
        found.append(
            Finding(
                "polarity",
                tr(
                    "The channels have opposite polarity (correlation {near}).",
                    near=format_number(float(near[at + 2048]), 2),
                ),
                float(near[at + 2048]),
                "",
                0.9,
                "polarity",
                {"invert": "right"},
            )
        )
    if abs(at) >= LATE_FRAMES and abs(float(near[at + 2048])) > 0.5:
        side, ms = ("left" if at > 0 else "right"), 1000 * abs(at) / source.rate
        earlier = round(-ms if at > 0 else ms, 3)
        found.append(
            Finding(
                "delay",
                tr("The {side} channel is {ms} ms late.", side=translated(side), ms=format_number(ms, 2)),
                ms,
                "ms",
                0.8,
                "channels",
                {"delay_ms": earlier},
            )
        )
    return found
