# SPDX-License-Identifier: GPL-3.0-or-later
"""Plosives: lowers the thump of P and B, below its corner and inside the burst only.

A burst is a short rise of the lowest octaves over what surrounds it in time (common practice: 60 to 150 ms
below 150 Hz). It counts when it is louder than this voice is on the whole, has its weight below the pitch and is
not the onset of a low voice: what stays under the voice is part of it and is not heard as a thump. How strong the lows of
this voice are beside its middle is learned from the whole recording, so the pitch under a burst is kept and no more.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, read_padded
from pulizia.audio.spans import Span
from pulizia.dsp.band_frames import around, band_frames, step_frames
from pulizia.dsp.moments import Stretch, bump, merged, overlaps_any, runs, through
from pulizia.dsp.stft import analyse as spectra_of
from pulizia.dsp.stft import synthesise
from pulizia.measure.listening import voice_level_db
from pulizia.settings.declare import Settings, Stretches, number, places
from pulizia.tools.base import (
    Block,
    Margin,
    Picture,
    Progress,
    Suggestion,
    Survey,
    Tool,
    moments_picture,
    moments_survey,
)
from pulizia.tools.finding import A_MINUTE, Finding, Mark, Problem, a_minute
from pulizia.units import Unit, db_to_gain, format_number, powers_to_db
from pulizia.words import N_plural, plural, tr

FOUND = N_plural("1 thump found, {on} lowered.", "{n} thumps found, {on} lowered.")
HERE = N_plural("red: 1 thump here", "red: {n} thumps here")
STEP_MS, WINDOW_MS = 5.0, 40.0
REST_HZ = (250.0, 3000.0)
LOWEST_HZ = 15.0
BELOW_PITCH_HZ, LOW_PITCH_HZ, VOICED_DB = (12.0, 70.0), (75.0, 160.0), 15.0
"""The onset of a low voice rises as a thump does, but holds as good as nothing below its pitch."""
AROUND_S = 0.6
SHORTEST_MS, LONGEST_MS = 20.0, 220.0
QUIETEST_DBFS = -50.0
OVER_VOICE_DB, LOW_OVER_VOICE_DB = 2.0, 0.0
"""How far a thump, and what of it lies below the pitch, stands over the mean level of the voice. Measured on bursts of 6
to 15 dB over the voice in eleven voices and on the same voices without them: nine in ten are found, and 2 % of the
onsets that pass the other rules."""
DEEP_DB, DEEP_OVER_VOICE_DB = -2.0, -2.0  # as good as nothing in the range of pitch: then it may be weaker
NOT_PITCH_DB = -6.0
"""Below the pitch against in its range: a low voice is 10 to 30 dB stronger in its range, a burst seldom 5 dB."""
REACH = 40  # steps to both sides of the loudest moment
ENDS_DB, STANDS_OUT_DB = 26.0, 3.0
"""A burst lasts as long as what lies below the pitch (all of its band where nothing lies there) is within this of its loudest
moment, and stands out of what is usual: the voice that follows does not count."""
EDGE_MS = 6.0
ALONE_DB = 20.0  # lows over the middle band: no voice sounds at all, whatever lies in the range of pitch
USUAL_SHARES, PITCH_HZ = (0.65, 0.95), (85.0, 130.0)  # of the moments around: below and in the range of pitch
LIKELY_POWER = 1.5  # between the level the voice is thought to have (1) and the least error on the mean (2)
VOICE_SHARE, ACTIVE_DB, MOST_LISTENED_S, PIECE_S = 0.9, 15.0, 240.0, 10
ONSET_SHARE, ONSET_MS = 0.05, 4.0


@dataclass(frozen=True, slots=True, kw_only=True)
class PlosivesSettings(Settings):
    """How far, how high, how eagerly."""

    reduction_db: float = number(
        30.0, unit=Unit.DB, low=0.0, high=40.0, step=1.0, label="Reduction", help="Largest reduction; never below the voice's usual level there.",
    )  # fmt: skip
    corner_hz: float = number(
        150.0, unit=Unit.HZ, low=60.0, high=250.0, step=5.0, scale="log", label="Corner frequency",
        help="Only sound below is lowered; nothing above twice this changes.",
    )  # fmt: skip
    sensitivity_db: float = number(
        0.0, unit=Unit.DB, low=-10.0, high=10.0, step=0.5, label="Sensitivity", help="Higher finds weaker thumps.",
    )  # fmt: skip
    left_s: Stretches = places(label="Skipped", learned=False, help="Thumps in these sections are not changed.")


@dataclass(frozen=True, slots=True)
class LowVoice:
    """The level of the voice in dBFS, and how strong its lows are beside its middle band: amplitudes, one per bin."""

    level_db: float
    share: NDArray[np.float64]


def find(samples: Samples, start: int, settings: PlosivesSettings, rate: int, voice_db: float) -> list[Stretch]:
    """Bursts in frames of the recording; ``voice_db`` is the level of its voice in dBFS."""
    powers, first = band_frames(
        samples, start, rate, ((LOWEST_HZ, settings.corner_hz), REST_HZ, BELOW_PITCH_HZ, LOW_PITCH_HZ),
        step_ms=STEP_MS, window_ms=WINDOW_MS,
    )  # fmt: skip
    if powers.shape[1] < 8:
        return []
    low, rest = powers_to_db(powers[0]), powers_to_db(powers[1])
    below, pitch = powers_to_db(powers[2]), powers_to_db(powers[3])
    usual, usual_below = _usual(low, first), _usual(below, first)
    rise = 12.0 - settings.sensitivity_db
    over = (
        (low > usual + rise)
        & (low > rest - 0.5 * settings.sensitivity_db)
        & (low > QUIETEST_DBFS - settings.sensitivity_db)
    )
    step = step_frames(rate, STEP_MS)
    found = []
    for a, b in merged(runs(over), 3):
        if powers[2, a:b].sum() < powers[3, a:b].sum() * db_to_gain(-VOICED_DB - 0.5 * settings.sensitivity_db) ** 2:
            continue
        k = a + int(np.argmax(low[a:b]))
        top, deepest = float(low[k]), float(below[a:b].max())
        if top < voice_db + OVER_VOICE_DB - settings.sensitivity_db:
            continue
        alone = top - float(rest[k]) > ALONE_DB - settings.sensitivity_db
        deep = float(below[k] - pitch[k])
        weak = (
            deepest < voice_db + (DEEP_OVER_VOICE_DB if deep > DEEP_DB else LOW_OVER_VOICE_DB) - settings.sensitivity_db
        )
        if not alone and (weak or deep < NOT_PITCH_DB - 0.5 * settings.sensitivity_db):
            continue
        begin, end = _extent(below, usual_below, k) if deepest > top - VOICED_DB else _extent(low, usual, k)
        ms = (end - begin) * STEP_MS
        if SHORTEST_MS <= ms <= LONGEST_MS:
            found.append(((first + begin - 2) * step, (first + end) * step))
    return merged(found, step)


def _extent(level: NDArray[np.float64], usual: NDArray[np.float64], k: int) -> Stretch:
    """The steps around step ``k`` in which a band is still that of the burst, in dB."""
    near = slice(max(0, k - 1), k + 2)
    least = np.maximum(usual + STANDS_OUT_DB, float(level[near].max()) - ENDS_DB)
    out = level <= least
    before, after = np.flatnonzero(out[max(0, k - REACH) : k]), np.flatnonzero(out[k : k + REACH])
    begin = max(0, k - REACH) + int(before[-1]) + 1 if len(before) else max(0, k - REACH)
    return begin, k + int(after[0]) if len(after) else min(len(level), k + REACH)


def _usual(low: NDArray[np.float64], first: int) -> NDArray[np.float64]:
    """Level of the low band that is usual around each step: the median over AROUND_S to both sides."""
    return _around(low, first, 0.5, 4)


def _around(level: NDArray[np.float64], first: int, share: float, thin: int) -> NDArray[np.float64]:
    return np.asarray(around(level, first, round(AROUND_S * 1000.0 / STEP_MS), thin, (share,))[0])


def analyse(source: Source, _spans: Sequence[Span], _settings: PlosivesSettings, progress: Progress) -> LowVoice:
    """Level of the voice, which a thump has to surpass, and its lows, which are left."""
    level_db = voice_level_db(source, lambda share: progress(0.7 * share))
    size = _size(source.rate)
    hop = size  # enough of them
    shares: list[NDArray[np.float64]] = []
    most = min(source.frames, round(MOST_LISTENED_S * source.rate))
    start = (source.frames - most) // 2
    for begin in range(start, start + most, PIECE_S * source.rate):
        for channel in read_padded(source, begin, min(begin + PIECE_S * source.rate, start + most)):
            if len(channel) >= size:
                level = np.abs(spectra_of(channel, size, hop))
                rest = _middle(level, source.rate, size)
                heard = powers_to_db(rest**2) > powers_to_db(rest**2).max() - ACTIVE_DB
                shares.append(level[heard] / np.maximum(rest[heard, None], 1e-12))
        progress(0.7 + 0.3 * min(1.0, (begin - start) / max(1, most)))
    whole = np.concatenate(shares) if shares else np.zeros((0, size // 2 + 1))
    share = np.quantile(whole, VOICE_SHARE, axis=0) if len(whole) else np.zeros(size // 2 + 1)
    return LowVoice(level_db, share)


def _size(rate: int) -> int:
    return int(2 ** np.ceil(np.log2(rate * WINDOW_MS / 1000.0)))


def _middle(level: NDArray[np.floating], rate: int, size: int) -> NDArray[np.float64]:
    """Level of the middle band in each spectrum."""
    hz = np.arange(level.shape[1]) * rate / size
    inside = (hz >= REST_HZ[0]) & (hz <= REST_HZ[1])
    return np.asarray(np.sqrt(np.sum(level[:, inside].astype(np.float64) ** 2, axis=1)))


def process(block: Block, settings: PlosivesSettings, voice: LowVoice) -> Samples:
    """Lower the bursts of a block."""
    found = [
        s
        for s in find(block.samples, block.start, settings, block.rate, voice.level_db)
        if not overlaps_any(s, settings.left_s, block.rate)
    ]
    if not found or settings.reduction_db == 0.0:
        return block.samples
    out = block.samples.copy()
    edge = round(EDGE_MS * block.rate / 1000.0)
    for begin, end in found:
        a, b = max(0, begin - block.start - edge), min(out.shape[1], end - block.start + edge)
        if b - a >= 2 * edge:
            for channel, samples in enumerate(block.samples):
                thump = _thump(samples, a, b, block.start, settings, block.rate, voice)
                onset = _onset(thump, block.rate)
                weight = bump(b - a - onset, edge)
                rise = max(1, min(round(ONSET_MS * block.rate / 1000.0), edge // 2))
                if onset:  # it is known to the millisecond
                    weight[:edge] = 1.0
                    weight[:rise] = bump(2 * rise, rise)[:rise]
                out[channel, a + onset : b] -= weight * thump[onset:]
    return out


def _onset(thump: NDArray[np.float32], rate: int) -> int:
    """Where a burst begins: before the last moment in which it is still weak, seen from its first strong one; 0 if unclear."""
    level = np.abs(thump)
    top = float(level.max())
    if top <= 0.0:
        return 0
    first = int(np.argmax(level > 0.3 * top))
    weak = np.flatnonzero(np.maximum.accumulate(level[: first + 1]) < ONSET_SHARE * top)
    return max(0, int(weak[-1]) + 1 - round(ONSET_MS * rate / 1000.0)) if len(weak) else 0


def _thump(
    samples: NDArray[np.float32], a: int, b: int, start: int, settings: PlosivesSettings, rate: int, voice: LowVoice
) -> NDArray[np.float32]:
    """What of the lows in [a, b) exceeds what the voice has there, frequency by frequency."""
    size = _size(rate)
    hop = size // 4
    around = round(AROUND_S * rate)
    first = max(0, a - around)
    first += -(first + start) % hop  # on the recording's own grid
    last = min(len(samples), b + around)
    if last - first < 3 * size:
        return np.zeros(b - a, dtype=np.float32)
    spectra = spectra_of(samples[first:last], size, hop)
    hz = np.arange(spectra.shape[1]) * rate / size
    low = hz <= 2.0 * settings.corner_hz - rate / size
    level = np.abs(spectra[:, low])
    middle = first + np.arange(len(spectra)) * hop + size // 2
    inside = (middle > a - size // 2) & (middle < b + size // 2)
    if not inside.any() or inside.all():
        return np.zeros(b - a, dtype=np.float32)
    often, seldom = np.quantile(level[~inside], USUAL_SHARES, axis=0)
    pitch = np.clip((hz[low] - PITCH_HZ[0]) / (PITCH_HZ[1] - PITCH_HZ[0]), 0.0, 1.0)
    usual = often ** (1.0 - pitch) * (1.3 * seldom) ** pitch  # where the voice has its pitch, its loud moments count
    beside = _middle(np.abs(spectra[inside]), rate, size)[:, None] * voice.share[low]
    usual = np.maximum(usual, beside * pitch)
    usual = np.maximum(usual, 1e-12)
    gain = np.clip(usual / np.maximum(level[inside], 1e-12), 0.0, 1.0) ** LIKELY_POWER
    gain = np.maximum(gain, db_to_gain(-settings.reduction_db))
    above = hz[low] > settings.corner_hz  # between the corner and twice it the cut fades out
    fade = np.where(above, np.clip(2.0 - hz[low] / settings.corner_hz, 0.0, 1.0), 1.0)
    taken = np.zeros_like(spectra[inside])
    taken[:, low] = spectra[inside][:, low] * ((1.0 - gain) * fade)
    made = synthesise(taken, size, hop)
    at = first + int(np.flatnonzero(inside)[0]) * hop
    out = np.zeros(b - a, dtype=np.float32)
    begin, end = max(a, at), min(b, at + len(made))
    out[begin - a : end - a] = made[begin - at : end - at]
    return out


def margin(_settings: PlosivesSettings, rate: int) -> Margin:
    """The usual level around, a burst, the filter."""
    reach = round((2 * AROUND_S + (LONGEST_MS + WINDOW_MS + 2 * EDGE_MS) / 1000.0 + 0.15) * rate)
    return Margin(reach, reach)


def caption(settings: PlosivesSettings) -> str:
    """Short text on the strip."""
    return tr(
        "{reduction_db} dB below {corner_hz:.0f} Hz",
        reduction_db=format_number(-settings.reduction_db, 0),
        corner_hz=settings.corner_hz,
    )


def survey(
    source: Source,
    after: Source,
    spans: Sequence[Span],
    settings: PlosivesSettings,
    voice: LowVoice,
    progress: Progress,
) -> Survey:
    """Every thump."""
    del after
    reach = margin(settings, source.rate)
    found = through(
        source, reach.before, reach.after, lambda x, s: find(x, s, settings, source.rate, voice.level_db), progress
    )
    return moments_survey(
        found, spans, settings.left_s, source.rate, FOUND, tr("No thump was found at this setting."), tr("lowered")
    )


def suggest(source: Source, spans: Sequence[Span], settings: PlosivesSettings, progress: Progress) -> Suggestion:
    """Whether there are any."""
    voice = analyse(source, spans, settings, lambda p: progress(0.5 * p))
    found = survey(source, source, spans, PlosivesSettings(), voice, lambda p: progress(0.5 + 0.5 * p)).marks
    del settings
    if not found:
        return Suggestion({}, tr("No thump was found; this step is not needed."))
    return Suggestion(
        {"reduction_db": 30.0, "sensitivity_db": 0.0},
        plural("1 thump below 150 Hz.", "{n} thumps below 150 Hz.", len(found)),
    )


def picture(passage: Samples | None, rate: int, settings: PlosivesSettings, voice: LowVoice) -> Picture:
    """The spectrum of what is found in the passage beside the passage's own."""
    found = find(passage, 0, settings, rate, voice.level_db) if passage is not None and passage.shape[1] else []
    return moments_picture(passage, rate, found, HERE, tr("no thump here"))


