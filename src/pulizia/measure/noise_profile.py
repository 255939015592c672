# SPDX-License-Identifier: GPL-3.0-or-later
"""The noise of a recording as one spectrum, one for each stretch, or one that drifts along."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source, SpanSource, read_padded
from pulizia.audio.spans import Span
from pulizia.dsp.stft import powers, sine_window
from pulizia.errors import AnalysisError
from pulizia.measure.noise_changes import TRACK_REACH_S, band_powers, change_between_s, changes_s, quantile_spectrum
from pulizia.measure.noise_floor import noise_spectrum, quiet_spans
from pulizia.measure.speech_activity import FRAMES_PER_S, speech_between
from pulizia.units import powers_to_db

CROSS_FADE_S = 0.15
LEAST_MARKED_S = 0.1
AROUND_S, STEADY_DB, VOICE_OVER_DB, AWAY_FROM_VOICE_S = 5.0, 12.0, 6.0, 0.03
CLEAN_RATIO = 3.0
MOST_LOOKS = 500
LISTENED_IN_STRETCH_S = 120.0


@dataclass(frozen=True, slots=True)
class NoiseProfile:
    """Power per bin of the noise, for one transform size; one row for each stretch or moment.

    ``places`` are the frames at which rows hold; between two of them they are cross-faded in dB. ``edges`` are the
    frames at which sections with a noise of their own begin, after the first; ``heard`` says for each section where
    its noise was learned: nowhere when it was seen through the voice.
    """

    rows: NDArray[np.float32]  # (places, size // 2 + 1)
    places: NDArray[np.int64]
    size: int
    edges: tuple[int, ...] = ()
    heard: tuple[tuple[Span, ...], ...] = ()

    @property
    def power(self) -> NDArray[np.float32]:
        """The loudest row: the picture's profile, and what is carried elsewhere."""
        return np.asarray(self.rows[int(np.argmax(self.rows.sum(axis=1)))])

    def at(self, frames: NDArray[np.int64]) -> NDArray[np.float32]:
        """(1 or frames, bins) power at frames of the recording."""
        if len(self.rows) == 1:
            return self.rows
        place = np.interp(frames, self.places, np.arange(len(self.places)))
        left = np.minimum(place.astype(int), len(self.rows) - 2)
        parts = np.unique(left)
        if len(parts) == 1 and np.array_equal(self.rows[parts[0]], self.rows[parts[0] + 1]):
            return np.asarray(self.rows[parts])
        made = np.empty((len(frames), self.rows.shape[1]), dtype=np.float32)
        for k in parts.tolist():
            inside = left == k
            if np.array_equal(self.rows[k], self.rows[k + 1]):
                made[inside] = self.rows[k]
            else:
                share = (place[inside] - k)[:, None].astype(np.float32)
                made[inside] = self.rows[k] * np.exp(share * np.log(self.rows[k + 1] / self.rows[k]))
        return made

    def around(self, frame: int) -> NoiseProfile:
        """The one that holds at a frame."""
        return single(self.at(np.array([frame]))[0], self.size)

    def density_db(self, rate: int) -> NDArray[np.float64]:
        """Level density per bin in dBFS per Hz, one-sided."""
        # the sine window has a mean square of 1/2
        return powers_to_db(self.power * (2.0 / (0.5 * self.size * rate)))


@dataclass(frozen=True, slots=True)
class Told:
    """What a person has said of the noise: where it is heard alone, what is none, and its sections."""

    samples: tuple[Span, ...] = ()
    rejected: tuple[Span, ...] = ()
    sections: tuple[Span, ...] = ()


def single(power: NDArray[np.float32], size: int, heard: tuple[Span, ...] = ()) -> NoiseProfile:
    """One profile for the whole recording."""
    return NoiseProfile(power[None], np.zeros(1, dtype=np.int64), size, (), (heard,))


