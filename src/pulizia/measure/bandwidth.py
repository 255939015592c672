# SPDX-License-Identifier: GPL-3.0-or-later
"""How far up a voice reaches, and what of the average voice it lacks."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source, read_padded
from pulizia.dsp.stft import hann_window, powers
from pulizia.measure.spectrum import SPEECH_THIRD_OCTAVES
from pulizia.measure.speech_activity import FRAMES_PER_S, speech_between
from pulizia.units import powers_to_db

MOST_LISTENED_S = 180
ALIGNED_HZ = (500.0, 2000.0)
# of the noise: what can be told of a voice under it, what is a voice for certain, and what hides an average one
LEAST_SEEN, CLEARLY_SEEN, HIDDEN_UNDER = 0.03, 0.15, 1.0
MISSING_DB = 12.0  # under the average voice, from which a band counts as missing
HIGHEST_HZ = 12_000.0


@dataclass(frozen=True, slots=True, eq=False)
class Bandwidth:
    """Spectra of speech and pauses, and where the voice ends.

    Attributes
    ----------
    hz : (bins,)
    speech, pause : (bins,) mean power per bin where somebody speaks for certain, and where nobody does; channels averaged
    wanted : (bins,) power of the average voice at this voice's level (Byrne et al. 1994)
    share : 0..1, of the time in which somebody speaks for certain
    top_hz : the voice is missing above; ``HIGHEST_HZ`` or more when nothing is
    """

    hz: NDArray[np.float64]
    speech: NDArray[np.float64]
    pause: NDArray[np.float64]
    wanted: NDArray[np.float64]
    share: float
    top_hz: float


def bandwidth_of(source: Source, size: int, progress: Callable[[float], None] = lambda _: None) -> Bandwidth | None:
    """Spectra of a recording (the middle of a long one); None where nobody speaks."""
    rate = source.rate
    most = MOST_LISTENED_S * rate
    start = max(0, (source.frames - most) // 2)
    stop = min(source.frames, start + most)
    found = speech_between(source, start, stop, lambda p: progress(0.5 * p))
    core = found.core
    if core.sum() < FRAMES_PER_S // 2:
        return None
    window = hann_window(size)
    sums = [np.zeros(size // 2 + 1), np.zeros(size // 2 + 1)]
    counts = [0, 0]
    step = 10 * FRAMES_PER_S
    for first in range(0, len(core), step):
        part = core[first : first + step]
        for which, mask in enumerate((part, ~found.active[first : first + step])):
            at = start + (first + np.flatnonzero(mask)) * rate // FRAMES_PER_S
            if len(at):
                block = read_padded(source, int(at[0]) - size // 2, int(at[-1]) + size)
                sums[which] += powers(block, at - at[0], window).sum(axis=0, dtype=np.float64)
                counts[which] += len(at)
        progress(0.5 + 0.5 * min(1.0, (first + step) / len(core)))
    speech = sums[0] / counts[0] / source.channels
    pause = sums[1] / counts[1] / source.channels if counts[1] else np.full(len(speech), speech.min())
    hz = np.arange(size // 2 + 1) * rate / size
    wanted = average_voice(hz)
    aligned = (hz >= ALIGNED_HZ[0]) & (hz <= ALIGNED_HZ[1])
    wanted *= speech[aligned].sum() / wanted[aligned].sum()
    return Bandwidth(
        hz,
        speech,
        np.minimum(pause, speech),
        wanted,
        float(core.mean()),
        _top(hz, speech, np.minimum(pause, speech), wanted, rate),
    )


def average_voice(hz: NDArray[np.float64]) -> NDArray[np.float64]:
    """Power per Hz of long-term average speech, at any scale."""
    centres = np.array([f for f, _ in SPEECH_THIRD_OCTAVES], dtype=float)
    density = np.array([level for _, level in SPEECH_THIRD_OCTAVES]) - 10.0 * np.log10(centres * 0.230768)
    return np.asarray(10.0 ** (np.interp(np.log(np.maximum(hz, 1.0)), np.log(centres), density) / 10.0))


def _top(
    hz: NDArray[np.float64],
    speech: NDArray[np.float64],
    pause: NDArray[np.float64],
    wanted: NDArray[np.float64],
    rate: int,
) -> float:
    """The lowest frequency above 1.5 kHz from which a third of an octave and all above it are missing.

    The noise of the pauses is taken off the speech; where it would hide an average voice as well, a band says nothing.
    """
    edges = 1500.0 * 2.0 ** (np.arange(0, 40) / 6.0)
    edges = edges[edges < min(HIGHEST_HZ * 1.2, 0.47 * rate)]
    lacking: list[bool | None] = []
    for low, high in zip(edges[:-2], edges[2:], strict=True):
        inside = (hz >= low) & (hz < high)
        if not inside.any():
            lacking.append(False)
            continue
        heard, noise, usual = (float(x[inside].sum()) for x in (speech, pause, wanted))
        voice = max(heard - noise, LEAST_SEEN * noise, 1e-30)
        lacks = float(powers_to_db(np.array(usual / voice))) > MISSING_DB
        seen = heard - noise > (CLEARLY_SEEN if not lacks else 1.0) * noise
        hidden = usual < noise * HIDDEN_UNDER and not seen
        lacking.append(None if hidden else lacks)
    first = len(lacking)
    while first > 0 and lacking[first - 1] is not False:
        first -= 1
    while first < len(lacking) and lacking[first] is None:
        first += 1
    return float(edges[first]) if first < len(lacking) else float(min(HIGHEST_HZ, rate / 2))
