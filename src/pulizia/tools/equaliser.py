# SPDX-License-Identifier: GPL-3.0-or-later
"""Equaliser: any number of bands, minimum or linear phase.

Second-order sections after the audio EQ cookbook and Butterworth cascades (see
:mod:`pulizia.dsp.biquads`), applied as matrix products; with linear phase the same magnitude as one
symmetrical filter. The curve that is drawn is that of the filter that runs.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.dsp import biquads
from pulizia.dsp.block_filter import BlockFilter
from pulizia.dsp.fourier import fast_length, irfft, rfft
from pulizia.measure.spectrum import SPEECH_THIRD_OCTAVES, reference_curve, spectrum
from pulizia.settings.bands import KINDS, Band
from pulizia.settings.declare import Settings, bands, choice, number, switch
from pulizia.tools.base import Block, Curve, Margin, Picture, Progress, Suggestion, Tool
from pulizia.units import Unit, db_to_gain, format_number, powers_to_db
from pulizia.words import tr, translated

BLOCK = 64
SILENT_DB = 110.0  # what rings on below this is left out
LONGEST_RING_S = 4.0
LINEAR_S = 0.35  # length of the linear-phase filter: 16 384 at 48 kHz
BUMP_DB, MOST_CUT_DB = 4.0, 4.5
LOWEST_BUMP_HZ = 350.0  # below lies the voice's own pitch


@dataclass(frozen=True, slots=True, kw_only=True)
class EqualiserSettings(Settings):
    """Bands and how they are applied."""

    bands: tuple[Band, ...] = bands(
        label="Bands", help="Kind, frequency, gain and width of each band. Drag them in the picture.",
    )  # fmt: skip
    gain_db: float = number(
        0.0, unit=Unit.DB, low=-24.0, high=24.0, step=0.1, label="Output", help="Level after the bands.",
    )  # fmt: skip
    matched: bool = switch(
        False,
        label="Keep loudness",
        help="Compensates the change in speech loudness, so that the louder one is not mistaken for the better one.",
    )
    phase: str = choice(
        "minimum", options={"minimum": "minimum", "linear": "linear"}, label="Phase", more=True,
        help="Minimum phase is the usual choice. Linear phase keeps the waveform's shape but rings before as well as after.",
    )  # fmt: skip


def sections_of(band: Band, rate: int) -> biquads.Sections:
    """The sections of one band."""
    kind, hz, gain, width = band
    if kind in ("high-pass", "low-pass"):
        return biquads.passes(hz, round(width / 6), rate, high=kind == "high-pass")
    if kind == "notch":
        return biquads.notch(hz, width, rate)
    if kind == "bell":
        return biquads.bell(hz, gain, width, rate)
    return biquads.shelf(hz, gain, width, rate, high=kind == "high shelf")


def _acting(settings: EqualiserSettings, rate: int) -> tuple[Band, ...]:
    """Bands that do anything at this rate."""
    return tuple(
        b for b in settings.bands if b[0] in ("high-pass", "low-pass", "notch") or b[2] != 0.0 if b[1] < rate / 2
    )


@lru_cache(maxsize=64)
def _cascade(acting: tuple[Band, ...], rate: int) -> biquads.Sections:
    return np.concatenate([sections_of(band, rate) for band in acting]) if acting else np.zeros((0, 6))


@lru_cache(maxsize=16)
def _filter(acting: tuple[Band, ...], rate: int) -> BlockFilter:
    return BlockFilter.of_sections(_cascade(acting, rate), BLOCK)


@lru_cache(maxsize=8)
def _taps(acting: tuple[Band, ...], rate: int) -> NDArray[np.float32]:
    """Symmetrical filter with the magnitude of the cascade."""
    half = int(2 ** round(math.log2(LINEAR_S * rate))) // 2
    size = 8 * half
    hz = np.arange(size // 2 + 1) * rate / size
    magnitude = 10.0 ** (biquads.response_db(_cascade(acting, rate), hz, rate) / 20.0)
    impulse = np.fft.fftshift(np.fft.irfft(magnitude, size))
    middle = size // 2
    window = np.kaiser(2 * half + 1, 4.0)
    return np.asarray(impulse[middle - half : middle + half + 1] * window, dtype=np.float32)


def bands_db(bands: Sequence[Band], hz: NDArray[np.float64], rate: int) -> NDArray[np.float64]:
    """What bands do together to each frequency, without the output gain: dB, one figure for each of ``hz``."""
    acting = _acting(EqualiserSettings(bands=tuple(bands)), rate)
    return biquads.response_db(_cascade(acting, rate), hz, rate) if acting else np.zeros(len(hz))


def response_db(settings: EqualiserSettings, hz: NDArray[np.float64], rate: int) -> NDArray[np.float64]:
    """What the filter that runs does to each frequency, output gain included."""
    acting = _acting(settings, rate)
    level = np.full(len(hz), output_db(settings, rate))
    if not acting:
        return level
    if settings.phase == "linear":
        taps = _taps(acting, rate)
        n = np.arange(len(taps)) - len(taps) // 2
        turn = np.cos(2 * np.pi * np.outer(hz, n) / rate)
        return np.asarray(level + 20.0 * np.log10(np.maximum(np.abs(turn @ taps.astype(np.float64)), 1e-10)))
    return level + biquads.response_db(_cascade(acting, rate), hz, rate)


def output_db(settings: EqualiserSettings, rate: int) -> float:
    """Output gain; with ``matched`` the mean level of speech (Byrne et al. 1994) is kept as well."""
    acting = _acting(settings, rate)
    if not settings.matched or not acting:
        return settings.gain_db
    hz = np.array([f for f, _ in SPEECH_THIRD_OCTAVES if f < 0.45 * rate], dtype=float)
    weight = 10.0 ** (np.array([level for f, level in SPEECH_THIRD_OCTAVES if f < 0.45 * rate]) / 10.0)
    change = 10.0 ** (biquads.response_db(_cascade(acting, rate), hz, rate) / 10.0)
    return settings.gain_db - 10.0 * math.log10(max(float((weight * change).sum() / weight.sum()), 1e-4))


def process(block: Block, settings: EqualiserSettings, _analysis: None) -> Samples:
    """Apply the bands."""
    acting = _acting(settings, block.rate)
    gain = np.float32(db_to_gain(output_db(settings, block.rate)))
    if not acting:
        return block.samples if gain == 1.0 else block.samples * gain
    if settings.phase == "linear":
        taps = _taps(acting, block.rate)
        half = len(taps) // 2
        size = fast_length(block.samples.shape[1] + 2 * half)
        made = irfft(rfft(block.samples, size) * rfft(taps, size), size)
        return made[:, half : half + block.samples.shape[1]] * gain
    frames = block.samples.shape[1]
    padded = np.zeros((len(block.samples), -(-frames // BLOCK) * BLOCK), dtype=np.float32)
    padded[:, :frames] = block.samples
    return np.asarray(_filter(acting, block.rate).apply(padded)[:, :frames] * gain)


def margin(settings: EqualiserSettings, rate: int) -> Margin:
    """Until the filter's ringing is inaudible."""
    acting = _acting(settings, rate)
    if not acting:
        return Margin(0, 0)
    if settings.phase == "linear":
        half = len(_taps(acting, rate)) // 2
        return Margin(half, half)
    return Margin(min(biquads.ring_frames(_cascade(acting, rate), SILENT_DB), round(LONGEST_RING_S * rate)), 0)


