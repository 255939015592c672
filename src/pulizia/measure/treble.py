# SPDX-License-Identifier: GPL-3.0-or-later
"""What a voice lacks of its treble: how much of it is still there to be lifted, how much would have to be made anew.

How bright the voice should be on the whole is the average voice (Byrne et al. 1994), bent by how this voice
stands to it just below its end, and never more than could have hidden under the noise.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source, read_padded
from pulizia.dsp.stft import analyse as spectra_of
from pulizia.measure.bandwidth import HIGHEST_HZ, Bandwidth, bandwidth_of
from pulizia.models import treble_net
from pulizia.units import powers_to_db

OVERLAP = 2
SAME_WINDOW = 0.5 / 0.375  # power of the sine window over that of the Hann window
LOWEST_LIFT_HZ = 1500.0
SPARED_DB = 1.0  # of lacking treble that may well be the voice's own
HOPELESS_DB = (24.0, 36.0)  # what lacks more is made anew rather than lifted
SLOPE_RATIO, HIDDEN = (
    1.5,
    0.5,
)  # over which its fall is read; the share of the noise's power a mean voice may hide under
UNDER_DB, MOST_TOLD_DB = 8.0, 12.0  # too little treble is missed less than too much in the wrong place
SPEAKING_DB, CALIBRATED_S = -15.0, 60
TRUSTED_DB = (
    0.0,
    6.0,
)  # from which level over the pauses' treble is lifted, and from which nothing is made in its place
OWN_SHARE, OWN_COLOUR_DB, FORGOTTEN_HZ = 0.5, 6.0, 8000.0
"""The most by which a voice's colour under its end bends what is wanted above it, and where nothing of it is left
(over sixteen recorded voices the correlation is 0.6 from 3 to 5 kHz, 0.3 at 6 kHz and none at 8 kHz)."""


@dataclass(frozen=True, slots=True, eq=False)
class Voice:
    """What was learned; arrays are (bins,) each.

    Attributes
    ----------
    bandwidth : spectra of speech and pauses
    wanted : mean power of this voice as it should be, at the scale of the sine window
    lift_db : what is there is lifted by
    missing : 0..1, share of the wanted power that has to be made anew
    heard_hz : up to here the voice stands over the noise
    told_db : (9,) added to what the net says of each of its bands, so that on the whole it comes out as wanted
    """

    bandwidth: Bandwidth
    wanted: NDArray[np.float64]
    lift_db: NDArray[np.float64]
    missing: NDArray[np.float64]
    heard_hz: float
    told_db: NDArray[np.float32]


def learn_voice(
    source: Source, size: int, top_hz: float, from_hz: float | None, progress: Callable[[float], None] = lambda _: None
) -> Voice | None:
    """What this voice lacks up to ``top_hz``; None where nobody speaks.

    Parameters
    ----------
    size : frames of the transform in which it will be restored, with windows half over each other
    from_hz : nothing above it is trusted; None finds out where the voice ends
    """
    found = bandwidth_of(source, size, progress)
    if found is None:
        return None
    hz = found.hz
    clean, pause = _thirds(np.maximum(found.speech - found.pause, 1e-20), hz), _thirds(found.pause, hz)
    treble, judged = hz >= LOWEST_LIFT_HZ, hz <= min(HIGHEST_HZ, top_hz)
    wanted = found.wanted * 10.0 ** (_own_colour_db(found) / 10.0)
    lack = powers_to_db(_thirds(wanted, hz)) - powers_to_db(clean)
    # a dull voice lacks at least as much of everything above
    lack = np.minimum.accumulate(np.where(judged, lack, np.inf)[::-1])[::-1]
    lack = np.where(judged, lack, lack[judged][-1])
    trusted = np.interp(powers_to_db(clean) - powers_to_db(np.maximum(pause, 1e-20)), TRUSTED_DB, (0.0, 1.0))
    trusted *= np.interp(lack, HOPELESS_DB, (1.0, 0.0))
    if from_hz is not None:
        trusted[hz >= from_hz] = 0.0
    trusted = np.minimum.accumulate(np.where(treble & judged, trusted, np.where(treble, 0.0, 1.0)))
    doubtful = np.flatnonzero(trusted < 0.5)
    inside = treble & (hz <= top_hz)
    lift = np.where(inside, np.maximum(lack - SPARED_DB, 0.0), 0.0) * trusted
    if len(doubtful):
        wanted = np.minimum(wanted, _unheard(clean, pause, lack, int(doubtful[0])))
    missing = np.where(inside, (1.0 - trusted) * np.clip(lack / 6.0, 0.0, 1.0), 0.0)
    heard_hz = float(hz[doubtful[0]]) if len(doubtful) else float(hz[-1])
    told = (
        _told_db(source, size, found, heard_hz)
        if missing.any()
        else np.zeros(len(treble_net.MADE_HZ), dtype=np.float32)
    )
    progress(1.0)
    return Voice(found, wanted * SAME_WINDOW, _slope(lift), missing, heard_hz, told)


def _unheard(
    clean: NDArray[np.float64], pause: NDArray[np.float64], lack: NDArray[np.float64], end: int
) -> NDArray[np.float64]:
    """The most that can have been there above bin ``end``: more, falling on as it fell below, would be heard over the noise."""
    under = round(end / SLOPE_RATIO)
    per_octave = max(0.0, float(lack[end] - lack[under])) / np.log2(SLOPE_RATIO)
    further = lack[end] + per_octave * np.log2(np.arange(end, len(clean)) / end)
    most = np.full(len(clean), np.inf)
    most[end:] = np.maximum(clean, HIDDEN * pause)[end:] * 10.0 ** (further / 10.0)
    return most


def _told_db(source: Source, size: int, found: Bandwidth, heard_hz: float) -> NDArray[np.float32]:
    """What brings the mean power of the net's answers over this voice to UNDER_DB under what is wanted."""
    middle = max(0, (source.frames - CALIBRATED_S * source.rate) // 2)
    block = read_padded(source, middle, min(source.frames, middle + CALIBRATED_S * source.rate) + size)
    power = np.mean([np.abs(spectra_of(channel, size, size // OVERLAP)) ** 2 for channel in block], axis=0)
    heard = treble_net.relative_db(
        power, found.speech * SAME_WINDOW, found.pause * SAME_WINDOW, found.hz, treble_net.HEARD_HZ
    )
    speaking = heard[:, heard_hz > treble_net.HEARD_HZ].max(axis=1) > SPEAKING_DB
    if not speaking.any():
        return np.zeros(len(treble_net.MADE_HZ), dtype=np.float32)
    mean = np.mean(10.0 ** (treble_net.treble_db(heard, heard_hz)[speaking] / 10.0), axis=0)
    return np.clip(-powers_to_db(mean) - UNDER_DB, -MOST_TOLD_DB, MOST_TOLD_DB).astype(np.float32)


def _thirds(power: NDArray[np.float64], hz: NDArray[np.float64]) -> NDArray[np.float64]:
    """Mean power over the third of an octave around each bin."""
    sums = np.concatenate([np.zeros(1), np.cumsum(power)])
    bins = np.arange(len(hz))
    low = np.floor(bins / treble_net.HALF_BAND).astype(int)
    high = np.minimum(np.ceil(bins * treble_net.HALF_BAND).astype(int) + 1, len(hz))
    return np.asarray((sums[high] - sums[low]) / (high - low))


def _slope(curve: NDArray[np.float64]) -> NDArray[np.float64]:
    from scipy.ndimage import uniform_filter1d

    return np.asarray(uniform_filter1d(curve, 9, mode="nearest"))


def _own_colour_db(found: Bandwidth) -> NDArray[np.float64]:
    """How this voice stands to the average one in the octave under its end, dying away above, in dB."""
    hz, end_hz = found.hz, found.top_hz
    under = (hz >= 0.45 * end_hz) & (hz < 0.85 * end_hz)
    if end_hz >= FORGOTTEN_HZ or not under.any():
        return np.zeros(len(hz))
    own = float(
        np.mean(powers_to_db(_thirds(found.speech, hz)[under]) - powers_to_db(_thirds(found.wanted, hz)[under]))
    )
    share = np.clip(np.log(FORGOTTEN_HZ / np.maximum(hz, 1.0)) / np.log(FORGOTTEN_HZ / 3000.0), 0.0, 1.0)
    return np.asarray(np.clip(OWN_SHARE * own, -OWN_COLOUR_DB, OWN_COLOUR_DB) * share)
