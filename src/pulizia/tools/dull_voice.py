# SPDX-License-Identifier: GPL-3.0-or-later
"""Dull voice: noise lowered around the voice, weak treble lifted, missing treble made anew, presence, hiss cut off.

What of the treble still stands over the noise of the pauses is lifted to where it should be, and the noise in
it held down. What does not is made by spectral translation of the highest octave that is there (its fine
structure carries harmonics of vowels and the noise of consonants alike), on an envelope that a small net tells
from the bands below (``models/treble_net.py``): bandwidth extension by envelope estimation, see P. Jax, P. Vary,
"On artificial bandwidth extension of telephone speech", Signal Processing 83(8), 2003. How bright the voice
should be on the whole is the average voice (Byrne et al. 1994), bent by how this voice stands to it just
below its end.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.dsp.spectral_gain import amplitude_gain
from pulizia.dsp.stft import analyse as spectra_of
from pulizia.dsp.stft import synthesise
from pulizia.measure.bandwidth import HIGHEST_HZ, bandwidth_of
from pulizia.measure.treble import OVERLAP, SAME_WINDOW, Voice, learn_voice
from pulizia.models import treble_net
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
from pulizia.tools.finding import Finding, Problem
from pulizia.units import Unit, format_number, powers_to_db
from pulizia.words import tr

WINDOW_S = 0.0213
PRESENCE_HZ, PRESENCE_OCTAVES = 3200.0, 0.9
SLOPE_OCTAVES = 0.15  # width of the edges of bands
NOBODY = "No speech is heard here: there is no voice to restore."
ALPHA, XI_MIN_DB = 0.94, -20.0


@dataclass(frozen=True, slots=True, kw_only=True)
class DullVoiceSettings(Settings):
    """How much is cleaned, restored, lifted and cut off."""

    restored: float = number(
        1.0, unit=Unit.SHARE, low=0.0, high=1.5, step=0.05, label="Restored treble",
        help="How much of the missing treble is restored. Above 100 % is brighter than the average voice.",
    )  # fmt: skip
    clean_up_db: float = number(
        6.0, unit=Unit.DB, low=0.0, high=24.0, step=0.5, label="Noise reduction",
        help="How far noise around the voice is lowered, learned from the pauses.",
    )  # fmt: skip
    presence_db: float = number(
        0.0, unit=Unit.DB, low=-6.0, high=9.0, step=0.5, label="Presence",
        help="Raises the region around 3 kHz, where consonants are told apart.",
    )  # fmt: skip
    top_hz: float = number(
        14_000.0, unit=Unit.HZ, low=3000.0, high=20_000.0, step=100.0, scale="log", label="Low-pass",
        help="Hiss above this frequency is cut off; nothing is restored above it.",
    )  # fmt: skip
    from_hz: float | None = number(
        None, unit=Unit.HZ, low=1500.0, high=10_000.0, step=50.0, scale="log", optional=True, label="Bandwidth ends at", more=True,
        help="Where the voice's bandwidth ends; auto finds it.",
    )  # fmt: skip


def _grid(rate: int) -> tuple[int, int]:
    size = int(2 ** round(np.log2(WINDOW_S * rate)))
    return size, size // OVERLAP


def analyse(source: Source, spans: Sequence[Span], settings: DullVoiceSettings, progress: Progress) -> Voice | None:
    """Learn the voice: what it lacks, and what of that is still there; None where nobody speaks."""
    del spans
    return learn_voice(source, _grid(source.rate)[0], settings.top_hz, settings.from_hz, progress)


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


def _restored(
    spectra: NDArray[np.complex64], settings: DullVoiceSettings, voice: Voice, frame: int
) -> NDArray[np.complex64]:
    hz = voice.bandwidth.hz
    power = spectra.real**2 + spectra.imag**2
    lift_db = voice.lift_db * min(settings.restored, 1.0)
    made = spectra
    if settings.clean_up_db > 0.0 or lift_db.any():
        made = spectra * (_noise_gain(power, settings, voice, lift_db) * (10.0 ** (lift_db / 20.0)).astype(np.float32))
    first = int(np.argmax(voice.missing > 0.0))
    if settings.restored > 0.0 and voice.missing[first] > 0.0:
        last = len(hz) - int(np.argmax(voice.missing[::-1] > 0.0))
        made[:, first:last] += _treble(spectra, power, settings, voice, slice(first, last), frame)
    octaves = np.log2(np.maximum(hz, 1.0) / PRESENCE_HZ) / PRESENCE_OCTAVES
    shape = settings.presence_db * np.exp(-0.5 * octaves**2)
    over = np.log2(np.maximum(hz, 1.0) / settings.top_hz) / SLOPE_OCTAVES
    shape = shape - 60.0 * np.clip(0.5 + over, 0.0, 1.0) if settings.top_hz < hz[-1] else shape
    return np.asarray(made * (10.0 ** (shape / 20.0)).astype(np.float32), dtype=np.complex64)


def _noise_gain(
    power: NDArray[np.float32], settings: DullVoiceSettings, voice: Voice, lift_db: NDArray[np.float64]
) -> NDArray[np.float32]:
    """(frames, bins): of the estimator as far as the voice reaches, the lowest above it; what is lifted is held down by as much."""
    found = voice.bandwidth
    lowest = (10.0 ** (-(settings.clean_up_db + lift_db) / 20.0)).astype(np.float32)
    bins = min(len(found.hz), round(voice.heard_hz / float(found.hz[1])) + 9)
    gain = np.empty_like(power)
    gain[:, bins:] = lowest[bins:]
    pause = np.maximum(found.pause[:bins] * SAME_WINDOW, 1e-20).astype(np.float32)
    gamma = np.minimum(power[:, :bins] / pause, np.float32(1e6))
    gain[:, :bins] = amplitude_gain(gamma, alpha=ALPHA, xi_min=10.0 ** (XI_MIN_DB / 10.0), lowest=lowest[:bins])
    return gain


def _treble(
    spectra: NDArray[np.complex64],
    power: NDArray[np.float32],
    settings: DullVoiceSettings,
    voice: Voice,
    where: slice,
    frame: int,
) -> NDArray[np.complex64]:
    """New cells for the bins of ``where``, as far as the power there is lacking."""
    found = voice.bandwidth
    hz, heard_hz = found.hz, voice.heard_hz
    low = round(heard_hz / 2.0 / hz[1])
    high = max(round(heard_hz * 0.95 / hz[1]), low + 4)
    bins = np.arange(where.start, where.stop)
    heard = treble_net.relative_db(
        power, found.speech * SAME_WINDOW, found.pause * SAME_WINDOW, hz, treble_net.HEARD_HZ
    )
    lacking = treble_net.over_bins(treble_net.treble_db(heard, heard_hz) + voice.told_db, hz[where])
    lacking *= (voice.wanted[where] * voice.missing[where] * settings.restored**2).astype(np.float32)
    lacking -= power[:, where]
    np.maximum(lacking, np.float32(0.0), out=lacking)
    np.sqrt(lacking, out=lacking)
    # the octave below, flattened, read upwards and back again and again; turned by what its bins have moved
    flat = spectra[:, low:high] / np.sqrt(np.maximum(_calm(power[:, low:high]), np.float32(1e-20)))
    both = np.concatenate([flat, np.conj(flat[:, ::-1])], axis=1)
    count = high - low
    index = (bins - low) % (2 * count)
    came_from = np.where(index < count, low + index, -(high - 1 - (index - count)))
    new = both.take(index, axis=1, mode="clip")
    new *= lacking
    for nth in range(OVERLAP):  # every OVERLAP-th frame is turned alike
        new[(nth - frame) % OVERLAP :: OVERLAP] *= np.exp(2j * np.pi * nth * (bins - came_from) / OVERLAP).astype(
            np.complex64
        )
    return np.asarray(new, dtype=np.complex64)


def _calm(power: NDArray[np.float32]) -> NDArray[np.float32]:
    from scipy.ndimage import uniform_filter1d

    return np.asarray(uniform_filter1d(power, 9, axis=1, mode="nearest"))


def margin(_settings: DullVoiceSettings, rate: int) -> Margin:
    """The transform, and the memory of the clean-up."""
    size, _ = _grid(rate)
    return Margin(round(0.5 * rate), 2 * size)


def caption(settings: DullVoiceSettings) -> str:
    """Short text on the strip."""
    return tr(
        "treble {restored} %, noise {clean_up_db} dB",
        restored=format_number(100.0 * settings.restored, 0),
        clean_up_db=format_number(-settings.clean_up_db, 0),
    )


def survey(
    source: Source,
    after: Source,
    spans: Sequence[Span],
    settings: DullVoiceSettings,
    voice: Voice | None,
    progress: Progress,
) -> Survey:
    """What is missing, what can be won and what cannot."""
    del spans
    if voice is None:
        return Survey(NOBODY, stands_first=True)
    size, _ = _grid(source.rate)
    found = voice.bandwidth
    now = bandwidth_of(after, size, progress)
    rows = []
    for centre in (2000.0, 4000.0, 6300.0, 10_000.0):
        inside = (found.hz >= centre / 1.12) & (found.hz < centre * 1.12)
        if not inside.any():
            continue
        away = [
            float(powers_to_db(b.speech[inside].sum()) - powers_to_db(b.wanted[inside].sum()))
            for b in (found, now)
            if b is not None
        ]
        rows.append((tr("{centre:g} Hz", centre=centre), *(format_number(x, plus=True) for x in away)))
    head = (
        (tr("beside average voice"), tr("before dB"), tr("after dB"))
        if now is not None
        else (tr("beside average voice"), tr("before dB"))
    )
    table = Table(head, tuple(rows))
    lifted, missing = float(voice.lift_db.max()), voice.missing > 0.5
    words = []
    if lifted >= 1.0:
        words.append(tr("Weak treble is raised by up to {lifted:.0f} dB.", lifted=lifted))
    if missing.any():
        words.append(
            tr(
                "Everything above {hz:.0f} Hz is missing. Brightness and the place of consonants can be restored, but not which consonant it was: words will not become more intelligible.",
                hz=settings.from_hz or (found.top_hz if found.top_hz < HIGHEST_HZ else found.hz[np.argmax(missing)]),
            )
        )
    return Survey(
        " ".join(words) or tr("The bandwidth of the voice is complete; only noise and presence can be improved."),
        table=table,
    )


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
        return Suggestion(
            {"restored": 0.0, "clean_up_db": clean}, tr("The bandwidth of the voice is complete: no treble is missing.")
        )
    return Suggestion({"clean_up_db": clean}, tr("The voice ends at {top_hz:.0f} Hz.", top_hz=found.top_hz))


def picture(passage: Samples | None, rate: int, settings: DullVoiceSettings, voice: Voice | None) -> Picture:
    """The voice, and the average one at its level."""
    del passage, rate, settings
    if voice is None:
        hz = np.array([40.0, 20_000.0])
        return Picture((Curve("passage", hz, np.full(2, -160.0)),), "dBFS", tr("no speech"))
    found = voice.bandwidth
    scale = 10.0 * np.log10(8.0 / 3.0 / len(found.hz) ** 2)
    return Picture(
        (Curve("passage", found.hz, powers_to_db(found.speech) + scale), Curve("line", found.hz, powers_to_db(found.wanted) + scale)),
        "dBFS", tr("dashed: the average voice"),
    )  # fmt: skip


DULL = Problem(kind="dull", mild=7.0, grave=3.0, unit="kHz", certainty=(0.85, 0.9))


def findings(source: Source, progress: Progress) -> list[Finding]:
    """A voice whose treble ends early."""
    found = bandwidth_of(source, int(2 ** round(np.log2(WINDOW_S * source.rate))), progress)
    if found is None or found.top_hz >= 1000.0 * DULL.mild:
        return []
    words = tr("The voice ends at {top_hz:.0f} Hz.", top_hz=found.top_hz)
    return [DULL.found("dull_voice", words, found.top_hz / 1000.0)]


TOOL = Tool(
    id="dull_voice",
    title="Dull voice",
    summary="Cleans a dull or buried voice and restores missing treble.",
    settings=DullVoiceSettings,
    version=2,
    order=62,
    family="tone",
    strength_field="restored",
    process=process,
    caption=caption,
    margin=margin,
    analyse=analyse,
    analysis_places=lambda _settings, _rate: None,
    analysis_fields=("from_hz", "top_hz"),
    picture=picture,
    survey=survey,
    suggest=suggest,
    shapes_tone=True,
    problems=(DULL,),
    find=findings,
)
