# SPDX-License-Identifier: GPL-3.0-or-later
"""The same programme read in other ways, and why the figures differ: gate, span, channels; its loudest stretches."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from pulizia.audio.source import Source, SpanSource
from pulizia.audio.spans import Span
from pulizia.measure.blocks import BLOCKS_PER_SECOND, measure_energies
from pulizia.measure.dialogue import dialogue
from pulizia.measure.loudness import (
    ABSOLUTE_GATE_LUFS,
    DUAL_MONO,
    GATING_STEP_BLOCKS,
    MOMENTARY_BLOCKS,
    OFFSET_DB,
    SHORT_TERM_BLOCKS,
    Measures,
    channel_weights,
    gated_loudness,
)
from pulizia.units import format_number, power_to_db
from pulizia.words import tr

LOUDEST_S = (3.0, 10.0)  # lengths in seconds that are looked for
DUAL_MONO_LU = 10.0 * float(np.log10(2.0))


@dataclass(frozen=True, slots=True)
class Reading:
    """One way of reading a programme: its name, LUFS (None: no reading), and why it differs from the first."""

    name: str
    lufs: float | None
    why: str


@dataclass(frozen=True, slots=True)
class Loudest:
    """The loudest stretch of a length: where, and how loud (ungated)."""

    start_s: float
    stop_s: float
    lufs: float


def loudest(measures: Measures, seconds: float) -> Loudest | None:
    """The loudest stretch of ``seconds``, a multiple of 3 s or of 0.4 s, whose windows tile it; None when it is shorter."""
    blocks = round(seconds * BLOCKS_PER_SECOND)
    window, curve = (
        (SHORT_TERM_BLOCKS, measures.short_term)
        if blocks % SHORT_TERM_BLOCKS == 0
        else (MOMENTARY_BLOCKS, measures.momentary)
    )
    count, left = divmod(blocks, window)
    if left:
        message = tr("{seconds} s is no multiple of 3 s or 0.4 s", seconds=seconds)
        raise ValueError(message)
    levels = curve[window - 1 :].astype(np.float64)
    reach = (count - 1) * window
    if count < 1 or len(levels) <= reach:
        return None
    power = np.where(np.isfinite(levels), 10.0 ** ((levels - OFFSET_DB) / 10.0), 0.0)
    sums = np.zeros(len(power) - reach)
    for n in range(count):
        sums += power[n * window : n * window + len(sums)]
    best = int(np.argmax(sums))
    if sums[best] <= 0.0:
        return None
    start = best / BLOCKS_PER_SECOND
    return Loudest(start, start + blocks / BLOCKS_PER_SECOND, OFFSET_DB + power_to_db(sums[best] / count))


def readings(
    source: Source, measures: Measures, names: Sequence[str], marked: Span | None = None,
    progress: Callable[[float], None] = lambda _: None,
) -> list[Reading]:  # fmt: skip
    """The programme in the usual ways of reading it; the first is the one that the targets mean.

    Parameters
    ----------
    measures : of the whole source, with ``names`` for the channels' weights
    marked : frames, for a reading of that stretch alone
    """
    first = measures.integrated_lufs
    weights = channel_weights(names)
    energies = measure_energies(source, lambda p: progress(0.5 * p), weights=weights)
    made = [
        Reading(
            tr("Whole programme, both gates"),
            first,
            tr("The figure that targets for whole programmes mean (ITU-R BS.1770-5)."),
        )
    ]
    made += _gates(energies, first)
    speech = dialogue(source, lambda p: progress(0.5 + 0.5 * p))
    why = tr(
        "Speech for {share_percent:.0f} % of the time; the rest does not count", share_percent=speech.share_percent
    )
    made.append(Reading(tr("Speech only"), speech.lufs, _against(speech.lufs, first, why)))
    made += _channels(measures, names)
    if marked is not None and marked.frames:
        rows = measure_energies(SpanSource(source, marked.start, min(marked.stop, source.frames)), weights=weights)
        level = gated_loudness(rows)
        length = marked.frames / source.rate
        made.append(
            Reading(
                tr("Selection"),
                level,
                _against(
                    level,
                    first,
                    tr(
                        "Only {length} s of {frames} s are read",
                        length=format_number(length, 1),
                        frames=format_number(source.frames / source.rate, 1),
                    ),
                ),
            )
        )
    progress(1.0)
    return made


def _gates(energies: np.ndarray, first: float | None) -> list[Reading]:
    """Without the relative gate, and without any."""
    sums = np.concatenate([[0.0], np.cumsum(energies)])
    if len(energies) < MOMENTARY_BLOCKS:
        return []
    power = ((sums[MOMENTARY_BLOCKS:] - sums[:-MOMENTARY_BLOCKS]) / MOMENTARY_BLOCKS)[::GATING_STEP_BLOCKS]
    audible = power[power >= 10.0 ** ((ABSOLUTE_GATE_LUFS - OFFSET_DB) / 10.0)]
    rows = []
    for name, part, why in (
        (
            tr("Absolute gate only"),
            audible,
            tr("Quiet passages count too, as with meters that leave out silence alone"),
        ),
        (tr("No gate"), power, tr("Pauses and silence count too, as with plain averages")),
    ):
        mean = float(part.mean()) if len(part) else 0.0
        level = OFFSET_DB + power_to_db(mean) if mean > 0.0 else None
        rows.append(Reading(name, level, _against(level, first, why)))
    return rows


def _channels(measures: Measures, names: Sequence[str]) -> list[Reading]:
    """Mono as one or two loudspeakers; the channels of anything else."""
    first = measures.integrated_lufs
    if measures.channels == 1:
        twice = tuple(names) == (DUAL_MONO,)
        other = None if first is None else first - DUAL_MONO_LU if twice else first + DUAL_MONO_LU
        name = tr("Mono, one loudspeaker") if twice else tr("Dual mono")
        return [
            Reading(name, other, _against(other, first, tr("The same sound from two loudspeakers is twice the power")))
        ]
    rows = []
    for name, level in zip(names, measures.channel_integrated_lufs, strict=False):
        rows.append(
            Reading(
                tr("Channel {name} alone", name=name),
                level,
                _against(level, first, tr("The powers of all channels are added, with 1.41 for the surrounds")),
            )
        )
    return rows


def _against(level: float | None, first: float | None, why: str) -> str:
    if level is None:
        return tr("No reading: not enough sound above the gate.")
    if first is None:
        return f"{why}."
    by = level - first
    if abs(by) < 0.05:
        return tr("The same figure here. {why}.", why=why)
    shown = format_number(abs(by), 1)
    return (
        tr("{shown} LU louder. {why}.", shown=shown, why=why)
        if by > 0
        else tr("{shown} LU quieter. {why}.", shown=shown, why=why)
    )
