"""Dull voice: noise lowered around the voice, missing treble made from what lies below it, presence, hiss cut off.

The treble is made by spectral translation of the highest octave that is there (its fine structure carries
harmonics of vowels and the noise of consonants alike), on an envelope extrapolated from each moment's own
level and tilt and calibrated so that its long-term mean is that of the average voice (Byrne et al. 1994):
the idea of bandwidth extension by envelope extrapolation, see P. Jax, P. Vary, "On artificial bandwidth
extension of telephone speech", Signal Processing 83(8), 2003, with two features in place of their model.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.dsp.spectral_gain import noise_gain
from pulizia.dsp.stft import analyse as spectra_of
from pulizia.dsp.stft import synthesise
from pulizia.measure.bandwidth import HIGHEST_HZ, Bandwidth, bandwidth_of
from pulizia.settings.declare import Settings, number
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
from pulizia.units import Unit, db_to_gain, format_number, powers_to_db

WINDOW_S, OVERLAP = 0.0213, 4
TILT_HZ = (200.0, 1000.0)
FOLLOWED = ((4000.0, 0.5, 0.28), (5200.0, 0.2, 0.5), (7000.0, 0.1, 0.7), (9500.0, 0.1, 0.4))
"""Hz, dB of treble per dB of level, and per dB of tilt: consonants are brighter than vowels of the same level
(least squares over recorded words in two languages, low-passed at 3 kHz; what is left over is 7 to 10 dB)."""
STEEPEST_DB = 20.0
PRESENCE_HZ, PRESENCE_OCTAVES = 3200.0, 0.9
SLOPE_OCTAVES = 0.15  # width of the edges of bands
OVER_PAUSE = 8.0  # power over the pauses' from which a moment counts as voice
QUARTERS = np.array([1, 1j, -1, -1j], dtype=np.complex64)  # turns by OVERLAP-ths of a circle
SAME_WINDOW = 0.5 / 0.375  # power of the sine window over that of the Hann window
NOBODY = "Nobody can be heard speaking here: there is no voice to restore."
ALPHA, XI_MIN_DB = 0.96, -20.0


@dataclass(frozen=True, slots=True, kw_only=True)
class DullVoiceSettings(Settings):
    """How much is cleaned, restored, lifted and cut off."""

    restored: float = number(
        0.8, unit=Unit.SHARE, low=0.0, high=1.5, step=0.05, label="Treble",
        help="How much of the missing treble is made anew. Above 100 % it is brighter than the average voice.",
    )  # fmt: skip
    clean_up_db: float = number(
        6.0, unit=Unit.DB, low=0.0, high=24.0, step=0.5, label="Clean up",
        help="How far noise around the voice is lowered, learned from the pauses.",
    )  # fmt: skip
    presence_db: float = number(
        0.0, unit=Unit.DB, low=-6.0, high=9.0, step=0.5, label="Presence",
        help="Lifts the region around 3 kHz in which consonants are told apart.",
    )  # fmt: skip
    top_hz: float = number(
        HIGHEST_HZ, unit=Unit.HZ, low=3000.0, high=20_000.0, step=100.0, scale="log", label="Ends at",
        help="Hiss above this frequency is cut off; nothing is made anew above it.",
    )  # fmt: skip
    from_hz: float | None = number(
        None, unit=Unit.HZ, low=1500.0, high=10_000.0, step=50.0, scale="log", optional=True, label="Missing from", more=True,
        help="Where the voice ends; auto finds it.",
    )  # fmt: skip


@dataclass(frozen=True, slots=True, eq=False)
class Voice:
    """What was learned: the voice's spectrum, and the calibration of the new treble."""

    bandwidth: Bandwidth
    level_db: float  # usual level of the octave under the cut while it sounds
    tilt_db: float  # usual tilt of this voice
    lift: NDArray[np.float64]  # (bins,) power of the treble at usual level and tilt


def _grid(rate: int) -> tuple[int, int]:
    size = int(2 ** round(np.log2(WINDOW_S * rate)))
    return size, size // OVERLAP


