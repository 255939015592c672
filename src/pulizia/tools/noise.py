# SPDX-License-Identifier: GPL-3.0-or-later
"""Noise: lowers steady broadband noise of a learned spectrum under the voice.

Optimally modified log-spectral amplitude estimation (Cohen 2002) with the decision-directed
a-priori SNR of Ephraim and Malah (1984, 1985), see :mod:`pulizia.dsp.spectral_gain`, and beside it a small net
that tells the share of the voice in each cell from what lies around it (:mod:`pulizia.models.noise_net`). The lowest
gain is the chosen reduction, so what is left of the noise keeps its own sound.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import ArraySource, Source, read_padded
from pulizia.audio.spans import Span
from pulizia.dsp.spectral_gain import noise_gain
from pulizia.dsp.stft import analyse as spectra_of
from pulizia.dsp.stft import synthesise
from pulizia.measure.harm import harm
from pulizia.measure.noise_changes import band_powers, changes_s
from pulizia.measure.noise_profile import AROUND_S, NoiseProfile, Told, by_stretch, drifting, everywhere, single
from pulizia.measure.speech_activity import speech_to_noise_db
from pulizia.models import noise_net
from pulizia.settings.declare import Settings, Stretches, choice, levels, number, places
from pulizia.tools import noise_finder, noise_survey
from pulizia.tools.base import Block, Curve, Margin, Picture, Progress, Suggestion, Survey, Tool
from pulizia.tools.noise_gain import XI_MIN, pair_power, spread, told_gain
from pulizia.units import (
    Unit,
    db_to_gain,
    format_number,
    powers_to_db,
    seconds_to_frames,
)
from pulizia.words import tr

OVERLAP = 4  # windows over each sample
PAIR = 2  # frames that share one estimate of the SNR: half the work, a calmer estimate
LEAST_LEAD_IN_HOPS = 12
WANTED_SNR_DB = 50.0  # common practice: a quiet room under a close voice
LEAST_SUGGESTED_DB, MOST_SUGGESTED_DB = 4.0, 20.0  # more harms the voice at any noise
MOST_HARM_DB, HARM_PASSAGE_S = -22.0, 20.0
LEARNED_S = 0.028, 0.05  # lengths of the transform that the net fits
WINDOW_S = 0.0427  # "auto": 2048 at 48 kHz, long against a pitch period, short against a syllable


@dataclass(frozen=True, slots=True, kw_only=True)
class NoiseSettings(Settings):
    """How much noise goes, and how the program tells it from the voice."""

    reduction_db: float = number(
        10.0, unit=Unit.DB, low=0.0, high=40.0, step=0.5, label="Reduction",
        help="How far the noise is lowered. Start low; more may thin the voice.",
    )  # fmt: skip
    sensitivity_db: float = number(
        0.0, unit=Unit.DB, low=-12.0, high=12.0, step=0.5, label="Margin",
        help="Raises or lowers the level up to which sound counts as noise. Higher removes more and risks the voice.",
    )  # fmt: skip
    smoothing_ms: float = number(
        120.0, unit=Unit.MS, low=50.0, high=2000.0, step=10.0, scale="log", label="Settling time",
        help="How fast the reduction follows the sound. Longer keeps the remaining noise calm; shorter follows the voice.",
    )  # fmt: skip
    following: str = choice(
        "auto",
        options={"auto": "automatic", "one": "one everywhere", "changes": "one per section", "slow": "follows slowly"},
        label="Profile",
        help="Automatic gives each section between two changes of the noise its own profile, from the samples in it or from its quietest passages.",
    )  # fmt: skip
    precision: str = choice(
        "fine", options={"fine": "fine", "fast": "fast"}, label="Precision", more=True,
        help="Fine keeps more of the voice by what a net has learned of voices; fast is the classical estimate alone, at three times the speed.",
    )  # fmt: skip
    transform_size: str = choice(
        "auto",
        options={"auto": "auto", "512": "512", "1024": "1024", "2048": "2048", "4096": "4096", "8192": "8192"},
        label="Transform size", more=True,
        help="Long transforms separate noise from voice more precisely; short ones keep consonants sharp.",
    )  # fmt: skip
    profile_spans_s: Stretches = places(
        label="Noise sample",
        help="Where only noise is heard. Without one, the quietest passages are used.",
    )
    rejected_spans_s: Stretches = places(
        label="Not noise", learned=False,
        help="Passages that are not used to learn the noise.",
    )  # fmt: skip
    sections_s: Stretches = places(
        label="Sections", learned=False,
        help="Sections with a noise of their own, one after the other. Without any, they are found.",
    )  # fmt: skip
    curve_levels: Stretches = levels(
        label="Curve",
        help="More or less reduction per frequency: frequency in Hz, dB added to the reduction.",
    )
    profile_levels: Stretches = levels(
        label="Imported profile",
        help="A noise spectrum from another recording: frequency in Hz, density in dBFS per Hz.",
    )


def transform_size(settings: NoiseSettings, rate: int) -> int:
    """Window length in frames."""
    if settings.transform_size == "auto":
        return int(2 ** round(math.log2(WINDOW_S * rate)))
    return int(settings.transform_size)


def analyse(source: Source, spans: Sequence[Span], settings: NoiseSettings, progress: Progress) -> NoiseProfile:
    """Learn the noise: from the carried curve, the marked stretches, or the quietest passages."""
    size = transform_size(settings, source.rate)
    if settings.profile_levels:
        hz = np.fft.rfftfreq(size, 1.0 / source.rate)
        points = np.array(settings.profile_levels)
        density_db = np.interp(hz, points[:, 0], points[:, 1])
        power = 10.0 ** (density_db / 10.0) * (0.5 * size * source.rate) / 2.0
        return single(np.maximum(power, 1e-20).astype(np.float32), size)
    del spans
    told = _told(settings, source.rate)
    if settings.following == "one":
        return everywhere(source, told, size)
    if settings.following == "slow":
        return drifting(source, size, progress)
    return by_stretch(source, told, size, progress)


def carried(settings: NoiseSettings, profile: NoiseProfile, rate: int) -> NoiseSettings:
    """The settings with the learned spectrum in them, for a recording of any sample rate."""
    hz = np.fft.rfftfreq(profile.size, 1.0 / rate)
    points = zip(hz.tolist(), profile.density_db(rate).tolist(), strict=True)
    curve = tuple((round(f, 3), round(level, 2)) for f, level in points)
    return replace(settings, profile_spans_s=(), rejected_spans_s=(), sections_s=(), profile_levels=curve)


def process(block: Block, settings: NoiseSettings, profile: NoiseProfile) -> Samples:
    """Lower the noise in a block."""
    size, hop = profile.size, profile.size // OVERLAP
    skip = -block.start % (PAIR * hop)
    usable = block.samples.shape[1] - skip
    frames = max(0, (usable - size) // hop + 1) // PAIR * PAIR
    out = block.samples.copy()
    if frames == 0 or settings.reduction_db == 0.0:
        return out
    stop = skip + (frames - 1) * hop + size
    spectra = [spectra_of(channel[skip:stop], size, hop) for channel in block.samples]
    gain = _gain(spectra, settings, profile, block.rate, hop, block.start + skip)
    for channel, spectrum in enumerate(spectra):
        np.multiply(spectrum, gain, out=spectrum)
        out[channel, skip:stop] = synthesise(spectrum, size, hop)
    return out


def _gain(
    spectra: list[NDArray[np.complex64]], settings: NoiseSettings, profile: NoiseProfile,
    rate: int, hop: int, start: int,
) -> NDArray[np.float32]:  # fmt: skip
    middles = start + profile.size // 2 + np.arange(0, len(spectra[0]), PAIR) * hop
    noise = profile.at(middles) * np.float32(len(spectra) * 10.0 ** (settings.sensitivity_db / 10.0))
    gamma = pair_power(spectra[0])
    for spectrum in spectra[1:]:
        gamma += pair_power(spectrum)
    gamma *= np.float32(1.0) / noise
    np.clip(gamma, np.float32(1e-3), np.float32(1e8), out=gamma)
    alpha = math.exp(-1000.0 * PAIR * hop / (rate * settings.smoothing_ms))
    bin_hz, lowest = rate / profile.size, lowest_gain(settings, profile.size, rate)
    if settings.precision == "fast" or not LEARNED_S[0] <= profile.size / rate <= LEARNED_S[1]:
        return spread(noise_gain(gamma, alpha=alpha, xi_min=XI_MIN, bin_hz=bin_hz, lowest=lowest))
    return spread(told_gain(gamma, alpha, bin_hz, lowest))


def lowest_gain(settings: NoiseSettings, size: int, rate: int) -> float | NDArray[np.float32]:
    """Amplitude factor of the chosen reduction, per bin where a curve bends it."""
    if not settings.curve_levels:
        return db_to_gain(-settings.reduction_db)
    points = np.array(settings.curve_levels)
    hz = np.maximum(np.fft.rfftfreq(size, 1.0 / rate), 1.0)
    bent = np.interp(np.log(hz), np.log(np.maximum(points[:, 0], 1.0)), points[:, 1])
    return np.asarray(10.0 ** (-np.clip(settings.reduction_db + bent, 0.0, 60.0) / 20.0), dtype=np.float32)


def margin(settings: NoiseSettings, rate: int) -> Margin:
    """A lead-in for the estimate, and the windows that overlap the end."""
    size = transform_size(settings, rate)
    hop = size // OVERLAP
    smoothing = round(settings.smoothing_ms * rate / 1000.0)  # what came before that has faded
    ahead = 0 if settings.precision == "fast" else PAIR * hop * noise_net.BEHIND
    return Margin(size + max(LEAST_LEAD_IN_HOPS * hop, smoothing) + PAIR * hop * noise_net.BEFORE, size + ahead)


def _told(settings: NoiseSettings, rate: int) -> Told:
    samples, rejected, sections = (
        tuple(Span(seconds_to_frames(a, rate), seconds_to_frames(b, rate)) for a, b in given)
        for given in (settings.profile_spans_s, settings.rejected_spans_s, settings.sections_s)
    )
    return Told(samples, rejected, tuple(sorted(sections)))


def analysis_places(settings: NoiseSettings, rate: int) -> tuple[Span, ...] | None:
    """Samples given for one profile everywhere, and what is near them; all where the program listens itself; nothing for a carried profile."""
    if settings.profile_levels:
        return ()
    near = round(AROUND_S * rate)
    given = _told(settings, rate).samples if settings.following == "one" else ()
    return tuple(Span(max(0, s.start - near), s.stop + near) for s in given) or None


def caption(settings: NoiseSettings) -> str:
    """Short text on the strip."""
    return f"{format_number(-settings.reduction_db, 0 if settings.reduction_db % 1 == 0 else 1)} dB"


def picture(passage: Samples | None, rate: int, settings: NoiseSettings, profile: NoiseProfile) -> Picture:
    """The profile, the line that parts noise from voice, what is left, and the passage."""
    hz = np.fft.rfftfreq(profile.size, 1.0 / rate)
    density = profile.density_db(rate)
    curves = [
        Curve("profile", hz, density),
        Curve("line", hz, density + settings.sensitivity_db),
        Curve("left", hz, density + 20.0 * np.log10(lowest_gain(settings, profile.size, rate))),
    ]
    if passage is not None and passage.shape[1] >= profile.size:
        spectra = [spectra_of(channel, profile.size, profile.size // 2) for channel in passage]
        power = np.mean([np.mean(np.square(np.abs(s)), axis=0) for s in spectra], axis=0)
        level = powers_to_db(power * (2.0 / (0.5 * profile.size * rate)))
        curves.append(Curve("passage", hz, level))
    return Picture(tuple(curves), "dBFS/Hz", tr("remaining, {reduction}", reduction=caption(settings)))


def survey(
    source: Source,
    after: Source,
    spans: Sequence[Span],
    settings: NoiseSettings,
    profile: NoiseProfile,
    progress: Progress,
) -> Survey:
    """The stretches with a noise of their own, and how loud each noise is."""
    del after, spans
    if settings.following == "slow":
        return Survey(tr("The profile follows the noise throughout."))
    if settings.profile_levels:
        return Survey(tr("The profile comes from another recording."))
    return noise_survey.survey(
        source, profile, _told(settings, source.rate).samples, offers=settings.following == "one", progress=progress
    )


def suggest(source: Source, spans: Sequence[Span], settings: NoiseSettings, progress: Progress) -> Suggestion:
    """As much reduction as brings the floor well under the voice, and no more than harms little."""
    changes: dict[str, Any] = {}
    if settings.following == "one" and changes_s(band_powers(source, lambda p: progress(0.2 * p))):
        changes["following"] = "changes"
        settings = replace(settings, **changes)
    snr = speech_to_noise_db(source, lambda p: progress(0.2 + 0.2 * p))
    if snr is None:
        return Suggestion(changes, tr("Speech does not stand out from the noise here; set the reduction by ear."))
    reduction = float(np.clip(round(WANTED_SNR_DB - snr), LEAST_SUGGESTED_DB, MOST_SUGGESTED_DB))
    profile = analyse(source, spans, settings, lambda p: progress(0.4 + 0.3 * p))
    taken = _harm_of(source, replace(settings, reduction_db=reduction), profile)
    while taken is not None and taken > MOST_HARM_DB and reduction > LEAST_SUGGESTED_DB:
        reduction = max(LEAST_SUGGESTED_DB, reduction - 2.0)
        taken = _harm_of(source, replace(settings, reduction_db=reduction), profile)
    told = {"snr": format_number(snr, 0), "reduction": reduction, "below": format_number(snr + reduction, 0)}
    words = (
        tr(
            "Speech is {snr} dB above the noise; {reduction:.0f} dB of reduction leaves the floor {below} dB below it.",
            **told,
        )
        if taken is None
        else tr(
            "Speech is {snr} dB above the noise; "
            "{reduction:.0f} dB of reduction leaves the floor {below} dB below it, at a harm of {taken} dB.",
            **told,
            taken=format_number(taken, 0),
        )
    )
    if changes:
        words += " " + tr("The noise changes: each gets its own profile.")
    return Suggestion(changes | {"reduction_db": reduction}, words)


def _harm_of(source: Source, settings: NoiseSettings, profile: NoiseProfile) -> float | None:
    """What these settings take from the voice in the middle of the recording."""
    half = round(HARM_PASSAGE_S * source.rate / 2)
    start = max(0, source.frames // 2 - half) // 4096 * 4096
    stop = min(source.frames, start + 2 * half)
    reach = margin(settings, source.rate)
    first = (start - reach.before) // 4096 * 4096
    block = Block(read_padded(source, first, stop + reach.after), first, source.rate)
    made = process(block, settings, profile)[:, start - first : stop - first]
    found = harm(
        ArraySource(block.samples[:, start - first : stop - first], source.rate), ArraySource(made, source.rate), ()
    )
    return None if found is None else found.level_db


TOOL = Tool(
    id="noise",
    title="Noise",
    summary="Lowers steady noise such as a fan, air or hiss under the voice.",
    settings=NoiseSettings,
    version=3,
    order=40,
    family="steady",
    strength_field="reduction_db",
    process=process,
    caption=caption,
    margin=margin,
    analyse=analyse,
    analysis_places=analysis_places,
    analysis_fields=(
        "transform_size",
        "profile_spans_s",
        "rejected_spans_s",
        "sections_s",
        "profile_levels",
        "following",
    ),
    sample_field="profile_spans_s",
    reject_field="rejected_spans_s",
    edge_field="sections_s",
    applies=lambda settings, name: name != "sections_s" or settings.following in ("auto", "changes"),
    carried=carried,
    picture=picture,
    analysis_around=lambda profile, passage: profile.around((passage.start + passage.stop) // 2),
    survey=survey,
    suggest=suggest,
    problems=(noise_finder.NOISE,),
    find=noise_finder.findings,
)
