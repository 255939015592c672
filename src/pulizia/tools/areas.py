# SPDX-License-Identifier: GPL-3.0-or-later
"""Blots: marked areas of the sonogram are lowered, levelled, written anew from what surrounds them, or lifted."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, read_padded
from pulizia.audio.spans import Span
from pulizia.dsp.moments import merged, overlaps_any
from pulizia.dsp.patching import TEXTURE_FRAMES, inside_outline, levelled, rewritten, transform_size
from pulizia.dsp.stft import analyse as spectra_of
from pulizia.dsp.stft import hann_window, powers, synthesise
from pulizia.dsp.tone_lines import ToneLine, sounding, tone_lines
from pulizia.errors import AnalysisError
from pulizia.measure.steady_tones import pitches_of, tones_in
from pulizia.settings.areas import Area, bounds_hz, bounds_s, outline
from pulizia.settings.declare import Settings, Stretches, areas, choice, number, places
from pulizia.tools import tone_finder
from pulizia.tools.base import Block, Margin, Progress, Survey, Table, Tool
from pulizia.tools.finding import Mark
from pulizia.units import Unit, db_to_gain, format_number, powers_to_db
from pulizia.words import plural, tr

HOPS = 4  # of a window
LONGEST_TONE_S = 120.0
LONGEST_S = 20.0  # of areas whose surroundings in time are needed
WAYS = {
    "lower": "lower by the amount", "level": "match surroundings", "time": "fill over time",
    "frequency": "fill over frequency", "tones": "only the tone", "lift": "raise by the amount",
}  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class BlotsSettings(Settings):
    """Which areas, and what becomes of them."""

    way: str = choice(
        "level",
        options=WAYS,
        label="Method",
        help="Lower or raise the areas, or fill them from the sound before and after, or from above and below in frequency. Only the tone takes out steady tones and leaves the voice around them.",
    )
    amount_db: float = number(
        24.0, unit=Unit.DB, low=0.0, high=60.0, step=0.5, label="Amount",
        help="How far the areas are lowered or raised. The other methods match the surroundings.",
    )  # fmt: skip
    grow_ms: float = number(
        0.0, unit=Unit.MS, low=-200.0, high=500.0, step=5.0, label="Extend in time",
        help="Makes every area longer at both ends, or shorter if negative.",
    )  # fmt: skip
    grow_percent: float = number(
        0.0, unit=Unit.PERCENT, low=-30.0, high=100.0, step=1.0, label="Extend in frequency",
        help="Makes every area reach further up and down, relative to the frequency at its edge.",
    )  # fmt: skip
    feather_ms: float = number(
        20.0, unit=Unit.MS, low=0.0, high=500.0, step=5.0, label="Feather in time", more=True,
        help="Fade at the start and end of each area.",
    )  # fmt: skip
    feather_percent: float = number(
        4.0, unit=Unit.PERCENT, low=0.0, high=50.0, step=1.0, label="Feather in frequency", more=True,
        help="Fade at the upper and lower edge, relative to the frequency.",
    )  # fmt: skip
    areas: tuple[Area, ...] = areas(
        label="Areas", help="Select an area in the sonogram and press P; hold Alt and drag to draw freely."
    )
    left_s: Stretches = places(
        label="Skipped", learned=False, help="Areas that begin in these sections are not changed."
    )


@dataclass(frozen=True, slots=True)
class _Group:
    """Areas that share a stretch of time."""

    start: int
    stop: int
    areas: tuple[Area, ...]


def _grid(rate: int) -> tuple[int, int]:
    size = transform_size(rate)
    return size, size // HOPS


def _stretch(area: Area, settings: BlotsSettings, rate: int) -> tuple[int, int]:
    """Frames that an area reaches over, grown and with soft ends."""
    a, b = bounds_s(area)
    more = (settings.grow_ms + settings.feather_ms) / 1000.0
    return max(0, round((a - more) * rate)), max(1, round((b + more) * rate))


def _groups(settings: BlotsSettings, rate: int) -> list[_Group]:
    """Areas in order of time, those made together whose stretches touch."""
    size, _ = _grid(rate)
    active = [a for a in settings.areas if not overlaps_any(_edges(a, rate), settings.left_s, rate)]
    stretches = {a: _stretch(a, settings, rate) for a in active}
    stretches = {a: s for a, s in stretches.items() if s[1] > s[0]}
    return [
        _Group(a, b, tuple(x for x, s in stretches.items() if s[0] < b and s[1] > a))
        for a, b in merged(stretches.values(), 2 * size)
    ]


def _edges(area: Area, rate: int) -> tuple[int, int]:
    a, b = bounds_s(area)
    return round(a * rate), max(round(a * rate) + 1, round(b * rate))


def _context(rate: int) -> int:
    size, hop = _grid(rate)
    return 2 * size + TEXTURE_FRAMES * hop


def analyse(
    source: Source, _spans: Sequence[Span], settings: BlotsSettings, progress: Progress
) -> tuple[ToneLine, ...] | None:
    """Refuse areas too long for their surroundings to mean anything; find the tones in them where these are wanted."""
    for area in settings.areas:
        a, b = bounds_s(area)
        if settings.way in ("time", "level") and b - a > LONGEST_S:
            message = tr(
                "An area is {length:.0f} s long; fill over time works up to {longest_s:.0f} s. Select shorter areas, or choose fill over frequency.",
                length=b - a,
                longest_s=LONGEST_S,
            )
            raise AnalysisError(message)
        if settings.way == "tones" and b - a > LONGEST_TONE_S:
            message = tr(
                "An area is {length:.0f} s long; only the tone works up to {longest_s:.0f} s. Select shorter areas, or use Hum for a tone that lasts.",
                length=b - a,
                longest_s=LONGEST_TONE_S,
            )
            raise AnalysisError(message)
    if settings.way != "tones":
        return None
    found: list[ToneLine] = []
    for n, area in enumerate(settings.areas):
        start, stop = (min(frame, source.frames) for frame in _edges(area, source.rate))
        pitches = pitches_of(tones_in(source, start, stop, bounds_hz(area)))
        if pitches:
            found += tone_lines(source.read(start, stop), start, source.rate, pitches)
        progress((n + 1) / len(settings.areas))
    return tuple(found)


def analysis_places(settings: BlotsSettings, rate: int) -> tuple[Span, ...] | None:
    """The drawn areas and a little around them, where tones are looked for; nothing else is looked at."""
    if settings.way != "tones":
        return ()
    edges = [_edges(area, rate) for area in settings.areas]
    return tuple(Span(max(0, start - rate), stop + rate) for start, stop in edges)


def margin(settings: BlotsSettings, rate: int) -> Margin:
    """Whole areas and what surrounds them, where that counts; else a few windows."""
    size, _ = _grid(rate)
    if settings.way in ("lower", "lift", "tones"):
        return Margin(2 * size, 2 * size)
    if settings.way == "frequency":
        longest = min(_longest(settings, rate), round(LONGEST_S * rate))
    else:
        longest = _longest(settings, rate)
    reach = longest + _context(rate)
    return Margin(reach, reach)


def _longest(settings: BlotsSettings, rate: int) -> int:
    return max((g.stop - g.start for g in _groups(settings, rate)), default=0)


def process(block: Block, settings: BlotsSettings, tones: tuple[ToneLine, ...] | None) -> Samples:
    """Treat the areas of a block."""
    if tones is not None:
        return _without(block, settings, tones)
    out = block.samples
    size, hop = _grid(block.rate)
    stop = block.start + block.samples.shape[1]
    for group in _groups(settings, block.rate):
        if group.stop + size <= block.start or group.start - size >= stop:
            continue
        for first, last in _pieces(group, settings, block.rate):
            if last + 2 * size <= block.start or first - 2 * size >= stop:
                continue
            out = _treated(out, block, settings, group, (first, last), size, hop)
    return out


def _without(block: Block, settings: BlotsSettings, tones: Sequence[ToneLine]) -> Samples:
    """The block without the tones of the areas that are not left alone."""
    rate, frames = block.rate, block.samples.shape[1]
    left = [_edges(a, rate) for a in settings.areas if overlaps_any(_edges(a, rate), settings.left_s, rate)]
    out = block.samples
    for line in tones:
        here = line.start < block.start + frames and line.stop > block.start
        if here and line.start not in {start for start, _stop in left}:
            out = out - sounding(line, block.start, frames, rate).astype(np.float32)
    return out


def _pieces(group: _Group, settings: BlotsSettings, rate: int) -> list[tuple[int, int]]:
    """A group as one piece, or a long one that needs no sides as several on a fixed grid."""
    longest = round(LONGEST_S * rate)
    if settings.way == "frequency" and group.stop - group.start > longest:
        return [(a, min(a + longest // 2, group.stop)) for a in range(group.start, group.stop, longest // 2)]
    return [(group.start, group.stop)]


def _treated(
    out: Samples, block: Block, settings: BlotsSettings, group: _Group, piece: tuple[int, int], size: int, hop: int
) -> Samples:
    """The block with one piece of a group treated; what lies outside it stays bit for bit."""
    around = _context(block.rate) if settings.way in ("level", "time") else 2 * size
    if settings.way in ("lower", "lift"):
        first, last = max(piece[0], block.start) - around, min(piece[1], block.start + out.shape[1]) + around
    else:
        first, last = piece[0] - around, piece[1] + around
    first = first // hop * hop
    last = first + -(-(last - first) // hop) * hop + size
    low, high = max(first, block.start), min(last, block.start + out.shape[1])
    share = _shares(group.areas, settings, block.rate, first, (last - first - size) // hop + 1, size, hop)
    inside = np.flatnonzero(share.any(axis=1))
    if not len(inside):
        return out
    centre = first + inside * hop
    a, b = max(int(centre[0]), low, piece[0] - size), min(int(centre[-1]) + size, high, piece[1] + size)
    if a >= b:
        return out
    made = out.copy() if out is block.samples else out
    for channel in range(len(out)):
        sound = np.zeros(last - first, dtype=np.float32)
        sound[low - first : high - first] = block.samples[channel, low - block.start : high - block.start]
        spectra = spectra_of(sound, size, hop)
        change = synthesise(_changed(spectra, share, settings, size, hop) - spectra, size, hop)
        made[channel, a - block.start : b - block.start] += _own(change, first, piece, group, size)[
            a - first : b - first
        ]
    return made


def _own(
    change: NDArray[np.float32], first: int, piece: tuple[int, int], group: _Group, size: int
) -> NDArray[np.float32]:
    """The change of one piece; neighbouring pieces of a long group cross over half a window."""
    at = np.arange(len(change)) + first
    weight = np.ones(len(change), dtype=np.float32)
    if piece[0] > group.start:
        weight *= np.clip((at - piece[0] + size // 4) / (size // 2), 0.0, 1.0).astype(np.float32)
    if piece[1] < group.stop:
        weight *= 1.0 - np.clip((at - piece[1] + size // 4) / (size // 2), 0.0, 1.0).astype(np.float32)
    return change * weight


def _changed(
    spectra: NDArray[np.complex64], share: NDArray[np.float32], settings: BlotsSettings, size: int, hop: int
) -> NDArray[np.complex64]:
    if settings.way in ("time", "frequency"):
        return rewritten(spectra, share, size, hop, along=settings.way)
    if settings.way == "level":
        gain = levelled(spectra, share)
    else:
        sign = 1.0 if settings.way == "lift" else -1.0
        gain = np.full(share.shape, db_to_gain(sign * settings.amount_db), dtype=np.float32)
    return np.asarray(spectra * (1.0 + share * (gain - 1.0)), dtype=np.complex64)


def _shares(
    marked: Sequence[Area], settings: BlotsSettings, rate: int, first: int, count: int, size: int, hop: int
) -> NDArray[np.float32]:
    """(frames, bins) 0..1: how much of each cell belongs to an area, with soft edges."""
    from scipy.ndimage import uniform_filter1d

    seconds = (first + size // 2 + np.arange(count) * hop) / rate
    hz = np.arange(size // 2 + 1) * rate / size
    share = np.zeros((count, len(hz)), dtype=np.float32)
    for area in marked:
        corners = _grown(area, settings)
        a, b = np.searchsorted(seconds, [corners[:, 0].min() - 1.0, corners[:, 0].max() + 1.0])
        if a >= b:
            continue
        inside = inside_outline(corners, seconds[a:b], hz).astype(np.float32)
        inside = _at_least_one_cell(inside, corners, seconds[a:b], hz)
        soft = 2 * round(settings.feather_ms / 2000.0 * rate / hop) + 1
        inside = uniform_filter1d(inside, soft, axis=0, mode="nearest")
        middle = float(np.sqrt(max(corners[:, 1].min(), 20.0) * max(corners[:, 1].max(), 20.0)))
        softer = 2 * round(settings.feather_percent / 200.0 * middle * size / rate) + 1
        inside = uniform_filter1d(inside, softer, axis=1, mode="nearest")
        inside[inside < 1e-3] = 0.0
        np.maximum(share[a:b], inside, out=share[a:b])
    return np.clip(share, 0.0, 1.0)


def _at_least_one_cell(
    inside: NDArray[np.float32], corners: NDArray[np.float64], seconds: NDArray[np.float64], hz: NDArray[np.float64]
) -> NDArray[np.float32]:
    """An area between two cells takes the nearest one."""
    if not inside.any():
        n = int(np.argmin(np.abs(seconds - corners[:, 0].mean())))
        inside[n, int(np.argmin(np.abs(hz - corners[:, 1].mean())))] = 1.0
    return inside


def _grown(area: Area, settings: BlotsSettings) -> NDArray[np.float64]:
    """Corners moved away from the middle, or towards it but never past it."""
    corners = np.array(outline(area), dtype=np.float64)
    middle_s, middle_hz = (corners.max(axis=0) + corners.min(axis=0)) / 2.0
    half_s = max((corners[:, 0].max() - corners[:, 0].min()) / 2.0, 1e-6)
    wider = max(0.05, 1.0 + settings.grow_ms / 1000.0 / half_s)
    corners[:, 0] = middle_s + (corners[:, 0] - middle_s) * wider
    side = np.where(
        corners[:, 1] > middle_hz, 1.0 + settings.grow_percent / 100.0, 1.0 / (1.0 + settings.grow_percent / 100.0)
    )
    moved = corners[:, 1] * side
    corners[:, 1] = np.where(
        corners[:, 1] > middle_hz, np.maximum(moved, middle_hz + 1.0), np.minimum(moved, middle_hz - 1.0)
    )
    return corners


def caption(settings: BlotsSettings) -> str:
    """Short text on the strip."""
    count = plural("1 area", "{n} areas", len(settings.areas))
    if settings.way in ("lower", "lift"):
        sign = 1.0 if settings.way == "lift" else -1.0
        return tr("{count}, {sign} dB", count=count, sign=format_number(sign * settings.amount_db, plus=True))
    return {
        "level": tr("{count} matched to surroundings", count=count),
        "time": tr("{count} filled", count=count),
        "frequency": tr("{count} filled", count=count),
        "tones": tr("{count}, only the tone", count=count),
    }[settings.way]


def survey(
    source: Source,
    after: Source,
    spans: Sequence[Span],
    settings: BlotsSettings,
    _tones: tuple[ToneLine, ...] | None,
    progress: Progress,
) -> Survey:
    """Each area with its place, its frequencies, and how far its level went."""
    rate = source.rate
    marks, rows = [], []
    for n, area in enumerate(sorted(settings.areas), 1):
        start, stop = _edges(area, rate)
        stop = min(stop, source.frames)
        if start >= stop or (spans and not any(s.overlaps(start, stop) for s in spans)):
            continue
        low, high = bounds_hz(area)
        change = _level_in(after, start, stop, (low, high)) - _level_in(source, start, stop, (low, high))
        on = not overlaps_any((start, stop), settings.left_s, rate)
        words = tr("{low:.0f} to {high:.0f} Hz", low=low, high=high)
        marks.append(Mark(start, stop, words, on=on, value=-change))
        rows.append(
            (f"{start / rate:.2f} s", words, f"{format_number(change, plus=True)} dB" if on else tr("left as it is"))
        )
        progress(n / len(settings.areas))
    if not rows:
        return Survey(tr("No area yet. Drag over time and frequency in the sonogram, then press P."), stands_first=True)
    return Survey(
        plural("1 area selected.", "{n} areas selected.", len(rows)),
        tuple(marks),
        Table((tr("at"), tr("band"), tr("level")), tuple(rows)),
    )


def _level_in(source: Source, start: int, stop: int, band_hz: tuple[float, float]) -> float:
    size, hop = _grid(source.rate)
    starts = np.arange(start, max(start + 1, stop - size // 2), hop)[:600]
    power = powers(read_padded(source, int(starts[0]), int(starts[-1]) + size), starts - starts[0], hann_window(size))
    low, high = (round(f * size / source.rate) for f in band_hz)
    return float(powers_to_db(np.array([power[:, low : max(low + 1, high + 1)].mean()]))[0])


TOOL = Tool(
    id="areas",
    title="Areas",
    summary="Lowers, replaces or raises selected areas of the sonogram: a bell, a chair, a cough.",
    settings=BlotsSettings,
    order=46,
    family="moments",
    version=2,
    process=process,
    caption=caption,
    margin=margin,
    analyse=analyse,
    analysis_places=analysis_places,
    analysis_fields=("way", "areas"),
    survey=survey,
    skip_field="left_s",
    applies=lambda settings, name: name != "amount_db" or settings.way in ("lower", "lift"),
    problems=(tone_finder.TONES,),
    find=tone_finder.findings,
)
