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
from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.dsp import biquads
from pulizia.dsp.block_filter import BlockFilter
from pulizia.measure.resonances import (
    LEAST_EXCESS_DB,
    LOWEST_HZ,
    MOST_RESONANCES,
    NARROWEST_Q,
    WIDEST_Q,
    Resonance,
    measured,
    relative_levels,
    resonances,
)
from pulizia.settings.declare import Settings, choice, number
from pulizia.tools import hum
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
from pulizia.tools.finding import Finding, Problem
from pulizia.units import Unit, format_number
from pulizia.words import plural, tr

RESONANCE_SHARE = 0.85  # of a measured excess; the rest is the voice, whose own peaks help one to stand out
BLOCK = 64
WINDOW_MS = 40.0
SILENT_DB = 100.0


@dataclass(frozen=True, slots=True, kw_only=True)
class RingingSettings(Settings):
    """How many bells, how deep, how."""

    bells_count: float = number(
        3.0, unit=Unit.COUNT, low=1.0, high=float(MOST_RESONANCES), step=1.0, whole=False, label="Resonances",
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


def analyse(
    source: Source, spans: Sequence[Span], settings: RingingSettings, progress: Progress
) -> tuple[Resonance, ...]:
    """Find resonances, the strongest first."""
    start, stop = (spans[0].start, spans[-1].stop) if spans else (0, source.frames)
    if stop - start < source.rate // 4:
        return ()
    limit = LEAST_EXCESS_DB - settings.sensitivity_db / 3.0
    found, grid, relative = resonances(source, start, stop, limit, progress)
    if settings.extra_hz >= LOWEST_HZ / 2:
        near = np.flatnonzero(np.abs(np.log2(grid / settings.extra_hz)) < 0.08)
        if len(near):
            k = int(near[np.argmax(relative[near])])
            made, _, _ = measured(grid, relative, k)
            if all(abs(math.log2(made.hz / other.hz)) > 0.03 for other in found):
                found.insert(0, Resonance(made.hz, max(made.excess_db, 1.0), max(made.q, WIDEST_Q)))
    return tuple(found[:MOST_RESONANCES])


def cuts(settings: RingingSettings, found: tuple[Resonance, ...]) -> list[tuple[Resonance, float]]:
    """The resonances that are treated, with the deepest cut of each in dB (negative)."""
    chosen = found[: round(settings.bells_count)]
    share = RESONANCE_SHARE * settings.amount_percent / 100.0
    return [(r, -min(settings.depth_db, share * r.excess_db)) for r in chosen]


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
    return plural(
        "up to 1 resonance, max. {depth_db} dB",
        "up to {n} resonances, max. {depth_db} dB",
        round(settings.bells_count),
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
        return Survey(tr("No resonance was found: nothing narrow stands out all through the voice."), stands_first=True)
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


RESONANCES = Problem(kind="ringing", mild=3.0, grave=10.0, unit="dB", certainty=(0.1, 0.6))
SEEN_HZ, LASTING_SHARE, PARTS = (150.0, 6000.0), 0.6, 4
TOLD_DB = 7.0  # the strongest: of 46 clean voices 7 have one of 6 dB and more, 2 of 7 dB; of 12 that ring 11 and 10
MAINS_HZ, MAINS_SHARE = (5.0, 8.0), 0.015  # so near to a line of hum, a step of the grid, a peak is that line


def findings(source: Source, progress: Progress) -> list[Finding]:
    """Resonances that stand out all through the recording."""
    heard = analyse(source, (), RingingSettings(), lambda share: progress(0.5 * share))
    found = _lasting(source, [r for r in heard if r.certain])
    progress(1.0)
    if not found or found[0].excess_db < TOLD_DB:
        return []
    words = tr(
        "Resonances at {places} Hz, the strongest {excess_db} dB.",
        places=", ".join(f"{r.hz:.0f}" for r in found[:4]),
        excess_db=format_number(found[0].excess_db),
    )
    return [RESONANCES.found("ringing", words, found[0].excess_db, {"bells_count": float(min(6, len(heard)))})]


def _lasting(source: Source, found: Sequence[Resonance]) -> list[Resonance]:
    """Resonances that stand out in every part of the recording: what only some words hold is the voice itself."""
    found = [r for r in found if SEEN_HZ[0] <= r.hz <= SEEN_HZ[1]]
    if not found:
        return []
    edges = np.linspace(0, source.frames, PARTS + 1).astype(int)
    seen = [relative_levels(source, int(a), int(b)) for a, b in pairwise(edges)]
    kept = []
    for resonance in found:
        near = np.abs(np.log2(seen[0][0] / resonance.hz)) < 1.0 / 48.0
        if all(float(relative[near].max()) >= LASTING_SHARE * resonance.excess_db for _grid, relative in seen):
            kept.append(resonance)
    if any(abs(r.hz - round(r.hz / base) * base) < _of_a_line(r.hz) for r in kept for base in (50.0, 60.0)):
        lines = hum.analyse(source, (), hum.HumSettings(), lambda _: None).lines.hz
        kept = [r for r in kept if not np.any(np.abs(lines - r.hz) < _of_a_line(r.hz))]
    return kept


def _of_a_line(hz: float) -> float:
    """How far from a line of hum its peak may be seen where a voice lies beside it."""
    return float(np.clip(MAINS_SHARE * hz, *MAINS_HZ))


TOOL = Tool(
    id="ringing",
    title="Ringing",
    summary="Finds resonances that ring on, and lowers them only as far as they stand out.",
    settings=RingingSettings,
    version=2,
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
    problems=(RESONANCES,),
    find=findings,
)
