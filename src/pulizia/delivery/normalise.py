# SPDX-License-Identifier: GPL-3.0-or-later
"""Bring a programme to a target: the gain, a limiter only if it must be, and a verdict per limit."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from enum import Enum
from typing import Literal

import numpy as np

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, content_key, read_padded
from pulizia.delivery.targets import Target
from pulizia.dsp.limiting import limiter_margin, limiting_gain
from pulizia.errors import DeliveryError
from pulizia.measure.blocks import SegmentStore
from pulizia.measure.dialogue import dialogue
from pulizia.measure.loudness import DUAL_MONO, Measures, measure
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Stage
from pulizia.score.runs import CHUNK_FRAMES
from pulizia.score.steps import make_step
from pulizia.units import db_to_gain, format_number, power_to_db
from pulizia.words import N_, tr, translated

Progress = Callable[[float], None]
CLOSE_ENOUGH_LU = 0.02
CEILING_GUARD_DB = 0.05  # the limiter aims this far under the ceiling; rounding then stays below it
MOST_ROUNDS = 10  # two are usual; many only where the limiter works hard
SMALLEST_SLOPE = 0.1
LARGEST_GAIN_DB = 60.0
HARD_LIMITING_DB = 6.0  # peaks lowered by more are heard (common practice)
MOST_LIMITING_DB = 20.0  # more is refused unless it is asked for
FAR_FROM_SPEECH_LU = 3.0
USUAL_RANGE_LU = 15.0  # for gentle levelling where the target sets no limit (common practice for speech)
LEVELLING = (0.25, 0.5, 0.75, 1.0)
Way = Literal["gain", "limit", "level"]
WAYS: dict[str, str] = {
    "limit": N_("gain, limiting if needed"),
    "gain": N_("gain only"),
    "level": N_("levelling, then gain"),
}


class NormalisedSource:
    """A programme after gain and, when ``ceiling_dbtp`` is given, a true-peak limiter."""

    def __init__(self, programme: Source, gain_db: float, ceiling_dbtp: float | None, cache: ChunkCache) -> None:
        self._programme, self._cache = programme, cache
        self._gain = np.float32(db_to_gain(gain_db))
        self._ceiling = None if ceiling_dbtp is None else db_to_gain(ceiling_dbtp)
        self.rate, self.channels, self.frames = programme.rate, programme.channels, programme.frames
        self._parts = (gain_db, ceiling_dbtp)
        self.key = content_key("normalised", programme.key, self._parts)

    def span_key(self, start: int, stop: int) -> str:
        """Key of a stretch."""
        before, after = limiter_margin(self.rate) if self._ceiling is not None else (0, 0)
        first = max(0, start // CHUNK_FRAMES * CHUNK_FRAMES - before)
        last = min(self.frames, -(-stop // CHUNK_FRAMES) * CHUNK_FRAMES + after)
        key = self._programme.span_key(first, last)
        return content_key("normalised", key, start, stop, self._parts)

    def read(self, start: int, stop: int) -> Samples:
        """Samples of [start, stop)."""
        if self._ceiling is None:
            return self._programme.read(start, stop) * self._gain
        out = np.empty((self.channels, stop - start), dtype=np.float32)
        for index in range(start // CHUNK_FRAMES, -(-stop // CHUNK_FRAMES)):
            first, last = index * CHUNK_FRAMES, min((index + 1) * CHUNK_FRAMES, self.frames)
            chunk = self._cache.get(
                self.span_key(first, last),
                lambda f=first, e=last: self._limited(f, e),  # type: ignore[misc]
            )
            a, b = max(start, first), min(stop, last)
            out[:, a - start : b - start] = chunk[:, a - first : b - first]
        return out

    def _limited(self, first: int, last: int) -> Samples:
        assert self._ceiling is not None  # noqa: S101 - only called when limiting
        before, after = limiter_margin(self.rate)
        loud = read_padded(self._programme, first - before, last + after) * self._gain
        gain = limiting_gain(loud, self.rate, self._ceiling)[before : before + last - first]
        return np.ascontiguousarray(loud[:, before : before + last - first] * gain)


class State(Enum):
    """How a figure stands against its limit."""

    WITHIN = N_("within")
    OVER = "over"
    UNDER = "under"
    MISSING = N_("not measured")


@dataclass(frozen=True, slots=True, kw_only=True)
class Verdict:
    """One limit of a target, checked."""

    name: str
    measured: float | None
    limit: str
    state: State
    by: float
    unit: str

    @property
    def words(self) -> str:
        """The verdict as a word, with the amount when it fails."""
        if self.state in (State.WITHIN, State.MISSING):
            return translated(self.state.value)
        if self.state is State.OVER:
            return tr("{amount} over", amount=self.amount)
        return tr("{amount} under", amount=self.amount)

    @property
    def amount(self) -> str:
        """By how much it fails, with the unit."""
        return f"{format_number(self.by, 1 if self.by >= 0.1 else 2)} {self.unit}"


def verdicts(measures: Measures, target: Target) -> tuple[Verdict, ...]:
    """Check every limit of a target; over and under count from the edge of the tolerance."""
    low = target.integrated_lufs - target.tolerance_lu
    high = target.integrated_lufs + target.tolerance_lu
    scale = target.scale
    rows = [
        _check(
            tr("Speech") if target.gate == "dialogue" else tr("Integrated"), measures.integrated_lufs, low, high, "LU",
            tr(
                "{loudness} ±{tolerance:g} {scale}",
                loudness=format_number(target.integrated_lufs),
                tolerance=target.tolerance_lu,
                scale=scale,
            ),
        ),
        _check(
            tr("True peak"), measures.true_peak_dbtp, None, target.true_peak_dbtp, "dB",
            tr("at most {true_peak_dbtp} dBTP", true_peak_dbtp=format_number(target.true_peak_dbtp)),
        ),
    ]  # fmt: skip
    limits = (
        (tr("Highest short-term"), measures.short_term_max_lufs, target.short_term_max_lufs, "LU", scale),
        (tr("Highest momentary"), measures.momentary_max_lufs, target.momentary_max_lufs, "LU", scale),
        (tr("Loudness range"), measures.loudness_range_lu, target.loudness_range_max_lu, "LU", "LU"),
    )
    for name, value, limit, unit, shown in limits:
        if limit is not None:
            words = tr("at most {limit} {now}", limit=format_number(limit), now=shown)
            rows.append(_check(name, value, None, limit, unit, words))
    return tuple(rows)


def overall(rows: Sequence[Verdict]) -> Verdict:
    """The verdict on a whole programme: the first limit if all are kept, else the first one that is not."""
    return next((row for row in rows if row.state in (State.OVER, State.UNDER)), rows[0])


def _check(name: str, value: float | None, low: float | None, high: float, unit: str, limit: str) -> Verdict:
    state, by = State.WITHIN, 0.0
    if value is None:
        state = State.MISSING
    elif value > high:
        state, by = State.OVER, value - high
    elif low is not None and value < low:
        state, by = State.UNDER, low - value
    return Verdict(name=name, measured=value, limit=limit, state=state, by=by, unit=unit)


@dataclass(frozen=True, slots=True, kw_only=True)
class Plan:
    """What will be done to a programme, and what it will measure: from the processed sound."""

    target: Target
    measured: Measures
    predicted: Measures
    gain_db: float
    limited: bool
    result: Source
    way: Way = "limit"
    levelled: float = 0.0  # amount of the leveller, 0..1
    speech_percent: float | None = None
    note: str = ""  # what could not be reached, and why
    whole_lufs: float | None = None  # predicted for the whole programme, where the target counts speech only

    @property
    def cautions(self) -> tuple[str, ...]:
        """One sentence for everything that a person should know before this is delivered."""
        found = [self.note] if self.note else []
        hard = self.largest_reduction_db
        if hard > HARD_LIMITING_DB:
            found.append(
                tr(
                    "The limiter lowers peaks by up to {hard} dB, which is heard. Even the speech out first (gentle levelling, a compressor on the Bench), or choose a quieter target.",
                    hard=format_number(hard),
                )
            )
        speech = self.predicted.integrated_lufs
        if self.whole_lufs is not None and speech is not None and abs(self.whole_lufs - speech) > FAR_FROM_SPEECH_LU:
            levels = {"whole_lufs": format_number(self.whole_lufs), "speech": format_number(speech)}
            found.append(
                tr(
                    "The whole programme will be at {whole_lufs} LUFS, louder than its speech at {speech}: check what lies between the speech.",
                    **levels,
                )
                if self.whole_lufs > speech
                else tr(
                    "The whole programme will be at {whole_lufs} LUFS, quieter than its speech at {speech}: check what lies between the speech.",
                    **levels,
                )
            )
        return tuple(found)

    @property
    def too_hard(self) -> str:
        """Why it is not delivered unless that is asked for; "" where it is."""
        hard = self.largest_reduction_db
        if hard <= MOST_LIMITING_DB:
            return ""
        return tr(
            "The limiter would lower peaks by up to {hard} dB, more than {most:g} dB: the sound would be crushed. Even it out first, choose a quieter target, or ask for hard limiting.",
            hard=format_number(hard),
            most=MOST_LIMITING_DB,
        )

    @property
    def largest_reduction_db(self) -> float:
        """How far the limiter lowers the highest true peak."""
        if not self.limited or self.measured.true_peak_dbtp is None:
            return 0.0
        return self.measured.true_peak_dbtp + self.gain_db - self.target.true_peak_dbtp


def plan(
    programme: Source,
    target: Target,
    *,
    measured: Measures | None = None,
    store: SegmentStore | None = None,
    cache: ChunkCache | None = None,
    names: tuple[str, ...] | None = None,
    way: Way = "limit",
    progress: Progress = lambda _: None,
) -> Plan:
    """Find the gain, and whether a limiter is needed, and measure the result.

    ``way`` "gain" never limits; "limit" does where it must; "level" first evens phrases out, as far as
    the target's loudness range asks for.

    Raises
    ------
    DeliveryError
        When the programme has no loudness (silence, or shorter than 0.4 s), or no speech where the
        target counts speech only.
    """
    store = store or SegmentStore()
    cache = cache or ChunkCache()
    look = Meter(target, store, names)
    if measured is None or target.gate == "dialogue":
        measured = look.measure(programme, lambda p: progress(p / 2))
    _refuse_silence(measured)
    amount, note, worked = 0.0, "", programme
    if way == "level":
        worked, amount, note = _levelled(programme, measured, look, cache)
    level = (measured if worked is programme else look.measure(worked)).integrated_lufs
    assert level is not None  # noqa: S101 - the programme has one
    gain_db = target.integrated_lufs - level
    if gain_db > LARGEST_GAIN_DB:
        message = tr("The programme would need {gain_db:.0f} dB of gain. Check that it holds speech.", gain_db=gain_db)
        raise DeliveryError(message)
    peak = measured.true_peak_dbtp or -99.0
    limited = way != "gain" and (worked is not programme or peak + gain_db > target.true_peak_dbtp - CEILING_GUARD_DB)
    made = _settle(worked, target, look, cache, gain_db, limited=limited, progress=progress)
    over = (made[1].true_peak_dbtp or -99.0) - target.true_peak_dbtp
    if way == "gain" and over > 0.0:
        note = tr(
            "By gain alone the true peak passes the ceiling by {over} dB: allow limiting, or accept {integrated_lufs} {scale}.",
            over=format_number(over),
            integrated_lufs=format_number(target.integrated_lufs - over),
            scale=target.scale,
        )
    progress(1.0)
    return Plan(
        target=target, measured=measured, predicted=made[1], gain_db=made[0], limited=limited, result=made[2],
        way=way, levelled=amount, speech_percent=look.speech_percent, note=note, whole_lufs=look.whole_lufs,
    )  # fmt: skip


class Meter:
    """Measures as the target counts: the whole programme, or speech alone."""

    def __init__(self, target: Target, store: SegmentStore, names: tuple[str, ...] | None) -> None:
        self._target, self._store, self._names = target, store, names
        self.speech_percent: float | None = None
        self.whole_lufs: float | None = None  # of what was measured last, where only speech counts

    def measure(self, source: Source, progress: Progress = lambda _: None) -> Measures:
        """All figures; for dialogue targets the integrated one is that of speech."""
        found = measure(source, self._store, progress, names=self._names)
        if self._target.gate != "dialogue":
            return found
        speech = dialogue(source)
        self.whole_lufs = found.integrated_lufs
        self.speech_percent = speech.share_percent
        if speech.lufs is None:
            message = tr(
                "{title} measures speech only, and speech is heard in {share_percent:.0f} % of the programme. Choose a target that measures the whole programme.",
                title=self._target.title,
                share_percent=speech.share_percent,
            )
            raise DeliveryError(message)
        dual = power_to_db(2.0) if self._names == (DUAL_MONO,) else 0.0
        return replace(found, integrated_lufs=speech.lufs + dual)


def _refuse_silence(measured: Measures) -> None:
    if measured.integrated_lufs is None or measured.true_peak_dbtp is None:
        short = measured.duration_s < 0.4
        why = tr("it is shorter than 0.4 s") if short else tr("it is silent, or quieter than −70 LUFS")
        message = tr("The programme has no measurable loudness to normalise: {why}.", why=why)
        raise DeliveryError(message)


def _settle(
    programme: Source,
    target: Target,
    look: Meter,
    cache: ChunkCache,
    gain_db: float,
    *,
    limited: bool,
    progress: Progress,
) -> tuple[float, Measures, Source]:
    """Gain, figures and sound once the loudness after limiting meets the target."""
    ceiling = target.true_peak_dbtp - CEILING_GUARD_DB if limited else None
    used_db = gain_db
    result: Source = NormalisedSource(programme, gain_db, ceiling, cache)
    predicted = None
    slope, last = 1.0, (0.0, 0.0)  # LU per dB of gain: less than 1 where the limiter works hard
    for round_number in range(MOST_ROUNDS):
        used_db, result = gain_db, NormalisedSource(programme, gain_db, ceiling, cache)
        share = 0.5 + 0.5 * round_number / MOST_ROUNDS
        predicted = look.measure(result, lambda p, s=share: progress(s + 0.5 * p / MOST_ROUNDS))  # type: ignore[misc]
        if predicted.integrated_lufs is None:
            break
        off = target.integrated_lufs - predicted.integrated_lufs
        over = (predicted.true_peak_dbtp or -99.0) - target.true_peak_dbtp
        if ceiling is not None and over > 0.0:
            ceiling -= over + 0.02
        elif abs(off) <= CLOSE_ENOUGH_LU:
            break
        if round_number and abs(gain_db - last[0]) > 1e-3:
            slope = (predicted.integrated_lufs - last[1]) / (gain_db - last[0])
            slope = min(max(slope, SMALLEST_SLOPE), 1.0)
        last = (gain_db, predicted.integrated_lufs)
        gain_db = min(gain_db + off / slope, LARGEST_GAIN_DB)
    assert predicted is not None  # noqa: S101 - there is one round at least
    return used_db, predicted, result


def _levelled(programme: Source, measured: Measures, look: Meter, cache: ChunkCache) -> tuple[Source, float, str]:
    """The programme with just as much levelling as brings its loudness range under the limit."""
    limit = look._target.loudness_range_max_lu  # noqa: SLF001 - the same module
    wanted = limit if limit is not None else USUAL_RANGE_LU
    if measured.loudness_range_lu is None or measured.loudness_range_lu <= wanted:
        return programme, 0.0, ""
    found = programme
    reached = measured.loudness_range_lu
    for amount in LEVELLING:
        step = make_step("leveller", {"amount": amount})
        found = Stage(programme, step, cache, AnalysisStore())
        reached = look.measure(found).loudness_range_lu or 0.0
        if reached <= wanted:
            return found, amount, ""
    note = tr(
        "Levelling brings the loudness range to {reached} LU; {wanted} LU needs more, phrase by phrase on the Bench.",
        reached=format_number(reached),
        wanted=format_number(wanted),
    )
    return found, LEVELLING[-1], note
