# SPDX-License-Identifier: GPL-3.0-or-later
"""Whether noise is heard behind the voice, how loud, and where it changes."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source, SpanSource, read_padded
from pulizia.dsp.moments import runs
from pulizia.dsp.stft import hann_window, powers
from pulizia.measure.listening import listened
from pulizia.measure.noise_changes import band_powers, changes_s
from pulizia.measure.speech_activity import BAND_HZ, FRAMES_PER_S, Activity, activity_of
from pulizia.tools.finding import Finding, Mark, Problem
from pulizia.units import format_number, power_to_db
from pulizia.words import plural, tr

NOISE = Problem(kind="noise", mild=36.0, grave=15.0, unit="dB", certainty=(0.15, 0.95))
LOOK_S, LEAST_LOOKS, MOST_LOOKS, AROUND_BINS, LOW_PERCENT, LINE_RATIO = (
    0.17,
    8,
    64,
    61,
    20,
    4.0,
)  # of lines in the floor
HARMONICS, LINES_THERE = 8, 0.6  # of the mains, and the share of them that shows hum
MOST_REDUCTION_DB = 16.0  # beyond it the voice is judged worse (DNSMOS on the practice scenes) while PESQ hardly gains


def findings(source: Source, progress: Callable[[float], None]) -> list[Finding]:
    """Noise under a voice, as the ratio of speech to the loudest of it."""
    speech = listened(source, lambda share: progress(0.4 * share))
    if not speech.active.any():
        return []
    changes = changes_s(band_powers(source, lambda share: progress(0.4 + 0.4 * share)))
    snr = speech.speech_db - max([speech.floor_db, *_floors(source, changes)]) + _lines_db(source, speech)
    progress(1.0)
    if snr >= NOISE.mild:
        return []
    told = format_number(snr, 0)
    words = (
        plural(
            "Speech-to-noise ratio {snr} dB; the noise changes once.",
            "Speech-to-noise ratio {snr} dB; the noise changes {n} times.",
            len(changes),
            snr=told,
        )
        if changes
        else tr("Speech-to-noise ratio {snr} dB.", snr=told)
    )
    reduction = float(np.clip(round(50.0 - snr), 4.0, MOST_REDUCTION_DB))
    settings = {"reduction_db": reduction, "following": "changes" if changes else "auto"}
    marks = [Mark(round(s * source.rate), round(s * source.rate) + 1, tr("noise changes")) for s in changes]
    return [NOISE.found("noise", words, snr, settings, marks)]


def _floors(source: Source, changes: Sequence[float]) -> list[float]:
    """The floor of each stretch between changes, in dB: the loudest noise is the one that troubles."""
    edges = [0, *(round(s * source.rate) for s in changes), source.frames] if changes else []
    return [activity_of(SpanSource(source, a, b)).floor_db for a, b in pairwise(edges) if b - a > source.rate]


def _lines_db(source: Source, speech: Activity) -> float:
    """By how much the floor would be lower without what stands in lines: those are hum, and no noise."""
    from scipy.ndimage import percentile_filter

    size = int(2 ** round(np.log2(LOOK_S * source.rate)))
    power = np.zeros(size // 2 + 1)
    window, step = hann_window(size), source.rate / FRAMES_PER_S
    places = [
        round(first * step) + n * (size // 2)
        for first, last in runs(~speech.active)
        for n in range(int((last - first) * step - size) // (size // 2) + 1)
    ]
    if len(places) < LEAST_LOOKS:
        return 0.0
    for place in places[:: max(1, len(places) // MOST_LOOKS)]:
        block = read_padded(source, place, place + size)
        power += powers(block, np.zeros(1, dtype=np.int64), window)[0]
    hz = np.arange(len(power)) * source.rate / size
    around = percentile_filter(power, LOW_PERCENT, AROUND_BINS, mode="nearest")
    stands_out = power > LINE_RATIO * around
    if not any(np.mean(_at_multiples(stands_out, base, hz[1])) > LINES_THERE for base in (50.0, 60.0)):
        return 0.0  # what stands out is no hum: the tail of a voice in its room
    inside = (hz >= BAND_HZ[0]) & (hz <= min(BAND_HZ[1], 0.45 * source.rate))
    level = np.where(stands_out, around, power)[inside].sum()
    return power_to_db(float(power[inside].sum() / level)) if level > 0.0 else 0.0


def _at_multiples(stands_out: NDArray[np.bool_], base_hz: float, bin_hz: float) -> NDArray[np.bool_]:
    """Whether the first harmonics of the mains stand out."""
    return np.asarray(stands_out[np.rint(base_hz * np.arange(1, HARMONICS + 1) / bin_hz).astype(int)])
