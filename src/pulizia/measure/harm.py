# SPDX-License-Identifier: GPL-3.0-or-later
"""Harm: what a repair took from the voice.

Method (our own, stated so that it can be judged). Input and output are cut into cells of about 21 ms
by 47 Hz. A cell belongs to the voice when somebody speaks (level with hang-over, see
:mod:`pulizia.measure.speech_activity`) and its power stands VOICE_DB over the floor of that frequency
in the pauses. The part of the voice that is missing in a cell is (1 - gain) times the voice's
amplitude there, where the gain is that of output over input and an even change of level is taken out
first. Reported: its power relative to that of the voice in dB, the share of voice cells that lost
more than 3 dB, and the same in three regions. On mixtures whose voice is known it follows the true
error of the voice (the tests hold it to that).

Where a step takes the room out, what the room adds late is no part of the voice: it is estimated from the decay of the
input (exponential model of late reverberation: K. Lebart, J. M. Boucher, P. N. Denbigh, "A new method based on spectral
subtraction for speech dereverberation", Acta Acustica 87(3), 2001) and taken off the voice of each cell.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source, SpanSource, read_padded
from pulizia.audio.spans import Span
from pulizia.dsp.stft import hann_window, powers
from pulizia.measure.decay import decays_of
from pulizia.measure.noise_changes import quantile_spectrum
from pulizia.measure.room_share import HEARD_DB, likely_t60_s, reverb_db
from pulizia.measure.speech_activity import FRAMES_PER_S, speech_between
from pulizia.units import power_to_db
from pulizia.words import N_

CELL_S = 0.0213
VOICE_DB = 12.0
TOUCHED_DB = 3.0
REGIONS_HZ = ((0.0, 500.0), (500.0, 4000.0), (4000.0, 1e9))
MOST_LISTENED_S = 90.0
LOWEST_DB = -60.0
LATE_S = 0.053  # behind the direct sound; what comes before helps the voice
LATE_SHARE = 2.0  # of the power that decays: 18 recordings in made rooms, whose direct voice is known
MOST_LATE_CELLS, PAST_S = 8192, 1.0
WORDS = ((-26.0, N_("hardly any")), (-19.0, N_("little")), (-13.0, N_("noticeable")), (99.0, N_("strong")))


@dataclass(frozen=True, slots=True)
class Harm:
    """What was taken from the voice."""

    level_db: float  # relative to the voice; LOWEST_DB when nothing
    touched_percent: float
    regions_db: tuple[float, float, float]  # low, middle, high
    floor: NDArray[np.float32]  # power per bin in the pauses, for the shade
    gain: float  # even change of level that was taken out, as a power ratio
    size: int
    t60_s: NDArray[np.float64] | None = None  # of each bin, where what the room adds was left out

    @property
    def words(self) -> str:
        """One plain word."""
        return next(word for limit, word in WORDS if self.level_db < limit)


def cell_size(rate: int) -> int:
    """Frames of a cell."""
    return max(64, int(2 ** round(np.log2(CELL_S * rate))))


def cells(source: Source, starts: NDArray[np.int64], size: int) -> NDArray[np.float32]:
    """(cells in time, bins) power, channels added."""
    window = hann_window(size)
    power = np.zeros((len(starts), size // 2 + 1), dtype=np.float32)
    for a in range(0, len(starts), 256):
        part = starts[a : a + 256]
        block = read_padded(source, int(part[0]), int(part[-1]) + size)
        power[a : a + 256] = powers(block, part - part[0], window)
    return power


def harm(
    before: Source, after: Source, spans: Sequence[Span], progress: Callable[[float], None] = lambda _: None,
    *, room: bool = False,
) -> Harm | None:  # fmt: skip
    """Harm of what lies between two sources; None where nobody speaks.

    A long recording is judged by its middle MOST_LISTENED_S, or by the spans in which a step acts. ``room`` says that the
    room is meant to be taken out.
    """
    rate, size = before.rate, cell_size(before.rate)
    start, stop = (min(s.start for s in spans), max(s.stop for s in spans)) if spans else (0, before.frames)
    most = round(MOST_LISTENED_S * rate)
    if stop - start > most:
        start = (start + stop - most) // 2
        stop = start + most
    hop = size // 2
    starts = np.arange(start, max(start + 1, stop - size), hop)
    if len(starts) < 16:
        return None
    x = cells(before, starts, size)
    progress(0.5)
    y = cells(after, starts, size)
    progress(0.9)
    speech = speech_between(before, start, stop)
    frame = np.minimum((starts + size // 2 - start) * FRAMES_PER_S // rate, len(speech.active) - 1)
    speaking = speech.active[np.maximum(frame, 0)] if len(speech.active) else np.zeros(len(starts), dtype=bool)
    if not speaking.any():
        return None
    floor = quantile_spectrum(x) if speaking.sum() > 0.9 * len(starts) else x[~speaking].mean(axis=0)
    floor = np.maximum(floor, 1e-12 * float(x.max()))
    t60_s = _t60_s(SpanSource(before, start, min(stop, before.frames)), size) if room else None
    late = None if t60_s is None else _late(x, floor, t60_s, hop / rate)[speaking]
    found = judged(x[speaking], y[speaking], floor, rate, late)
    return found if found is None else replace(found, t60_s=t60_s)


def _t60_s(source: Source, size: int) -> NDArray[np.float64] | None:
    """Reverberation time of each bin, the likely one where too few words decay freely; None where no room is heard."""
    decays = decays_of(source)
    usual = decays.middle_s
    if usual is None:
        reverb = reverb_db(source)
        if reverb is None or reverb < HEARD_DB:
            return None
        usual = likely_t60_s(reverb)
    return decays.at(np.arange(size // 2 + 1) * source.rate / size, usual)


def _late(
    x: NDArray[np.float32], floor: NDArray[np.float32], t60_s: NDArray[np.float64], hop_s: float
) -> NDArray[np.float32]:
    """(cells in time, bins) power of what the room adds later than LATE_S, from what sounded before."""
    from scipy.signal import lfilter

    steps = max(1, round(LATE_S / hop_s))
    fall = np.exp(-np.log(1e6) * hop_s / t60_s)
    late = np.zeros_like(x)
    heard = np.maximum(x - floor, 0.0)
    for k, a in enumerate(fall):
        late[steps:, k] = lfilter([LATE_SHARE * (1.0 - a) * a**steps], [1.0, -a], heard[:-steps, k])
    return late


def judged(
    x: NDArray[np.float32],
    y: NDArray[np.float32],
    floor: NDArray[np.float32],
    rate: int,
    late: NDArray[np.float32] | None = None,
) -> Harm | None:
    """Harm from the cells of speaking moments, of whose power ``late`` is the room's."""
    size = 2 * (x.shape[1] - 1)
    voiced = x > floor * 10.0 ** (VOICE_DB / 10.0)
    if not voiced.any():
        return None
    ratio = np.where(voiced, y / np.maximum(x, 1e-20), 1.0)
    strong = voiced & (x > np.quantile(x[voiced], 0.8))
    even = float(np.median(ratio[strong])) if strong.any() else 1.0
    even = max(even, 1e-6)
    gain = np.sqrt(ratio / even)
    voice = np.where(voiced, x - floor if late is None else np.maximum(x - floor - late, 0.0), 0.0).astype(np.float64)
    lost = np.maximum(1.0 - gain, 0.0) ** 2 * voice
    hz = np.arange(x.shape[1]) * rate / size

    def relative(part: NDArray[np.bool_]) -> float:
        whole = float(voice[:, part].sum())
        return max(LOWEST_DB, power_to_db(float(lost[:, part].sum()) / whole)) if whole > 0.0 else LOWEST_DB

    regions = tuple(relative((hz >= low) & (hz < high)) for low, high in REGIONS_HZ)
    own = voiced if late is None else voiced & (x > 2.0 * late)
    touched = 100.0 * float(np.mean(gain[own] < 10.0 ** (-TOUCHED_DB / 20.0))) if own.any() else 0.0
    return Harm(
        relative(hz >= 0.0), touched, (regions[0], regions[1], regions[2]), floor.astype(np.float32), even, size
    )


def taken_cells(before: Source, after: Source, found: Harm, starts: NDArray[np.int64]) -> NDArray[np.bool_]:
    """(cells in time, bins) where the voice lost more than 3 dB."""
    x, y = cells(before, starts, found.size), cells(after, starts, found.size)
    lost = y < x * np.float32(found.gain * 10.0 ** (-TOUCHED_DB / 10.0))
    voiced = x > found.floor * np.float32(10.0 ** (VOICE_DB / 10.0))
    hop, past = found.size // 2, round(PAST_S * before.rate)
    count = (int(starts[-1] - starts[0]) + past) // hop + 1
    if found.t60_s is not None and count <= MOST_LATE_CELLS:
        grid = starts[0] - past + np.arange(count + 1) * hop
        late = _late(cells(before, grid, found.size), found.floor, found.t60_s, hop / before.rate)
        voiced &= x > 2.0 * late[np.clip((starts - grid[0]) // hop, 0, count)]
    return np.asarray(lost & voiced)