def analyse(source: Source, spans: Sequence[Span], settings: DullVoiceSettings, progress: Progress) -> Voice | None:
    """Learn the voice and calibrate its treble; None where nobody speaks."""
    del spans
    size, hop = _grid(source.rate)
    found = bandwidth_of(source, size, lambda p: progress(0.7 * p))
    if found is None:
        return None
    start = _cut(found, settings)
    middle = max(0, source.frames // 2 - 60 * source.rate)
    block = source.read(middle, min(source.frames, middle + 120 * source.rate))
    if block.shape[1] < 4 * size:
        block = np.pad(block, ((0, 0), (0, 4 * size)))
    power = np.mean([np.abs(spectra_of(channel, size, hop)) ** 2 for channel in block], axis=0)
    driving, tilt = _features(power, found, start)
    speaking = driving > 0.0
    usual = float(np.median(tilt[speaking])) if speaking.any() else 0.0
    # the mean over all moments, as if all of it fell on those in which somebody speaks
    level = float(np.mean(powers_to_db(driving[speaking]))) if speaking.any() else 0.0
    made = Voice(found, level, usual, np.zeros(len(found.hz)))
    mean = _driven(driving, tilt, made, found.hz).mean(axis=0) / max(found.share, 1e-3)
    progress(1.0)
    return replace(made, lift=np.where(mean > 0.0, found.wanted * SAME_WINDOW / np.maximum(mean, 1e-20), 0.0))


def _cut(found: Bandwidth, settings: DullVoiceSettings) -> float:
    return settings.from_hz if settings.from_hz is not None else found.top_hz


def _features(power: NDArray[np.floating], found: Bandwidth, cut: float) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """(frames,) power of the octave under the cut as far as it is voice, and its tilt in dB."""
    hz = found.hz
    upper = (hz >= cut / 2.0) & (hz < cut * 0.95)
    lower = (hz >= TILT_HZ[0]) & (hz < TILT_HZ[1])
    top, low = power[:, upper].sum(axis=1, dtype=np.float64), power[:, lower].sum(axis=1, dtype=np.float64)
    pause = found.pause[upper].sum() * SAME_WINDOW
    over = np.clip(1.0 - OVER_PAUSE * pause / np.maximum(top, 1e-20), 0.0, 1.0)
    return top * over, powers_to_db(top) - powers_to_db(low)


def _driven(
    driving: NDArray[np.float64], tilt: NDArray[np.float64], voice: Voice, hz: NDArray[np.float64]
) -> NDArray[np.float32]:
    """(frames, bins) power of the treble relative to its usual one, by level and tilt of each moment."""
    places = np.log([f for f, _, _ in FOLLOWED])
    by_level, by_tilt = (np.interp(np.log(np.maximum(hz, 1.0)), places, [row[n] for row in FOLLOWED]) for n in (1, 2))
    level = np.clip(powers_to_db(driving) - voice.level_db, -60.0, STEEPEST_DB)
    shift = level[:, None] * by_level + np.clip(tilt - voice.tilt_db, -STEEPEST_DB, STEEPEST_DB)[:, None] * by_tilt
    fades = np.clip((level + 40.0) / 20.0, 0.0, 1.0)  # what hardly sounds drives nothing
    fades = np.where(driving > 0.0, fades, 0.0)
    return np.asarray(np.exp((shift * (np.log(10.0) / 10.0)).astype(np.float32)) * fades[:, None].astype(np.float32))


def process(block: Block, settings: DullVoiceSettings, voice: Voice | None) -> Samples:
    """Restore a block."""
    if voice is None:
        return block.samples
    size, hop = _grid(block.rate)
    lead = block.start % hop
    frames = block.samples.shape[1]
    length = -(-(frames + lead) // hop) * hop + size
    out = np.empty_like(block.samples)
    for n, channel in enumerate(block.samples):
        padded = np.zeros(length, dtype=np.float32)
        padded[lead : lead + frames] = channel
        spectra = spectra_of(padded, size, hop)
        change = synthesise(_restored(spectra, settings, voice, (block.start - lead) // hop) - spectra, size, hop)
        out[n] = channel + change[lead : lead + frames]
    return out


def _restored(spectra: NDArray[np.complex64], settings: DullVoiceSettings, voice: Voice, frame: int) -> NDArray[np.complex64]:
    found = voice.bandwidth
    hz = found.hz
    power = spectra.real**2 + spectra.imag**2
    made = spectra * _noise_gain(power, settings, found) if settings.clean_up_db > 0.0 else spectra
    cut = _cut(found, settings)
    if settings.restored > 0.0 and cut < min(settings.top_hz, hz[-1]) * 0.98:
        made = made + _treble(spectra, power, settings, voice, cut, frame)
    octaves = np.log2(np.maximum(hz, 1.0) / PRESENCE_HZ) / PRESENCE_OCTAVES
    shape = settings.presence_db * np.exp(-0.5 * octaves**2)
    over = np.log2(np.maximum(hz, 1.0) / settings.top_hz) / SLOPE_OCTAVES
    shape = shape - 60.0 * np.clip(0.5 + over, 0.0, 1.0) if settings.top_hz < hz[-1] else shape
    return np.asarray(made * (10.0 ** (shape / 20.0)).astype(np.float32), dtype=np.complex64)


def _noise_gain(power: NDArray[np.float32], settings: DullVoiceSettings, found: Bandwidth) -> NDArray[np.float32]:
    pause = np.maximum(found.pause * SAME_WINDOW, 1e-20)
    gamma = np.minimum(power / pause, 1e6).astype(np.float32)
    return noise_gain(gamma, alpha=ALPHA, xi_min=10.0 ** (XI_MIN_DB / 10.0), lowest=min(db_to_gain(-settings.clean_up_db), 0.9999), bin_hz=float(found.hz[1]))


def _treble(
    spectra: NDArray[np.complex64], power: NDArray[np.float32], settings: DullVoiceSettings, voice: Voice, cut: float, frame: int
) -> NDArray[np.complex64]:
    """New cells above the cut, as far as the power there is lacking."""
    found = voice.bandwidth
    hz = found.hz
    bin_hz = float(hz[1])
    low, high = round(cut / 2.0 / bin_hz), max(round(cut * 0.95 / bin_hz), round(cut / 2.0 / bin_hz) + 4)
    first, last = round(cut * 0.92 / bin_hz), min(len(hz), round(settings.top_hz * 1.1 / bin_hz))
    driving, tilt = _features(power, found, cut)
    envelope = voice.lift[first:last] * _driven(driving, tilt, voice, hz[first:last]) * settings.restored**2
    lacking = np.maximum(envelope - power[:, first:last], 0.0)
    # the octave below, flattened, read upwards and back again and again; turned by what its bins have moved
    flat = spectra[:, low:high] / np.sqrt(np.maximum(_calm(power[:, low:high]), 1e-20))
    both = np.concatenate([flat, np.conj(flat[:, ::-1])], axis=1)
    count, bins = high - low, np.arange(first, last)
    index = (bins - low) % (2 * count)
    came_from = np.where(index < count, low + index, -(high - 1 - (index - count)))
    turns = (frame + np.arange(len(spectra)))[:, None] * (bins - came_from)[None] % OVERLAP
    new = both[:, index] * QUARTERS[turns] * np.sqrt(lacking)
    rise = np.clip((hz[first:last] - cut * 0.92) / (cut * 0.16), 0.0, 1.0)
    made = np.zeros_like(spectra)
    made[:, first:last] = new * rise
    return made


def _calm(power: NDArray[np.float32]) -> NDArray[np.float32]:
    from scipy.ndimage import uniform_filter1d

    return np.asarray(uniform_filter1d(power, 9, axis=1, mode="nearest"))


def margin(_settings: DullVoiceSettings, rate: int) -> Margin:
    """The transform, and the memory of the clean-up."""
    size, _ = _grid(rate)
    return Margin(round(0.5 * rate), 2 * size)


def caption(settings: DullVoiceSettings) -> str:
    """Short text on the strip."""
    return f"treble {format_number(100.0 * settings.restored, 0)} %, noise {format_number(-settings.clean_up_db, 0)} dB"


def survey(
    source: Source, after: Source, spans: Sequence[Span], settings: DullVoiceSettings, voice: Voice | None, progress: Progress
) -> Survey:
    """What is missing, what can be won and what cannot."""
    del spans
    if voice is None:
        return Survey(NOBODY)
    size, _ = _grid(source.rate)
    found, cut = voice.bandwidth, _cut(voice.bandwidth, settings)
    now = bandwidth_of(after, size, progress)
    rows = []
    for centre in (2000.0, 4000.0, 6300.0, 10_000.0):
        inside = (found.hz >= centre / 1.12) & (found.hz < centre * 1.12)
        if not inside.any():
            continue
        away = [float(powers_to_db(b.speech[inside].sum()) - powers_to_db(b.wanted[inside].sum())) for b in (found, now) if b is not None]
        rows.append((f"{centre:g} Hz", *(format_number(x, plus=True) for x in away)))
    head = ("beside average voice", "before dB", "after dB") if now is not None else ("beside average voice", "before dB")
    if cut >= min(HIGHEST_HZ, source.rate / 2.0):
        return Survey("The voice reaches as high as it should; only noise and presence can be bettered.", table=Table(head, tuple(rows)))
    words = (
        f"Everything above {cut:.0f} Hz is missing. Brightness and the place of consonants can be won back; "
        "which consonant it was cannot: the words will not be clearer than they are."
    )
    return Survey(words, table=Table(head, tuple(rows)))


def suggest(source: Source, spans: Sequence[Span], settings: DullVoiceSettings, progress: Progress) -> Suggestion:
    """Treble where it is missing, and clean-up as far as the noise asks for it."""
    voice = analyse(source, spans, settings, progress)
    if voice is None:
        return Suggestion({}, NOBODY)
    found = voice.bandwidth
    inside = (found.hz > 300.0) & (found.hz < 3000.0)
    snr = float(powers_to_db(found.speech[inside].sum()) - powers_to_db(found.pause[inside].sum()))
    clean = float(np.clip(round(40.0 - snr), 0.0, 15.0))
    if found.top_hz >= min(HIGHEST_HZ, source.rate / 2.0):
        return Suggestion({"restored": 0.0, "clean_up_db": clean}, "The voice reaches as high as it should: no treble is missing.")
    return Suggestion({"restored": 0.8, "clean_up_db": clean}, f"The voice ends at {found.top_hz:.0f} Hz.")


def picture(passage: Samples | None, rate: int, settings: DullVoiceSettings, voice: Voice | None) -> Picture:
    """The voice, and the average one at its level."""
    del passage, rate, settings
    if voice is None:
        hz = np.array([40.0, 20_000.0])
        return Picture((Curve("passage", hz, np.full(2, -160.0)),), "dBFS", "nobody speaks")
    found = voice.bandwidth
    scale = 10.0 * np.log10(8.0 / 3.0 / len(found.hz) ** 2)
    return Picture(
        (Curve("passage", found.hz, powers_to_db(found.speech) + scale), Curve("line", found.hz, powers_to_db(found.wanted) + scale)),
        "dBFS", "dashed: the average voice",
    )  # fmt: skip


TOOL = Tool(
    id="dull_voice",
    title="Dull voice",
    summary="Cleans a dull or buried voice and makes missing treble anew.",
    settings=DullVoiceSettings,
    order=62,
    process=process,
    caption=caption,
    margin=margin,
    analyse=analyse,
    analysis_places=lambda _settings, _rate: None,
    analysis_fields=("from_hz",),
    picture=picture,
    survey=survey,
    suggest=suggest,
    shapes_tone=True,
)