THUMPS = Problem(kind="plosives", mild=0.0, grave=12.0, unit=A_MINUTE, certainty=(0.5, 0.9))
USUAL_A_MINUTE, LEAST_THUMPS = 2.0, 2
STRONG_DB = (4.0, 15.0, 20.0)
"""Over the voice, over the middle band and over the lows around: one such thump is told however long the recording is. In
44 minutes of clean recordings there is none; of bursts put into voices three in five are."""


def findings(source: Source, progress: Progress) -> list[Finding]:
    """Thumps that stand out of this voice: some a minute, or a single strong one."""
    settings = PlosivesSettings()
    voice = analyse(source, (), settings, lambda share: progress(0.5 * share))
    marks = survey(source, source, (), settings, voice, lambda share: progress(0.5 + 0.5 * share)).marks
    rate = a_minute(len(marks), source)
    often = rate >= USUAL_A_MINUTE and len(marks) >= LEAST_THUMPS
    if not often and not any(_is_strong(source, mark, voice) for mark in marks):
        return []
    words = plural("1 thump below 150 Hz.", "{n} thumps below 150 Hz.", len(marks))
    return [THUMPS.found("plosives", words, rate, marks=marks)]


def _is_strong(source: Source, mark: Mark, voice: LowVoice) -> bool:
    """Whether nobody can take a thump for a part of the voice."""
    around = round(2 * AROUND_S * source.rate)
    samples = read_padded(source, mark.start - around, mark.stop + around)
    bands = ((LOWEST_HZ, PlosivesSettings().corner_hz), REST_HZ)
    powers, first = band_frames(samples, mark.start - around, source.rate, bands, step_ms=STEP_MS, window_ms=WINDOW_MS)
    low, rest = powers_to_db(powers[0]), powers_to_db(powers[1])
    step = step_frames(source.rate, STEP_MS)
    begin = max(0, mark.start // step - first)
    k = begin + int(low[begin : max(begin + 1, mark.stop // step - first + 1)].argmax())
    stands = (low[k] - voice.level_db, low[k] - rest[k], low[k] - _usual(low, first)[k])
    return all(db >= least for db, least in zip(stands, STRONG_DB, strict=True))


TOOL = Tool(
    id="plosives",
    title="Plosives",
    summary="Lowers the thump of P and B sounds, only while it lasts and only in the lows.",
    settings=PlosivesSettings,
    order=18,
    family="moments",
    strength_field="reduction_db",
    process=process,
    analyse=analyse,
    analysis_places=lambda _settings, _rate: None,
    caption=caption,
    margin=margin,
    survey=survey,
    suggest=suggest,
    picture=picture,
    skip_field="left_s",
    version=4,
    problems=(THUMPS,),
    find=findings,
)
