# SPDX-License-Identifier: GPL-3.0-or-later
"""Ringing: dynamic bells on resonances of the room or the microphone.

Candidates are narrow peaks that stay at one frequency while the voice moves: in every window the
level is taken relative to its surroundings of half an octave, and averaged over windows with speech.
Each bell then acts only while its band exceeds what the surroundings let expect (common practice);
its shape is the inverse of the measured resonance (second-order, audio EQ cookbook).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, read_padded
from pulizia.audio.spans import Span
from pulizia.dsp import biquads
from pulizia.dsp.block_filter import BlockFilter
from pulizia.dsp.fourier import rfft
from pulizia.dsp.stft import hann_window
from pulizia.settings.declare import Settings, choice, number
from pulizia.tools.base import (
    Block,
    Curve,
    Margin,
    Picture,
    Progress,
    Suggestion,
    Survey,
    Table,
    Tool,
)
from pulizia.units import Unit, format_number, powers_to_db
from pulizia.words import plural, tr

MOST_BELLS = 8
LOOK_S = 0.17  # window of the search: 8192 at 48 kHz
MOST_LOOKS = 1500
LOWEST_HZ, HIGHEST_HZ = 160.0, 9000.0
GRID_PER_OCTAVE = 48
SURROUND_OCTAVES = 0.6
LEAST_EXCESS_DB = 6.0
WIDEST_Q, NARROWEST_Q = 8.5, 60.0  # wider bumps are the voice's own
PITCH_HZ, HIGHEST_HARMONIC, OFF_HARMONIC = (70.0, 450.0), 24, 0.08  # of a speaking voice; a share of the pitch
LEAST_ROW, ABOVE_ROW_DB = 4, 6.0  # harmonics side by side that show a pitch
BLOCK = 64
WINDOW_MS = 40.0
SILENT_DB = 100.0


@dataclass(frozen=True, slots=True, kw_only=True)
class RingingSettings(Settings):
    """How many bells, how deep, how."""

    bells_count: float = number(
        3.0, unit=Unit.COUNT, low=1.0, high=float(MOST_BELLS), step=1.0, whole=False, label="Resonances",
        help="At most this many resonances are treated, the strongest first.",
    )  # fmt: skip
    depth_db: float = number(
        12.0, unit=Unit.DB, low=0.0, high=24.0, step=0.5, label="Depth",
        help="No resonance is lowered by more than this. Too deep a cut makes the voice thin.",
    )  # fmt: skip
    amount_percent: float = number(
        100.0, unit=Unit.PERCENT, low=0.0, high=100.0, step=1.0, label="Amount",
        help="Share of the measured excess that is removed.",
    )  # fmt: skip
    sensitivity_db: float = number(
        0.0, unit=Unit.DB, low=-6.0, high=6.0, step=0.5, label="Sensitivity",
        help="Higher finds and treats weaker resonances.",
    )  # fmt: skip
    way: str = choice(
        "static", options={"static": "static", "dynamic": "dynamic"}, label="Mode",
        help="Static: a fixed cut. Dynamic: cuts only while the resonance exceeds its surroundings.",
    )  # fmt: skip
    extra_hz: float = number(
        0.0, unit=Unit.HZ, low=0.0, high=16_000.0, step=1.0, label="Extra frequency", more=True,
        help="A resonance you have heard; 0 is none. Its height and width are measured.",
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class Resonance:
    """A resonance: its place, how far it stands out, how narrow it is and how long it rings (60 dB)."""

    hz: float
    excess_db: float
    q: float

    @property
    def ring_s(self) -> float:
        """Decay by 60 dB of a resonance of this Q: 2.2 Q / f."""
        return 2.2 * self.q / self.hz


def relative_levels(
    source: Source, start: int, stop: int, progress: Progress
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Frequencies of a fine grid, and the mean level there relative to the surroundings, in dB."""
    rate = source.rate
    size = int(2 ** round(math.log2(LOOK_S * rate)))
    while size > stop - start and size > 512:
        size //= 2
    high = min(HIGHEST_HZ, 0.42 * rate)
    grid = LOWEST_HZ * 2.0 ** (
        np.arange(-GRID_PER_OCTAVE // 2, math.log2(high / LOWEST_HZ) * GRID_PER_OCTAVE + GRID_PER_OCTAVE // 2)
        / GRID_PER_OCTAVE
    )
    window = hann_window(size)
    count = max(1, 2 * (stop - start) // size - 1)
    chosen = np.unique(np.linspace(0, count - 1, min(count, MOST_LOOKS)).astype(int))
    matrix = _grid_matrix(grid, size, rate)
    levels = []
    for a in range(0, len(chosen), 64):
        part = chosen[a : a + 64]
        blocks = np.stack(
            [read_padded(source, start + int(k) * size // 2, start + int(k) * size // 2 + size) for k in part]
        )
        spectrum = rfft(blocks * window)
        power = (spectrum.real**2 + spectrum.imag**2).sum(axis=1)
        levels.append(power @ matrix)
        progress(min(1.0, (a + 64) / len(chosen)))
    power = np.concatenate(levels)
    loud = power.sum(axis=1)
    heard = loud > max(float(loud.max()) * 1e-4, 1e-12)  # pauses tell of the noise, not of the voice
    if not heard.any():
        return grid, np.zeros(len(grid))
    # every window counts alike, whatever its level: a resonance is there in all of them
    share = power[heard] / loud[heard, None]
    level = (
        powers_to_db(share.mean(axis=0)) * 0.5
        + powers_to_db(np.exp(np.log(np.maximum(share, 1e-16)).mean(axis=0))) * 0.5
    )
    reach = round(SURROUND_OCTAVES * GRID_PER_OCTAVE)
    padded = np.pad(level, reach, mode="reflect", reflect_type="odd")
    view = np.lib.stride_tricks.sliding_window_view(padded, 2 * reach + 1)
    around = np.sort(view, axis=1)[:, reach // 2 : reach + reach // 4].mean(axis=1)
    around = np.convolve(np.pad(around, 12, mode="edge"), np.hanning(27)[1:-1] / np.hanning(27).sum(), mode="valid")
    return grid, level - around[: len(level)]


def _grid_matrix(grid: NDArray[np.float64], size: int, rate: int) -> NDArray[np.float32]:
    """(bins, points): mean power over the width of a point of the grid, or between two bins."""
    bins = size // 2 + 1
    matrix = np.zeros((bins, len(grid)), dtype=np.float32)
    half = 2.0 ** (0.5 / GRID_PER_OCTAVE)
    for n, hz in enumerate(grid):
        low, high = hz / half * size / rate, hz * half * size / rate
        a, b = math.ceil(low), math.floor(high)
        if b - a >= 1:
            matrix[a : b + 1, n] = 1.0 / (b - a + 1)
        else:
            middle = min(hz * size / rate, bins - 1.001)
            k = int(middle)
            matrix[k, n], matrix[k + 1, n] = 1.0 - (middle - k), middle - k
    return matrix


def analyse(
    source: Source, spans: Sequence[Span], settings: RingingSettings, progress: Progress
) -> tuple[Resonance, ...]:
    """Find resonances, the strongest first."""
    start, stop = (spans[0].start, spans[-1].stop) if spans else (0, source.frames)
    if stop - start < source.rate // 4:
        return ()
    grid, relative = relative_levels(source, start, stop, progress)
    found: list[Resonance] = []
    rest = relative.copy()
    rest[(grid < LOWEST_HZ) | (grid > min(HIGHEST_HZ, 0.42 * source.rate))] = -99.0
    limit = LEAST_EXCESS_DB - settings.sensitivity_db / 3.0
    while len(found) < 2 * MOST_BELLS:
        k = int(np.argmax(rest))
        if rest[k] < limit:
            break
        made, left, right = _measured(grid, relative, k)
        rest[max(0, left - 2) : right + 3] = -99.0
        if made.q >= WIDEST_Q:
            found.append(made)
    found = _without_pitch(found, grid, relative)[:MOST_BELLS]
    if settings.extra_hz >= LOWEST_HZ / 2:
        near = np.flatnonzero(np.abs(np.log2(grid / settings.extra_hz)) < 0.08)
        if len(near):
            k = int(near[np.argmax(relative[near])])
            made, _, _ = _measured(grid, relative, k)
            if all(abs(math.log2(made.hz / other.hz)) > 0.03 for other in found):
                found.insert(0, Resonance(made.hz, max(made.excess_db, 1.0), max(made.q, WIDEST_Q)))
    return tuple(found[:MOST_BELLS])


def steady_pitch(grid: NDArray[np.float64], relative: NDArray[np.float64]) -> dict[int, float]:
    """Peaks of a voice that keeps to one pitch, by harmonic number: a row of them at like distances; {} when there is none.

    ``relative`` is the level over the surroundings in dB.
    """
    from scipy.signal import find_peaks

    at, _ = find_peaks(relative, height=LEAST_EXCESS_DB / 2, prominence=LEAST_EXCESS_DB / 2)
    places = [_measured(grid, relative, int(k))[0].hz for k in at]
    best: dict[int, float] = {}
    for a, b in pairwise(places):
        if not PITCH_HZ[0] <= b - a <= PITCH_HZ[1]:
            continue
        pitch, row = b - a, {}
        for hz in places:  # upwards: each harmonic makes the pitch more exact
            number = round(hz / pitch)
            if 0 < number <= HIGHEST_HARMONIC and abs(hz / pitch - number) < OFF_HARMONIC:
                row[number] = hz
                pitch = hz / number if number > 2 else pitch
        if any(all(n + k in row for k in range(LEAST_ROW)) for n in row) and len(row) > len(best):
            best = row
    return best


def _without_pitch(found: list[Resonance], grid: NDArray[np.float64], relative: NDArray[np.float64]) -> list[Resonance]:
    """Leaves out the harmonics of a steady pitch, but for one that stands out far above them: a resonance may lie there."""
    row = steady_pitch(grid, relative)
    if not row:
        return found
    pitch = row[max(row)] / max(row)
    heights = {n: float(np.interp(hz, grid, relative)) for n, hz in row.items()}
    kept = []
    for r in found:
        number = round(r.hz / pitch)
        beside = [heights[n] for n in (number - 2, number - 1, number + 1, number + 2) if n in heights]
        on_row = abs(r.hz / pitch - number) < OFF_HARMONIC and bool(beside)
        if not on_row or r.excess_db > float(np.median(beside)) + ABOVE_ROW_DB:
            kept.append(r)
    return kept


def _measured(grid: NDArray[np.float64], relative: NDArray[np.float64], k: int) -> tuple[Resonance, int, int]:
    """The resonance at a peak of the grid: place between points, height, width at half its height in dB."""
    k = min(max(k, 1), len(grid) - 2)
    a, b, c = relative[k - 1 : k + 2]
    curve = a - 2 * b + c
    shift = min(max(0.5 * (a - c) / curve, -0.5), 0.5) if curve < -1e-9 else 0.0
    top = float(b - 0.25 * (a - c) * shift)
    left = right = k
    while left > 0 and relative[left] > top / 2:
        left -= 1
    while right < len(grid) - 1 and relative[right] > top / 2:
        right += 1

    def crossing(outer: int, inner: int) -> float:
        span = relative[inner] - relative[outer]
        return outer + (inner - outer) * (top / 2 - relative[outer]) / span if span > 1e-9 else float(outer)

    width = (crossing(right, right - 1) - crossing(left, left + 1)) / GRID_PER_OCTAVE
    hz = float(grid[k] * 2.0 ** (shift / GRID_PER_OCTAVE))
    # a cookbook bell of gain g and width Q has half its decibels over 1 / Q of its frequency
    ratio = 2.0 ** max(width, 0.02)
    q = math.sqrt(ratio) / (ratio - 1.0)
    return Resonance(hz, top, min(q, NARROWEST_Q)), left, right


def cuts(settings: RingingSettings, found: tuple[Resonance, ...]) -> list[tuple[Resonance, float]]:
    """The resonances that are treated, with the deepest cut of each in dB (negative)."""
    chosen = found[: round(settings.bells_count)]
    return [(r, -min(settings.depth_db, settings.amount_percent / 100.0 * r.excess_db)) for r in chosen]


def process(block: Block, settings: RingingSettings, found: tuple[Resonance, ...]) -> Samples:
    """Apply the bells."""
    treated = [(r, g) for r, g in cuts(settings, found) if g < 0.0 and r.hz < 0.45 * block.rate]
    if not treated:
        return block.samples
    frames = block.samples.shape[1]
    padded = np.zeros((len(block.samples), -(-frames // BLOCK) * BLOCK), dtype=np.float32)
    padded[:, :frames] = block.samples
    if settings.way == "static":
        sections = np.concatenate([biquads.bell(r.hz, g, r.q, block.rate) for r, g in treated])
        return _filter(sections.tobytes()).apply(padded)[:, :frames]
    out = padded
    for resonance, gain in treated:
        out = _dynamic(out, resonance, gain, block.rate)
    return out[:, :frames]


@lru_cache(maxsize=64)
def _filter(sections: bytes) -> BlockFilter:
    return BlockFilter.of_sections(np.frombuffer(sections).reshape(-1, 6), BLOCK)


def _dynamic(samples: Samples, resonance: Resonance, gain_db: float, rate: int) -> Samples:
    """One bell that opens as far as its band exceeds its surroundings.

    The bell of gain G is 1 + (G - 1) times a band-pass that is sqrt(G) wider; so the band-pass alone
    is filtered, and its share follows the excess of the moment.
    """
    depth = 10.0 ** (gain_db / 20.0)
    q = resonance.q * math.sqrt(depth)
    inner = _filter(biquads.band(resonance.hz, q, rate).tobytes()).apply(samples)
    sides = [_filter(biquads.band(resonance.hz * f, q, rate).tobytes()).apply(samples) for f in (2.0**-0.35, 2.0**0.35)]
    hop = max(1, round(WINDOW_MS * rate / 4000.0))
    count = samples.shape[1] // hop
    if count < 4:
        return samples

    def level(x: Samples) -> NDArray[np.float64]:
        power = (x[:, : count * hop] ** 2).reshape(len(x), count, hop).mean(axis=(0, 2))
        return 10.0 * np.log10(np.maximum(np.convolve(power, np.hanning(7)[1:-1] / 3.0, mode="same"), 1e-14))

    excess = level(inner) - 0.5 * (level(sides[0]) + level(sides[1]))
    wanted = np.clip(-1.3 * excess, gain_db, 0.0)  # in dB: what exceeds the surroundings, at most the depth
    share = (10.0 ** (wanted / 20.0) - 1.0).astype(np.float32)
    at = (np.arange(samples.shape[1]) / hop - 0.5).astype(np.float32)
    return np.asarray(samples + np.interp(at, np.arange(count), share).astype(np.float32) * inner)


def margin(_settings: RingingSettings, rate: int) -> Margin:
    """The longest ringing of a bell at the lowest place, and the windows of the levels."""
    frames = round(SILENT_DB / 60.0 * 2.2 * NARROWEST_Q / LOWEST_HZ * rate)
    grid = 4096
    spare = round(WINDOW_MS * rate / 500.0)
    return Margin(-(-(frames + spare) // grid) * grid, spare)


def caption(settings: RingingSettings) -> str:
    """Short text on the strip."""
    return tr(
        "up to {bells_count:.0f} resonances, max. {depth_db} dB",
        bells_count=settings.bells_count,
        depth_db=format_number(-settings.depth_db, 0),
    )


def survey(
    source: Source,
    after: Source,
    spans: Sequence[Span],
    settings: RingingSettings,
    found: tuple[Resonance, ...],
    progress: Progress,
) -> Survey:
    """The resonances found, and what is done to them."""
    del source, after, spans, progress
    if not found:
        return Survey(tr("No resonance was found: nothing narrow stands out all through the voice."))
    treated = cuts(settings, found)
    rows = []
    for n, r in enumerate(found):
        done = format_number(treated[n][1]) if n < len(treated) else "left"
        rows.append(
            (
                tr("{hz:.0f} Hz", hz=r.hz),
                format_number(r.excess_db, 1, plus=True),
                tr("{ring_s:.0f} ms", ring_s=1000 * r.ring_s),
                done,
            )
        )
    head = ("resonance", tr("stands out"), "rings", "cut")
    return Survey(
        plural(
            "1 resonance found, {treated} treated.",
            "{n} resonances found, {treated} treated.",
            len(found),
            treated=min(len(found), len(treated)),
        ),
        table=Table(head, tuple(rows)),
    )


def suggest(source: Source, spans: Sequence[Span], settings: RingingSettings, progress: Progress) -> Suggestion:
    """As many bells as there are resonances that stand out clearly."""
    found = analyse(source, spans, settings, progress)
    if not found:
        return Suggestion({}, tr("No resonance was found; this step is not needed."))
    count = float(max(1, min(6, sum(r.excess_db >= LEAST_EXCESS_DB for r in found))))
    places = ", ".join(f"{r.hz:.0f}" for r in found[: round(count)])
    return Suggestion({"bells_count": count, "depth_db": 12.0}, tr("Resonances at {places} Hz.", places=places))


def picture(passage: Samples | None, rate: int, settings: RingingSettings, found: tuple[Resonance, ...]) -> Picture:
    """The cut over the spectrum of the passage."""
    from pulizia.audio.source import ArraySource
    from pulizia.measure.spectrum import spectrum

    hz = np.geomspace(40.0, min(20_000.0, 0.49 * rate), 500)
    level = np.zeros(len(hz))
    for r, gain in cuts(settings, found):
        level += biquads.response_db(biquads.bell(r.hz, gain, r.q, rate), hz, rate)
    curves = [Curve("response", hz, level)]
    if passage is not None and (seen := spectrum(ArraySource(passage, rate), 0, passage.shape[1], size=8192)):
        curves.append(Curve("passage", seen.hz, seen.average_db()))
    return Picture(tuple(curves), "dB", caption(settings))


TOOL = Tool(
    id="ringing",
    title="Ringing",
    summary="Finds resonances that ring on, and lowers them only as far as they stand out.",
    settings=RingingSettings,
    order=55,
    family="tone",
    strength_field="depth_db",
    process=process,
    caption=caption,
    margin=margin,
    analyse=analyse,
    analysis_places=lambda _settings, _rate: None,
    analysis_fields=("sensitivity_db", "extra_hz"),
    picture=picture,
    survey=survey,
    suggest=suggest,
)