def caption(settings: EqualiserSettings) -> str:
    """Short text on the strip."""
    if not settings.bands:
        return tr("flat")
    words = []
    for kind, hz, gain, _ in settings.bands[:3]:
        at = f"{hz / 1000:g}k" if hz >= 1000 else f"{hz:g}"
        words.append(
            f"{translated(KINDS[kind])} {at}"
            if kind in ("high-pass", "low-pass", "notch")
            else tr("{gain} at {at}", gain=format_number(gain, 1, plus=True), at=at)
        )
    return ", ".join(words) + ("\u2026" if len(settings.bands) > 3 else "")


def picture(passage: Samples | None, rate: int, settings: EqualiserSettings, _analysis: None) -> Picture:
    """The filter's own curve over average and maximum of the passage."""
    from pulizia.audio.source import ArraySource

    hz = np.geomspace(20.0, min(20_000.0, 0.49 * rate), 500)
    curves = [Curve("response", hz, response_db(settings, hz, rate))]
    if passage is not None and (found := spectrum(ArraySource(passage, rate), 0, passage.shape[1], size=4096)):
        curves.append(Curve("passage", found.hz, found.average_db()))
        curves.append(Curve("maximum", found.hz, found.maximum_db()))
    return Picture(tuple(curves), "dB", caption(settings))


def suggest(source: Source, spans: Sequence[Span], settings: EqualiserSettings, progress: Progress) -> Suggestion:
    """A high-pass under the voice, and moderate cuts where a narrow bump stands out of its shape."""
    start, stop = (spans[0].start, spans[-1].stop) if spans else (0, source.frames)
    found = spectrum(source, start, stop, size=8192, progress=progress)
    if found is None:
        return Suggestion({}, tr("The section is too short for a spectrum; select a longer one."))
    if found.average.sum() <= 1e-12:
        return Suggestion({}, tr("The section is silent; nothing was changed."))
    chosen: list[Band] = [("high-pass", 80.0, 0.0, 18.0)]
    reference = reference_curve("speech", found)
    cuts: list[str] = []
    if reference is not None:
        grid = np.geomspace(LOWEST_BUMP_HZ, min(9000.0, 0.45 * source.rate), 60)
        fine, broad = (_smoothed_db(found.average, found.hz, grid, width) for width in (1 / 3, 1.6))
        excess = fine - broad
        while (k := int(np.argmax(excess))) >= 0 and excess[k] >= BUMP_DB and len(chosen) < 3:
            cut = -min(MOST_CUT_DB, 0.6 * float(excess[k]))
            chosen.append(("bell", float(round(grid[k])), round(cut, 1), 1.8))
            cuts.append(tr("{cut} dB at {hz:.0f} Hz", cut=format_number(cut), hz=grid[k]))
            excess[np.abs(np.log2(grid / grid[k])) < 0.7] = 0.0
    del settings
    words = (
        tr("A high-pass below the voice; {cuts} where the spectrum stands out.", cuts=", ".join(cuts))
        if cuts
        else tr("A high-pass below the voice.")
    )
    return Suggestion({"bands": tuple(chosen)}, words)


def _smoothed_db(
    power: NDArray[np.float64], hz: NDArray[np.float64], at: NDArray[np.float64], octaves: float
) -> NDArray[np.float64]:
    sums = np.concatenate([[0.0], np.cumsum(power)])
    low, high = np.searchsorted(hz, at * 2 ** (-octaves / 2)), np.searchsorted(hz, at * 2 ** (octaves / 2))
    return powers_to_db((sums[high] - sums[low]) / np.maximum(high - low, 1))


TOOL = Tool(
    id="equaliser",
    begins_with={"matched": True},
    title="Equaliser",
    shapes_tone=True,
    summary="Bell, shelving, high-pass, low-pass and notch filters.",
    settings=EqualiserSettings,
    order=60,
    family="tone",
    process=process,
    caption=caption,
    margin=margin,
    picture=picture,
    suggest=suggest,
)
