# SPDX-License-Identifier: GPL-3.0-or-later
"""Sibilance: lowers hard S sounds in their own band, and only while they last.

The band is that of this speaker's S: where the treble-heavy moments stand highest. A moment counts when
its treble outweighs the rest, and how far it is lowered follows from its level relative to the voice
around it and to the speaker's usual S, so that quiet and loud passages are treated alike (split-band
processing with look-ahead, common practice). How hard an S is shows in its spectrum: how far its band stands
over the treble on both sides, where a natural one stands by about 5 dB. Outside the moments samples stay bit-identical.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, read_padded
from pulizia.audio.spans import Span
from pulizia.dsp.band_frames import (
    band_frames,
    filtered,
    low_taps,
    shaped_taps,
    spread,
    step_frames,
)
from pulizia.dsp.moments import merged, overlaps_any, runs
from pulizia.dsp.stft import analyse as spectra_of
from pulizia.settings.declare import Settings, Stretches, choice, number, places
from pulizia.tools.base import (
    Block,
    Curve,
    Margin,
    Mark,
    Picture,
    Progress,
    Suggestion,
    Survey,
    Table,
    Tool,
)
from pulizia.units import Unit, format_number, power_to_db, powers_to_db
from pulizia.words import tr

STEP_MS, WINDOW_MS = 4.0, 10.6  # 512 at 48 kHz
VOICE_HZ = (150.0, 3000.0)
TREBLE_HZ = (3500.0, 12_000.0)
USUAL_BAND_HZ = (4500.0, 9500.0)
AROUND_S = 1.2  # of voice that an S is compared with
SHORTEST_STEPS, LONGEST_STEPS, GAP_STEPS = 5, 200, 4  # 20 ms to 0.8 s
FILTER_HALF_S = 0.0032
MOST_LISTENED_S = 240.0
PIECE_S = 20
SPREAD_DB = 3.0  # S sounds of one speaker lie about this far to both sides of the usual one
EDGE_DB = 9.0  # the band ends where the S has fallen by this much


@dataclass(frozen=True, slots=True, kw_only=True)
class SibilanceSettings(Settings):
    """How far, which, and how wide."""

    reduction_db: float = number(
        10.0, unit=Unit.DB, low=0.0, high=18.0, step=0.5, label="Reduction",
        help="No S is lowered by more than this. What is lowered further than to a natural S makes the speaker lisp.",
    )  # fmt: skip
    aim: str = choice(
        "natural", options={"natural": "natural S", "median": "speaker's median S"}, label="Compared with",
        help="With a natural S: each is lowered as far as this speaker's S is too hard, which may be not at all. With the speaker's own median: each is lowered as far as it exceeds the threshold.",
    )  # fmt: skip
    threshold_db: float = number(
        0.0, unit=Unit.DB, low=-12.0, high=12.0, step=0.5, label="Threshold",
        help="How much harder than what it is compared with an S may be. Compared with the median, at -6 all are lowered fully.",
    )  # fmt: skip
    width: str = choice(
        "band",
        options={"band": "the S band", "shape": "follow S spectrum", "wide": "everything above"},
        label="Band",
        help="This speaker's S band; following the S spectrum, which lisps least; or all treble above its lower edge.",
    )
    low_hz: float = number(
        0.0, unit=Unit.HZ, low=0.0, high=9000.0, step=50.0, label="From", more=True,
        help="Lower edge of the band; 0 finds it.",
    )  # fmt: skip
    high_hz: float = number(
        0.0, unit=Unit.HZ, low=0.0, high=18_000.0, step=50.0, label="To", more=True,
        help="Upper edge of the band; 0 finds it.",
    )  # fmt: skip
    left_s: Stretches = places(label="Skipped", learned=False, help="S sounds in these sections are not changed.")

    @classmethod
    def of_older(cls, values: dict[str, Any]) -> dict[str, Any]:
        """A threshold without a word on what it is compared with: the median was the only one."""
        return {"aim": "median", **values} if "threshold_db" in values else values


PEAK_HZ, BELOW_PEAK_HZ, ABOVE_PEAK_HZ = (5200.0, 8800.0), (3200.0, 4700.0), (9300.0, 11_500.0)
HARD_DB, LEAST_UPPER_DB, NO_TREBLE_DB, HOT_DB = 7.0, 10.0, 40.0, -3.0
NATURAL_DB, MOST_SIDE_DB = 5.0, 15.0


@dataclass(frozen=True, slots=True)
class Speaker:
    """A speaker's S: its band, its usual level relative to the voice, and its spectrum."""

    band_hz: tuple[float, float]
    usual_db: float
    count: int  # steps that were taken for S
    hz: NDArray[np.float64]
    level_db: NDArray[np.float64]


