# SPDX-License-Identifier: GPL-3.0-or-later
"""Sounds of a steady pitch that come and go: a phone, a bell, a beep under the voice.

Peaks of the spectrum are followed from moment to moment (partial tracking: R. McAulay, T. Quatieri, "Speech
analysis/synthesis based on a sinusoidal representation", IEEE Trans. ASSP 34(4), 1986). The partials of a voice move
by a percent within a quarter of a second even where it holds a note; those of a bell stay within a few hertz. What
a voice does hold as still as that, in a cry or a song, has its other harmonics beside it at equal distances; and what
rings on in a room or a body after a word dies away from the level that the voice had there, without a beginning.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source, read_padded
from pulizia.dsp.stft import powers
from pulizia.units import powers_to_db

WINDOW_S, HOP_S = 0.085, 0.02
LOW_HZ, HIGH_HZ = 600.0, 9_000.0
LOWEST_HZ = 60.0
PITCHES_HZ = np.geomspace(72.0, 520.0, 300)  # of voices
HARMONIC_DB, LEAST_HARMONICS = 9.0, 3  # over the middle between two of them; so many of the four beside a tone
FALL_DB_S, BEGINS_DB, BEFORE_LOOKS = 13.0, 5.0, 6  # dies away without having risen over what stood there just before
ALONE_DB = 12.0  # over the nearest of them: the voice beneath a louder tone is not its own
BACKGROUND_HZ, PEAK_DB = 400.0, 12.0  # a peak over what lies around it in frequency
STEP_HZ, SPREAD_HZ = 2.5, 1.5  # from moment to moment, and in all
SHORTEST_S = 0.24
APART_DB = 10.0  # over the same place before or behind
EDGE_LOOKS, BESIDE_LOOKS = 3, 10  # how far from a tone these begin, and how long they are
PART_S, MARGIN_S = 600.0, 20.0  # looked at in one go: the levels of an hour would be half a gigabyte
TOGETHER_S = 0.15
HALF_WIDTH_HZ = 28.0
REPEATED_HZ, PARTS, LEAST_PARTS = 12.0, 10, 5  # a pitch that returns in so many of the parts is a resonance or a hum
PIECES_MORE = 4.0  # times as many pieces as beside
PIECE_HZ, BESIDE_HZ = 4.0, (12.0, 60.0)
MOST_SHARE = 0.2  # of the recording: more is music
LOOKS_AT_ONCE = 1500
MOST_AHEAD, LEAST_CHAIN = 3, 5
SURE_IN_AREA_S = 0.18
NEAR_S = 3.0  # how far around a tone pieces of its pitch are taken as part of the same sound

Progress = Callable[[float], None]
SAME_PITCH_HZ, MOST_PITCHES = 8.0, 8


@dataclass(frozen=True, slots=True)
class SteadyTone:
    """One tone: frames from ``start`` to ``stop``, its pitch in Hz and its level in dBFS."""

    start: int
    stop: int
    hz: float
    level_db: float


@dataclass(frozen=True, slots=True)
class _Tracks:
    """Peaks of a stretch: look, pitch and level of each; the levels of all bins from ``low`` on."""

    look: NDArray[np.int64]
    hz: NDArray[np.float64]
    top: NDArray[np.float32]
    level: NDArray[np.float32]
    hop: int
    size: int
    low: int
    bin_per_hz: float


def steady_tones(source: Source, progress: Progress = lambda _: None) -> list[SteadyTone]:
    """Tones that come and go, in order of time; none where the recording is full of them, as music is."""
    found: list[SteadyTone] = []
    short: list[SteadyTone] = []
    held: set[SteadyTone] = set()
    part, margin = round(PART_S * source.rate), round(MARGIN_S * source.rate)

    def told(share: float) -> None:
        progress(min(1.0, (start + share * part) / max(part, source.frames)))

    for start in range(0, max(1, source.frames), part):
        whole = (max(0, start - margin), min(source.frames, start + part + margin))
        tracks = _tracks(source, *whole, (LOWEST_HZ, HIGH_HZ), told, LOW_HZ)
        for chain in _chains(tracks.look, tracks.hz):
            tone = _tone(tracks, chain, whole[0])
            goes_on = whole[0] > 0 and tracks.look[chain[0]] <= MOST_AHEAD  # a piece of one that began before
            if tone.stop < start or not (goes_on or start <= tone.start < start + part):
                continue
            if goes_on:
                known = any(abs(t.hz - tone.hz) < 2 * STEP_HZ and t.stop >= tone.start for t in found)
            else:
                known = _is_steady(tracks, chain, tone.hz * tracks.size / source.rate - tracks.low)
            (found if known else short).append(tone)
            if known and (_is_harmonic(tracks, chain, tone.hz) or (not goes_on and _rings_on(tracks, chain, tone.hz))):
                held.add(tone)
    found = _without_returning(sorted(found, key=lambda t: t.start), short, source)
    found = _without_voice(found, held, source.rate)
    if sum(b - a for a, b in _together(found, 0)) > MOST_SHARE * source.frames:
        return []
    return _with_parts(found, short, source.rate)


def _is_steady(tracks: _Tracks, chain: NDArray[np.int64], bin_: float) -> bool:
    """Whether a chain keeps its pitch long enough and is louder than what stands there before and behind."""
    hz = tracks.hz[chain]
    if np.std(hz) > SPREAD_HZ or len(chain) < SHORTEST_S / HOP_S or np.ptp(hz) > 4 * SPREAD_HZ:
        return False
    at = min(max(round(bin_), 0), tracks.level.shape[1] - 1)
    first, last = int(tracks.look[chain[0]]), int(tracks.look[chain[-1]])
    begin = max(0, first - EDGE_LOOKS - BESIDE_LOOKS)
    near = tracks.level[begin : last + 1 + EDGE_LOOKS + BESIDE_LOOKS, max(0, at - 1) : at + 2].max(axis=1)
    return _stands_out(near, first - begin, last - begin)


def _rings_on(tracks: _Tracks, chain: NDArray[np.int64], hz: float) -> bool:
    """Whether a tone dies away from its beginning on, and does not begin louder than what stood at its pitch before."""
    first, last = int(tracks.look[chain[0]]), int(tracks.look[chain[-1]])
    at = min(max(round(hz * tracks.bin_per_hz) - tracks.low, 1), tracks.level.shape[1] - 1)
    begin, end = max(0, first - EDGE_LOOKS - BEFORE_LOOKS), max(0, first - EDGE_LOOKS)
    here, before = (tracks.level[a:b, at - 1 : at + 2].max(axis=1) for a, b in ((first, last + 1), (begin, end)))
    if not len(before) or float(here.max() - before.max()) >= BEGINS_DB:
        return False
    return float(np.polynomial.polynomial.polyfit(np.arange(len(here)) * HOP_S, here, 1)[1]) < -FALL_DB_S


def _is_harmonic(tracks: _Tracks, chain: NDArray[np.int64], hz: float) -> bool:
    """Whether peaks lie at one distance on both sides of a tone, as the harmonics of a voice that holds a note do.

    For each pitch of a voice, how far the second and first neighbours on both sides stand over the middles between
    them (a comb, as in M. R. Schroeder, "Period histogram and product spectrum", JASA 43(4), 1968); all but one of those
    above LOWEST_HZ must.
    """
    first, last = int(tracks.look[chain[0]]), int(tracks.look[chain[-1]])
    level = np.median(tracks.level[first : last + 1], axis=0)
    wide = np.maximum(np.maximum(np.roll(level, 1), np.roll(level, -1)), level)

    def read(values: NDArray[np.float32], at_hz: NDArray[np.float64]) -> NDArray[np.float32]:
        places = np.clip(np.rint(at_hz * tracks.bin_per_hz).astype(int) - tracks.low, 0, len(values) - 1)
        return np.asarray(values[places])

    beside = hz + np.array([[-2.0], [-1.0], [1.0], [2.0]]) * PITCHES_HZ
    middles = np.maximum(read(level, beside - PITCHES_HZ / 2), read(level, beside + PITCHES_HZ / 2))
    over = np.where(beside > LOWEST_HZ, read(wide, beside) - middles, np.inf)
    enough = np.sum(beside > LOWEST_HZ, axis=0) >= LEAST_HARMONICS
    like = read(wide, beside[1:3]).max(axis=0) >= read(wide, np.array([hz])) - ALONE_DB
    return bool(np.any(enough & like & (np.sort(over, axis=0)[1] >= HARMONIC_DB)))


def _without_voice(found: list[SteadyTone], held: set[SteadyTone], rate: int) -> list[SteadyTone]:
    """The tones without those that sound with nothing but what a voice holds or makes ring; a bell has others too."""
    kept: list[SteadyTone] = []
    for start, stop in _together(found, round(TOGETHER_S * rate)):
        event = [tone for tone in found if start <= tone.start and tone.stop <= stop]
        if not held.issuperset(event):
            kept += event
    return kept


def tones_in(source: Source, start: int, stop: int, band_hz: tuple[float, float]) -> list[SteadyTone]:
    """Every steady tone inside a stretch and a band that somebody says holds one; the voice's partials are left out."""
    reach = round(NEAR_S * source.rate / 4)
    first = max(0, start - reach)
    band = (max(LOWEST_HZ, band_hz[0] - HALF_WIDTH_HZ), band_hz[1] + HALF_WIDTH_HZ)
    tracks = _tracks(source, first, min(source.frames, stop + reach), band, lambda _share: None)
    sure: list[SteadyTone] = []
    short: list[SteadyTone] = []
    for chain in _chains(tracks.look, tracks.hz):
        tone = _tone(tracks, chain, first)
        if tone.stop <= start or tone.start >= stop or not band_hz[0] <= tone.hz <= band_hz[1]:
            continue
        steady = np.std(tracks.hz[chain]) <= SPREAD_HZ and len(chain) >= SURE_IN_AREA_S / HOP_S
        (sure if steady else short).append(tone)
    return _with_parts(sure, short, source.rate)


