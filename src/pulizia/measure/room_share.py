# SPDX-License-Identifier: GPL-3.0-or-later
"""How much of a voice is the room: late reverberation against the direct voice, told by the net that knows the tail.

The decay of word ends tells a reverberation time only where words end freely and far over the noise. What the net of
:mod:`pulizia.models.room_net` calls late in the loud cells of speech is heard in noise and in long rooms as well.
The figure is that of the direct-to-reverberant ratio (ISO 3382-1 has it as clarity with a limit in time), turned round.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source, read_padded
from pulizia.dsp.prediction_error import (
    ITERATIONS,
    MOST_CHANNELS,
    bins_of,
    frames_of,
    grid_of,
    predictors,
    without_tail,
)
from pulizia.dsp.stft import analyse as spectra_of
from pulizia.measure.listening import listened
from pulizia.measure.speech_activity import FRAMES_PER_S
from pulizia.models import room_net
from pulizia.units import power_to_db

PIECE_S, MOST_PIECES = 6.0, 8
LEAST_SPEECH_S = 2.0
BAND_HZ = (200.0, 6000.0)
T60_S = 0.5  # what the net is told whatever the room: with the measured one its answer follows the errors of that
FLOOR_SHARE, OVER_FLOOR = 0.1, 9.0  # a cell counts from this many times the tenth part of its bin that is quietest
EVEN = 0.5  # power by which bins are made alike: neither the loudest alone nor all the same
LEAST_OF_LOUDEST = 1e-7
HEARD_DB, AS_LOUD_DB = -5.7, 0.0
"""Where a room is heard at all, and where it is as loud as the voice. From HEARD_DB on, 47 of 48 voices in rooms of 0.4 to
1.1 s are told, without noise and with noise down to 12 dB, and 2 of 372 without a room."""
LIKELY_T60_S = (0.4, 1.1)


def reverb_db(source: Source, progress: Callable[[float], None] = lambda _: None) -> float | None:
    """Late reverberation relative to the direct voice, in dB.

    Of up to MOST_PIECES stretches of PIECE_S in which much is said, evenly over what was listened to.

    Parameters
    ----------
    source : any rate; of more than two channels the loudest is judged
    progress : share 0..1

    Returns
    -------
    dB, about -10 for close voices in dry rooms and 0 far from the microphone; None where too little is said
    """
    places = _places(source)
    if not places:
        return None
    size, _hop = grid_of(source.rate)
    top = bins_of(source.rate, size)
    hz = np.arange(top) * source.rate / size
    inside = (hz >= BAND_HZ[0]) & (hz < BAND_HZ[1])
    heard, voice = [], []
    for n, start in enumerate(places):
        samples = read_padded(source, start, start + round(PIECE_S * source.rate) + size)
        power, direct = _parted(samples, source.rate, hz)
        heard.append(power[:, inside])
        voice.append(direct[:, inside])
        progress((n + 1) / len(places))
    return _ratio_db(np.concatenate(heard).astype(np.float64), np.concatenate(voice).astype(np.float64))


def likely_t60_s(reverb: float) -> float:
    """The reverberation time that is usual where the room is this loud: for rooms whose decay cannot be heard."""
    return float(np.interp(reverb, (HEARD_DB, AS_LOUD_DB), LIKELY_T60_S))


def _places(source: Source) -> list[int]:
    """First frames of the stretches: of each part of the recording the one in which most is said."""
    activity = listened(source)
    if np.count_nonzero(activity.core) < LEAST_SPEECH_S * FRAMES_PER_S:
        return []
    steps = round(PIECE_S * FRAMES_PER_S)
    count = max(1, len(activity.core) // steps)
    said = np.array([np.count_nonzero(activity.core[n * steps : (n + 1) * steps]) for n in range(count)])
    parts = np.array_split(np.arange(count), min(MOST_PIECES, count))
    chosen = [int(part[said[part].argmax()]) for part in parts]
    first = activity.first_frame
    return [first + n * steps * source.rate // FRAMES_PER_S for n in chosen if said[n] > 0]


def _parted(
    samples: NDArray[np.float32], rate: int, hz: NDArray[np.float64]
) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """(frames, bins) power of what is heard, and of what of it is the voice itself."""
    size, hop = grid_of(rate)
    if len(samples) > MOST_CHANNELS:
        samples = samples[[int((samples**2).sum(axis=1).argmax())]]
    spectra = np.stack([spectra_of(channel, size, hop)[:, : len(hz)] for channel in samples])
    taps, delay = frames_of(rate, hop, len(spectra))
    filters = predictors(spectra, taps=taps, delay=delay, iterations=ITERATIONS)
    left = without_tail(spectra, filters, taps=taps, delay=delay)
    heard, dry = ((x.real**2 + x.imag**2).mean(axis=0) for x in (spectra, left))
    share = np.minimum(room_net.mask(heard, dry, np.full(len(hz), T60_S), hz) / room_net.WHOLE_SHARE, 1.0)
    return heard, dry * share**2


def _ratio_db(heard: NDArray[np.float64], voice: NDArray[np.float64]) -> float | None:
    """What is not the voice against it, in the cells that stand out of the noise."""
    counts = heard > OVER_FLOOR * np.quantile(heard, FLOOR_SHARE, axis=0)
    total = (heard * counts).sum(axis=0)
    if not total.max() > 0.0:
        return None
    weight = np.maximum(total, LEAST_OF_LOUDEST * total.max()) ** -EVEN
    direct = float((weight * voice * counts).sum())
    late = float((weight * heard * counts).sum()) - direct
    return power_to_db(max(late, 1e-12) / max(direct, 1e-12))