def _sides_db(speaker: Speaker) -> tuple[float, float]:
    """How far the usual band of S sounds stands over the treble below and above it."""

    def level(low: float, high: float) -> float:
        inside = (speaker.hz >= low) & (speaker.hz < high)
        return power_to_db(float(np.mean(10.0 ** (speaker.level_db[inside] / 10.0)))) if inside.any() else -160.0

    peak = level(*PEAK_HZ)
    return peak - level(*BELOW_PEAK_HZ), peak - level(*ABOVE_PEAK_HZ)


def hardness_db(speaker: Speaker) -> float:
    """How far the S stands out: of its own band over the treble on both sides, and what is hot on the whole.

    A natural S rises to its band and falls slowly beyond it; one that is hard peaks between 5 and 9 kHz (common
    practice; in eleven voices natural ones stay under 7 dB over the lower side or under 10 dB over the upper one).
    """
    if not speaker.count:
        return 0.0
    lower, upper = _sides_db(speaker)
    banded = upper > NO_TREBLE_DB  # nothing is above: its fall says nothing
    found = 0.0 if banded or upper < LEAST_UPPER_DB else lower
    return max(found, HARD_DB + speaker.usual_db - HOT_DB)


def excess_db(speaker: Speaker) -> float:
    """How far this speaker's S exceeds a natural one; 0 where it is not hard.

    The mean of how far its band stands over the treble on both sides, over what natural ones reach there (about 5 dB
    in eleven voices, 2 to 9), or what is hot on the whole.
    """
    if hardness_db(speaker) < HARD_DB:
        return 0.0
    lower, upper = _sides_db(speaker)
    return max((lower + min(upper, MOST_SIDE_DB)) / 2.0 - NATURAL_DB, 1.0)


def _bands(rate: int, band_hz: tuple[float, float]) -> tuple[tuple[float, float], ...]:
    top = 0.47 * rate
    return (VOICE_HZ, (min(TREBLE_HZ[0], top * 0.7), min(TREBLE_HZ[1], top)), (band_hz[0], min(band_hz[1], top)))