def _tone(tracks: _Tracks, chain: NDArray[np.int64], origin: int = 0) -> SteadyTone:
    first, last = int(tracks.look[chain[0]]), int(tracks.look[chain[-1]])
    start, stop = first * tracks.hop + tracks.size // 4, last * tracks.hop + 3 * tracks.size // 4
    level = float(tracks.top[chain].max())
    return SteadyTone(origin + start, origin + stop, float(np.median(tracks.hz[chain])), level)


def _tracks(
    source: Source,
    start: int,
    stop: int,
    band_hz: tuple[float, float],
    progress: Progress,
    lowest_hz: float = 0.0,
) -> _Tracks:
    """The levels of a stretch between two frequencies, and all peaks in them from the lowest one on."""
    rate = source.rate
    size = int(2 ** round(np.log2(WINDOW_S * rate)))
    hop = round(HOP_S * rate)
    low, high = (int(hz * size / rate) for hz in (band_hz[0], min(band_hz[1], 0.45 * rate)))
    high = max(high, low + 8)
    count = max(0, (stop - start - size) // hop + 1)
    window = np.hanning(size + 1)[:-1].astype(np.float32)
    scale = np.float32(4.0 / float(window.sum()) ** 2 / source.channels)
    level = np.empty((count, high - low), dtype=np.float32)
    parts = [(np.zeros(0, dtype=np.int64), np.zeros(0), np.zeros(0, dtype=np.float32))]
    for a in range(0, count, LOOKS_AT_ONCE):
        b = min(count, a + LOOKS_AT_ONCE)
        block = read_padded(source, start + a * hop, start + (b - 1) * hop + size)
        level[a:b] = powers_to_db(powers(block, np.arange(b - a) * hop, window)[:, low:high] * scale)
        first = max(0, int(lowest_hz * size / rate) - low)
        at, where, top = _peaks(level[a:b, first:], BACKGROUND_HZ * size / rate)
        parts.append((a + at, (low + first + where) * rate / size, top))
        progress(b / count)
    look, hz, top = (np.concatenate([part[n] for part in parts]) for n in range(3))
    return _Tracks(look, hz, top, level, hop, size, low, size / rate)


def _with_parts(found: list[SteadyTone], short: list[SteadyTone], rate: int) -> list[SteadyTone]:
    """The tones with what else was heard of the same pitches near them, pieces of one tone joined."""
    near = round(NEAR_S * rate)
    more = [
        piece
        for piece in short
        if any(
            abs(piece.hz - tone.hz) < 2 * STEP_HZ and piece.start < tone.stop + near and piece.stop > tone.start - near
            for tone in found
        )
    ]
    made: list[SteadyTone] = []
    for tone in sorted([*found, *more], key=lambda t: (round(t.hz / (4 * STEP_HZ)), t.start)):
        last = made[-1] if made else None
        if last is not None and abs(last.hz - tone.hz) < 2 * STEP_HZ and tone.start <= last.stop + TOGETHER_S * rate:
            level = max(last.level_db, tone.level_db)
            made[-1] = SteadyTone(last.start, max(last.stop, tone.stop), last.hz, level)
        else:
            made.append(tone)
    return sorted(made, key=lambda t: t.start)


def _peaks(
    level: NDArray[np.float32], background: float
) -> tuple[NDArray[np.int64], NDArray[np.float64], NDArray[np.float32]]:
    """Look, place in bins (interpolated by a parabola in dB) and level of every peak."""
    from scipy.ndimage import uniform_filter1d

    around = uniform_filter1d(level, size=2 * max(3, round(background / 2)) + 1, axis=1, mode="nearest")
    middle = level[:, 1:-1]
    is_peak = (middle > level[:, :-2]) & (middle >= level[:, 2:]) & (middle > around[:, 1:-1] + PEAK_DB)
    at, k = np.nonzero(is_peak)
    left, top, right = level[at, k], level[at, k + 1], level[at, k + 2]
    bend = np.minimum(left - 2.0 * top + right, -1e-6)
    return at, k + 1 + 0.5 * (left - right) / bend, top


def _chains(look: NDArray[np.int64], hz: NDArray[np.float64]) -> list[NDArray[np.int64]]:
    """Peaks that follow each other from look to look within STEP_HZ, LEAST_CHAIN and more of them."""
    key = look * 1e5 + hz  # peaks come sorted by look, then by pitch
    next_ones = np.full(len(key), -1)
    for ahead in range(1, MOST_AHEAD + 1):  # a voice may hide a tone for a moment
        wanted = key + ahead * 1e5
        right = np.clip(np.searchsorted(key, wanted), 0, len(key) - 1)
        left = np.maximum(right - 1, 0)
        nearest = np.where(np.abs(key[left] - wanted) < np.abs(key[right] - wanted), left, right)
        linked = (next_ones < 0) & (np.abs(key[nearest] - wanted) < STEP_HZ)
        next_ones[linked] = nearest[linked]
    following = next_ones.tolist()
    length = [1] * len(following)
    begins = [True] * len(following)
    for n in range(len(following) - 1, -1, -1):
        if (after := following[n]) >= 0:
            length[n] = length[after] + 1
            begins[after] = False
    made = []
    for n, long in enumerate(length):
        if begins[n] and long >= LEAST_CHAIN:
            chain = [n]
            while following[chain[-1]] >= 0:
                chain.append(following[chain[-1]])
            made.append(np.array(chain))
    return made


def _stands_out(level: NDArray[np.float32], first: int, last: int) -> bool:
    """Whether a tone is louder than what stands at its pitch before it and behind it."""
    here = float(np.max(level[first : last + 1]))
    before = level[max(0, first - EDGE_LOOKS - BESIDE_LOOKS) : max(0, first - EDGE_LOOKS)]
    behind = level[last + EDGE_LOOKS + 1 : last + EDGE_LOOKS + 1 + BESIDE_LOOKS]
    return all(not len(part) or here - float(np.median(part)) >= APART_DB for part in (before, behind))


def _without_returning(found: list[SteadyTone], short: list[SteadyTone], source: Source) -> list[SteadyTone]:
    """Those whose pitch does not return all through the recording, in whole tones or in pieces of them.

    A voice leaves pieces at all pitches; a resonance is where many more lie than beside it. A phone that rings twice is in
    few parts of the recording, however often it rings each time.
    """
    hz, start, stop = (np.array([getattr(t, name) for t in (*found, *short)]) for name in ("hz", "start", "stop"))
    sure = np.arange(len(hz)) < len(found)
    part = start * PARTS // max(1, source.frames)
    near = round(NEAR_S * source.rate)

    def returns(tone: SteadyTone) -> bool:
        away = np.abs(hz - tone.hz)
        if len(np.unique(part[sure & (away < REPEATED_HZ)])) >= LEAST_PARTS:
            return True
        elsewhere = (stop < tone.start - near) | (start > tone.stop + near)
        pieces = elsewhere & (away < PIECE_HZ)
        beside = np.count_nonzero(elsewhere & (away >= BESIDE_HZ[0]) & (away < BESIDE_HZ[1]))
        usual = beside * PIECE_HZ / (BESIDE_HZ[1] - BESIDE_HZ[0])
        return len(np.unique(part[pieces])) >= LEAST_PARTS and bool(np.count_nonzero(pieces) >= PIECES_MORE * usual)

    return [tone for tone in found if not returns(tone)]


def _together(tones: list[SteadyTone], reach: int) -> list[tuple[int, int]]:
    """Stretches of tones that touch."""
    made: list[tuple[int, int]] = []
    for tone in tones:
        if made and tone.start <= made[-1][1] + reach:
            made[-1] = (made[-1][0], max(made[-1][1], tone.stop))
        else:
            made.append((tone.start, tone.stop))
    return made


def events_of(tones: list[SteadyTone], rate: int) -> list[tuple[int, int]]:
    """Stretches in frames in which tones sound together: one ring of a phone is one event."""
    return _together(tones, round(TOGETHER_S * rate))


def pitches_of(tones: list[SteadyTone]) -> list[float]:
    """The pitches of tones, loudest first, each once."""
    made: list[float] = []
    for tone in sorted(tones, key=lambda t: -t.level_db):
        if all(abs(tone.hz - hz) > SAME_PITCH_HZ for hz in made):
            made.append(tone.hz)
    return made[:MOST_PITCHES]
