# SPDX-License-Identifier: GPL-3.0-or-later
"""What the Noise step tells of a recording: its noises with their sections, and where each was learned."""

from __future__ import annotations

from dataclasses import replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source
from pulizia.audio.spans import Span, clipped, normalised
from pulizia.errors import AnalysisError
from pulizia.measure.noise_changes import band_powers, changes_s
from pulizia.measure.noise_floor import noise_spectrum
from pulizia.measure.noise_profile import NoiseProfile, from_samples, voiceless
from pulizia.tools.base import Progress, Sample, Survey, Table
from pulizia.tools.finding import Mark
from pulizia.units import format_number, format_time, powers_to_db
from pulizia.words import plural, tr

MOST_SAMPLES = 8  # listed


def survey(
    source: Source, profile: NoiseProfile, given: tuple[Span, ...], *, offers: bool, progress: Progress
) -> Survey:
    """The sections with a noise of their own; ``offers`` them where one profile is used everywhere.

    ``given`` are the samples that were marked by hand.
    """
    samples = _samples(source, profile, given)
    if offers:
        made = _offer(changes_s(band_powers(source, progress)), source.rate, samples)
    else:
        made = _stretches(source, profile, samples)
    if any(voiceless(source, sample) != (sample,) for sample in given):
        spoken = tr("Speech in a selected sample is left out of the profile.")
        made = replace(made, sentence=f"{made.sentence} {spoken}")
    return made


def _stretches(source: Source, profile: NoiseProfile, samples: tuple[Sample, ...]) -> Survey:
    rate = source.rate
    levels_db = [_level_db(row, profile.size) for row in profile.rows]
    if not profile.edges:
        return Survey(
            tr("One noise throughout, {levels_db} dBFS.", levels_db=format_number(levels_db[0])), samples=samples
        )
    edges = (0, *profile.edges, source.frames)
    rows = tuple(
        (f"{format_time(a / rate)}\u2013{format_time(b / rate)}", f"{format_number(level)} dBFS")
        for (a, b), level in zip(pairwise(edges), levels_db[::2], strict=True)
    )
    marks = tuple(
        Mark(edge, edge + 1, tr("the noise changes here"), value=levels_db[2 * n + 2] - levels_db[2 * n])
        for n, edge in enumerate(profile.edges)
    )
    return Survey(
        plural(
            "The noise changes once; each section has its own profile.",
            "The noise changes {n} times; each section has its own profile.",
            len(marks),
        ),
        marks, Table((tr("section"), tr("noise")), rows), samples=samples, edges=profile.edges,
    )  # fmt: skip


def _samples(source: Source, profile: NoiseProfile, given: tuple[Span, ...]) -> tuple[Sample, ...]:
    """Where the noise was learned: the samples given, and passages that were found, with their levels."""
    found = {span for section in profile.heard for span in section}
    alone = [span for span in found if not any(g.overlaps(span.start, span.stop) for g in given)]
    heard = [*given, *normalised([Span(s.start, s.stop + 1) for s in alone])]
    made = []
    for span in clipped(tuple(sorted(heard)), source.frames)[:MOST_SAMPLES]:
        try:
            learned = from_samples if span in given else noise_spectrum
            level = _level_db(learned(source, (span,), profile.size), profile.size)
        except AnalysisError:  # too short by itself, or digital silence: part of a whole that was not
            level = -160.0
        made.append(Sample(span.start, span.stop, level, by_hand=span in given))
    return tuple(made)


def _level_db(row: NDArray[np.float32], size: int) -> float:
    return float(powers_to_db(row.sum() * (2.0 / (0.5 * size * size))))


def _offer(changes: list[float], rate: int, samples: tuple[Sample, ...]) -> Survey:
    """Where another noise begins while one profile is used everywhere."""
    if not changes:
        return Survey(tr("The noise stays the same throughout."), samples=samples)
    marks = tuple(Mark(round(s * rate), round(s * rate) + 1, tr("the noise changes here")) for s in changes)
    return Survey(
        plural(
            "The noise changes once. Find settings gives each section its own profile.",
            "The noise changes {n} times. Find settings gives each section its own profile.",
            len(changes),
        ),
        marks, samples=samples,
    )  # fmt: skip