def voiceless(source: Source, sample: Span) -> tuple[Span, ...]:
    """What of a sample is learned: all of it, or its pauses where somebody speaks in it; empty where there is no pause.

    A sample is marked by hand and often reaches into a word: the voice would be taken for noise and thinned
    everywhere. There is voice in it when the listening layer, with AROUND_S to both sides, is certain of some, and the
    level, every 10 ms, is not that of a noise: its middle four fifths lie STEADY_DB and more apart (13 to 39 dB where
    somebody speaks, 1 to 11 dB in hiss, hum, engines and music).
    """
    rate = source.rate
    near = round(AROUND_S * rate)
    start, stop = max(0, sample.start - near), min(source.frames, sample.stop + near)
    heard = speech_between(source, start, stop)
    first = (max(0, sample.start) - start) * FRAMES_PER_S // rate
    inside = slice(first, first + max(1, sample.frames * FRAMES_PER_S // rate))
    level, active, core = heard.level_db[inside], heard.active[inside], heard.core[inside]
    if not core.any() or float(np.quantile(level, 0.9) - np.quantile(level, 0.1)) < STEADY_DB:
        return (sample,)
    reach = round(AWAY_FROM_VOICE_S * FRAMES_PER_S)
    spoken = np.convolve(active | (level > heard.floor_db + VOICE_OVER_DB), np.ones(2 * reach + 1), mode="same") > 0.5
    edges = np.flatnonzero(np.diff(np.concatenate([[True], spoken, [True]]).astype(np.int8)))
    found = (
        Span(start + (first + a) * rate // FRAMES_PER_S, start + (first + b) * rate // FRAMES_PER_S)
        for a, b in edges.reshape(-1, 2).tolist()
    )
    return tuple(span for span in found if span.frames >= LEAST_MARKED_S * rate)


def from_samples(source: Source, samples: Sequence[Span], size: int) -> NDArray[np.float32]:
    """(size // 2 + 1,) power per bin of the noise that was marked, without the voices in it; see ``noise_spectrum``."""
    whole = noise_spectrum(source, samples, size)
    still = tuple(part for sample in samples for part in voiceless(source, sample))
    if still == tuple(samples):
        return whole
    if sum(part.frames for part in still) >= LEAST_MARKED_S * source.rate:
        return noise_spectrum(source, still, size)
    # not a pause in it: those around
    near = round(AROUND_S * source.rate)
    around = [Span(max(0, s.start - near), min(source.frames, s.stop + near)) for s in samples]
    return np.asarray(np.mean([_found_in(source, span, size, ())[0] for span in around], axis=0), dtype=np.float32)


def everywhere(source: Source, told: Told, size: int) -> NoiseProfile:
    """One profile from the samples given, else from the quietest passages."""
    if told.samples:
        return single(from_samples(source, told.samples, size), size, told.samples)
    heard = quiet_spans(source, without=told.rejected)
    return single(noise_spectrum(source, heard, size), size, heard)


def by_stretch(source: Source, told: Told, size: int, progress: Callable[[float], None]) -> NoiseProfile:
    """A profile for each section: those given, else those between two changes of the noise."""
    if told.sections:
        edges = [s.start for s in told.sections[1:] if 0 < s.start < source.frames]
    else:
        power = band_powers(source, lambda p: progress(0.6 * p))
        found = with_samples(power, changes_s(power), told.samples, source.rate)
        edges = [round(s * source.rate) for s in found]
    if not edges:
        return everywhere(source, told, size)
    marked = told.samples
    edges = [0, *edges, source.frames]
    rows, places, heard = [], [], []
    fade = round(CROSS_FADE_S * source.rate)
    for n, (start, stop) in enumerate(pairwise(edges)):
        inside = tuple(Span(max(m.start, start), min(m.stop, stop)) for m in marked if m.overlaps(start, stop))
        inside = tuple(m for m in inside if m.frames >= LEAST_MARKED_S * source.rate)
        if not inside:
            row, inside = _found_in(source, Span(start, stop), size, told.rejected)
        else:
            row = from_samples(source, inside, size)
        rows += [row, row]
        heard.append(inside)
        places += [start + fade if start else start, stop - fade if stop < source.frames else stop]
        progress(0.6 + 0.4 * (n + 1) / (len(edges) - 1))
    return NoiseProfile(np.stack(rows), np.array(places, dtype=np.int64), size, tuple(edges[1:-1]), tuple(heard))


def with_samples(
    power: NDArray[np.float32], changes: Sequence[float], samples: Sequence[Span], rate: int
) -> list[float]:
    """Changes of the noise in seconds, with one between any two samples that differ and have none between them."""
    found = list(changes)
    for one, other in pairwise(sorted(samples)):
        a, b = (0.5 * (s.start + s.stop) / rate for s in (one, other))
        if not any(a < change < b for change in found):
            between = change_between_s(power, a, b)
            if between is not None:
                found.append(between)
    return sorted(found)


def _found_in(
    source: Source, stretch: Span, size: int, rejected: tuple[Span, ...]
) -> tuple[NDArray[np.float32], tuple[Span, ...]]:
    """The noise of a stretch from its quietest passages, and these; or through the voice where there are none."""
    start = stretch.start
    part = SpanSource(source, start, stretch.stop)
    without = [Span(max(0, r.start - start), r.stop - start) for r in rejected if r.overlaps(start, stretch.stop)]
    through = quantile_spectrum(_looks(part, size))
    try:
        spans = quiet_spans(part, most_listened_s=LISTENED_IN_STRETCH_S, without=without)
        quiet = noise_spectrum(part, spans, size)
    except AnalysisError:
        return np.maximum(through, 1e-20), ()
    # quiet passages that are far louder than the floor seen through the voice are voice themselves
    clean = float(quiet.sum()) <= CLEAN_RATIO * float(through.sum())
    if clean or not through.any():
        return quiet, tuple(Span(start + s.start, start + s.stop) for s in spans)
    return np.maximum(through, 1e-20), ()


def drifting(source: Source, size: int, progress: Callable[[float], None]) -> NoiseProfile:
    """The noise every second, seen through the voice over TRACK_REACH_S to both sides."""
    seconds = max(1, -(-source.frames // source.rate))
    reach = round(TRACK_REACH_S)
    near: deque[NDArray[np.float32]] = deque(maxlen=2 * reach + 1)
    rows = []
    for second in range(seconds + reach):
        if second < seconds:
            part = SpanSource(source, second * source.rate, min(source.frames, (second + 1) * source.rate))
            near.append(_looks(part, size))
        elif len(near) > reach + 1:
            near.popleft()
        if second >= reach or second == seconds - 1:
            rows.append(np.maximum(quantile_spectrum(np.concatenate(near)), 1e-20))
        progress(min(1.0, (second + 1) / seconds))
    rows = rows[:seconds]
    places = np.arange(len(rows), dtype=np.int64) * source.rate
    return NoiseProfile(np.stack(rows), places, size)


def _looks(source: Source, size: int) -> NDArray[np.float32]:
    """(frames, bins) power, channels averaged; a long stretch is looked at here and there."""
    hop, window = size // 2, sine_window(size)
    count = max(1, (source.frames - size) // hop + 1)
    if count <= MOST_LOOKS:
        block = read_padded(source, 0, (count - 1) * hop + size)
        return powers(block, np.arange(count) * hop, window) / np.float32(source.channels)
    chosen = np.arange(0, count, count // MOST_LOOKS) * hop
    block = np.concatenate([read_padded(source, at, at + size) for at in chosen.tolist()], axis=1)
    return powers(block, np.arange(len(chosen)) * size, window) / np.float32(source.channels)