def analyse(source: Source, spans: Sequence[Span], settings: SibilanceSettings, progress: Progress) -> Speaker:
    """Find the band of this speaker's S and how it usually stands to the voice."""
    del settings
    start, stop = (spans[0].start, spans[-1].stop) if spans else (0, source.frames)
    most = round(MOST_LISTENED_S * source.rate)
    if stop - start > most:
        start = (start + stop - most) // 2
        stop = start + most
    rate, step = source.rate, step_frames(source.rate, STEP_MS)
    size = int(2 ** np.ceil(np.log2(rate * 0.02)))
    total, count = np.zeros(size // 2 + 1), 0
    places_of: list[NDArray[np.int64]] = []
    excess: list[NDArray[np.float64]] = []
    for begin in range(start, stop, PIECE_S * rate):
        end = min(begin + PIECE_S * rate, stop)
        block = read_padded(source, begin - size, end + size)
        powers, first = band_frames(
            block, begin - size, rate, _bands(rate, USUAL_BAND_HZ), step_ms=STEP_MS, window_ms=WINDOW_MS
        )
        inside = _is_s(powers)
        at = (first + np.flatnonzero(inside)) * step - size // 2 - (begin - size)
        at = at[(at >= 0) & (at + size <= block.shape[1])][::3]
        for channel in block:
            if len(at):
                frames = np.concatenate([channel[p : p + size] for p in at])
                total += np.sum(np.abs(spectra_of(frames, size, size)) ** 2, axis=0)
        count += len(at)
        places_of.append(at)
        excess.append((powers_to_db(powers[2]) - _voice_db(powers[0]))[inside])
        progress(min(1.0, (end - start) / max(1, stop - start)))
    hz = np.arange(size // 2 + 1) * rate / size
    if count < 4:
        return Speaker((USUAL_BAND_HZ[0], min(USUAL_BAND_HZ[1], 0.45 * rate)), -8.0, 0, hz, np.full(len(hz), -160.0))
    level = powers_to_db(np.convolve(total / count, np.ones(9) / 9, mode="same") / size**2)
    usual = float(np.median(np.concatenate(excess)))
    return Speaker(_band_of(hz, level, rate), usual, count, hz, level)


def _band_of(hz: NDArray[np.float64], level: NDArray[np.float64], rate: int) -> tuple[float, float]:
    """Around the highest place of the S, to where it has fallen by EDGE_DB."""
    inside = (hz >= 3500.0) & (hz <= min(11_000.0, 0.42 * rate))
    if not inside.any():
        return USUAL_BAND_HZ
    at = np.flatnonzero(inside)
    top = int(at[np.argmax(level[at])])
    low = high = top
    while low > 1 and hz[low] > 2500.0 and level[low] > level[top] - EDGE_DB:
        low -= 1
    while high < len(hz) - 2 and hz[high] < min(14_000.0, 0.45 * rate) and level[high] > level[top] - EDGE_DB:
        high += 1
    return float(hz[low]), float(max(hz[high], hz[low] * 1.25))


def _voice_db(voice: NDArray[np.float64]) -> NDArray[np.float64]:
    """Level of the voice around each step: the mean of its louder half over AROUND_S to both sides."""
    reach = min(round(AROUND_S * 1000.0 / STEP_MS), max(0, (len(voice) - 1) // 2))
    square = np.convolve(voice**2, np.ones(2 * reach + 1), mode="same")
    plain = np.convolve(voice, np.ones(2 * reach + 1), mode="same")
    return powers_to_db(square / np.maximum(plain, 1e-16))  # a mean weighted by itself leans to the loud steps


def _is_s(powers: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Steps in which the treble outweighs the voice and is loud enough to matter."""
    voice, treble, _ = powers
    loud = powers_to_db(treble) > _voice_db(voice) - 22.0
    over = (treble > 1.2 * voice) & loud & (treble > 1e-9)
    kept = np.zeros(len(over), dtype=bool)
    for a, b in merged(runs(over), GAP_STEPS):
        if SHORTEST_STEPS <= b - a <= LONGEST_STEPS:
            kept[a:b] = True
    return kept


def band_of(settings: SibilanceSettings, speaker: Speaker) -> tuple[float, float]:
    """The band that is lowered."""
    low = settings.low_hz or speaker.band_hz[0]
    high = settings.high_hz or speaker.band_hz[1]
    if settings.width == "wide":
        high = 96_000.0
    return low, max(high, low * 1.1)


def lowered_db(
    samples: Samples, start: int, settings: SibilanceSettings, speaker: Speaker, rate: int
) -> tuple[NDArray[np.float64], int]:
    """How far each step is lowered, in dB (0 outside S sounds), and the first step."""
    powers, first = band_frames(
        samples, start, rate, _bands(rate, speaker.band_hz), step_ms=STEP_MS, window_ms=WINDOW_MS
    )
    if not powers.shape[1]:
        return np.zeros(0), first
    inside = _is_s(powers)
    excess = powers_to_db(powers[2]) - _voice_db(powers[0]) - speaker.usual_db
    natural = excess_db(speaker) if settings.aim == "natural" else None
    if natural == 0.0:
        return np.zeros(len(inside)), first
    step = step_frames(rate, STEP_MS)
    amount = np.zeros(len(inside))
    for a, b in runs(inside):
        moment = ((first + a) * step, (first + b) * step)
        if overlaps_any(moment, settings.left_s, rate):
            continue
        level = float(np.quantile(excess[a:b], 0.75))
        if natural is None:
            wanted = level - settings.threshold_db + SPREAD_DB
        else:  # one of the usual kind by the excess; the spread of one speaker's S sounds is kept
            wanted = natural - settings.threshold_db + max(0.0, level - SPREAD_DB) + min(0.0, level + SPREAD_DB)
        reach = 20.0 if natural is None else 32.0
        shape = np.clip(excess[a:b] - excess[a:b].max() + reach, 0.0, 8.0) / 8.0  # its quiet ends need less
        amount[a:b] = np.clip(wanted, 0.0, settings.reduction_db) * shape
    return amount, first


def process(block: Block, settings: SibilanceSettings, speaker: Speaker) -> Samples:
    """Lower the S sounds of a block."""
    amount, first = lowered_db(block.samples, block.start, settings, speaker, block.rate)
    if not amount.any():
        return block.samples
    step, frames = step_frames(block.rate, STEP_MS), block.samples.shape[1]
    taps = _taps(settings, speaker, block.rate)
    half = len(taps) // 2
    out = block.samples.copy()
    for a, b in runs(amount > 0.0):  # rising from the step before, falling to the one behind
        begin = max(0, (first + a - 1) * step + 1 - block.start)
        end = min(frames, (first + b) * step - block.start)
        if end <= begin:
            continue
        padded = np.concatenate([[0.0], amount[a:b], [0.0]])
        curve = spread(padded, first + a - 1, step, block.start + begin, end - begin)
        share = (10.0 ** (-curve / 20.0) - 1.0).astype(np.float32)
        around = np.zeros((len(out), end - begin + 2 * half), dtype=np.float32)
        left, right = max(0, begin - half), min(frames, end + half)
        around[:, left - begin + half : right - begin + half] = block.samples[:, left:right]
        out[:, begin:end] += share * filtered(around, taps)[:, half : half + end - begin]
    return out


def _taps(settings: SibilanceSettings, speaker: Speaker, rate: int) -> NDArray[np.float32]:
    """The symmetrical filter of what is lowered."""
    half = round(FILTER_HALF_S * rate)
    if settings.width == "shape" and speaker.count:
        return shaped_taps(speaker.hz, shape_of(settings, speaker), half)
    low, high = band_of(settings, speaker)
    taps = -low_taps(rate, low, half)
    if high < 0.48 * rate:
        return np.asarray(taps + low_taps(rate, high, half), dtype=np.float32)
    taps[half] += 1.0
    return taps


def shape_of(settings: SibilanceSettings, speaker: Speaker) -> NDArray[np.float64]:
    """0..1 over the speaker's frequencies: 1 where the S stands highest, 0 where it has fallen by twice EDGE_DB."""
    low, high = band_of(settings, speaker)
    near = (speaker.hz >= low / 1.3) & (speaker.hz <= high * 1.3)
    top = float(speaker.level_db[near].max()) if near.any() else 0.0
    return np.where(near, np.clip((speaker.level_db - top) / (2.0 * EDGE_DB) + 1.0, 0.0, 1.0), 0.0)


def margin(_settings: SibilanceSettings, rate: int) -> Margin:
    """The voice around, and the filter."""
    reach = round((AROUND_S + 0.6) * rate)  # an S of half a second may have begun before
    return Margin(reach, reach)


def caption(settings: SibilanceSettings) -> str:
    """Short text on the strip."""
    return tr("max. {reduction_db} dB", reduction_db=format_number(-settings.reduction_db))


def survey(
    source: Source,
    after: Source,
    spans: Sequence[Span],
    settings: SibilanceSettings,
    speaker: Speaker,
    progress: Progress,
) -> Survey:
    """Each S with how far it is lowered."""
    del after
    rate, step = source.rate, step_frames(source.rate, STEP_MS)
    reach = margin(settings, rate)
    marks: list[Mark] = []
    for begin in range(0, source.frames, PIECE_S * rate):
        end = min(begin + PIECE_S * rate, source.frames)
        block = read_padded(source, begin - reach.before, end + reach.after)
        powers, first = band_frames(
            block, begin - reach.before, rate, _bands(rate, speaker.band_hz), step_ms=STEP_MS, window_ms=WINDOW_MS
        )
        amount, _ = lowered_db(block, begin - reach.before, settings, speaker, rate)
        for a, b in runs(_is_s(powers)):
            start, stop = (first + a) * step, (first + b) * step
            if begin <= start < end and (not spans or any(s.overlaps(start, stop) for s in spans)):
                down = float(amount[a:b].max())
                on = not overlaps_any((start, stop), settings.left_s, rate)
                marks.append(Mark(start, stop, f"{format_number(-down)} dB", on=on, value=down))
        progress(end / source.frames)
    low, high = band_of(settings, speaker)
    treated = [m for m in marks if m.value > 0.05]
    mean = sum(m.value for m in treated) / max(1, len(treated))
    shown = tr("{low:.0f} to {high:.0f} Hz", low=low, high=min(high, rate / 2))
    rows = (
        (tr("S sounds"), str(len(marks))),
        ("lowered", str(len(treated))),
        (tr("on the mean"), f"{format_number(-mean)} dB"),
        (tr("band"), shown),
    )
    if marks and settings.aim == "natural" and not excess_db(speaker):
        words = tr("{count} S sounds, not harder than natural ones: none is lowered.", count=len(marks))
        return Survey(words, tuple(marks), Table(("", ""), rows))
    words = (
        tr("{n_treated} of {count} S sounds are lowered.", n_treated=len(treated), count=len(marks))
        if marks
        else tr("No S sound was found.")
    )
    return Survey(words, tuple(marks), Table(("", ""), rows))


def suggest(source: Source, spans: Sequence[Span], settings: SibilanceSettings, progress: Progress) -> Suggestion:
    """As far as this speaker's S exceeds what is usual for voices."""
    speaker = analyse(source, spans, settings, progress)
    if not speaker.count:
        return Suggestion({}, tr("No S sound was found; this step is not needed."))
    over = excess_db(speaker)
    if not over:
        return Suggestion({}, tr("The S of this voice is not harder than a natural one; this step is not needed."))
    words = tr(
        "S at {low:.0f} to {high:.0f} Hz, {over} dB harder than a natural one.",
        low=speaker.band_hz[0],
        high=speaker.band_hz[1],
        over=format_number(over),
    )
    return Suggestion({"aim": "natural", "threshold_db": 0.0}, words)


def picture(passage: Samples | None, rate: int, settings: SibilanceSettings, speaker: Speaker) -> Picture:
    """The spectrum of this speaker's S, and the band."""
    del passage, rate
    low, high = band_of(settings, speaker)
    inside = (speaker.hz >= low) & (speaker.hz <= high)
    band = np.where(inside, speaker.level_db, -160.0)
    return Picture(
        (Curve("passage", speaker.hz, speaker.level_db), Curve("lines", speaker.hz, band)),
        "dBFS",
        tr("S at {low:.0f} Hz and above", low=low),
    )


TOOL = Tool(
    id="sibilance",
    title="Sibilance",
    summary="Lowers hard S sounds in this speaker's own S band, and nothing else.",
    settings=SibilanceSettings,
    order=58,
    family="moments",
    strength_field="reduction_db",
    process=process,
    caption=caption,
    margin=margin,
    analyse=analyse,
    analysis_places=lambda _settings, _rate: None,
    picture=picture,
    survey=survey,
    suggest=suggest,
    skip_field="left_s",
    version=2,
)
