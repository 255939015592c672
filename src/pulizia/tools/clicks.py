# SPDX-License-Identifier: GPL-3.0-or-later
"""Clicks: finds clicks, lip noises and crackle, and puts back what lay under them.

How they are found: :mod:`pulizia.dsp.click_detection`; what stands in their place: :mod:`pulizia.dsp.click_repair`.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, read_padded
from pulizia.audio.spans import Span
from pulizia.dsp.click_detection import Sought, clicks_in, context_s
from pulizia.dsp.click_repair import REACH_S, lowered, mended, roughly_mended
from pulizia.dsp.moments import Stretch, merged, overlaps_any, through
from pulizia.measure.listening import voice_level_db
from pulizia.settings.declare import Settings, Stretches, choice, number, places
from pulizia.tools.base import Block, Margin, Picture, Progress, Suggestion, Survey, Table, Tool, moments_picture
from pulizia.tools.finding import A_MINUTE, Finding, Mark, Problem, a_minute
from pulizia.units import Unit, format_number, gain_to_db, power_to_db
from pulizia.words import N_plural, plural, tr

SHORT_SPAN_S = 0.5  # who lets the step act in so little means one click
HERE = N_plural("red: 1 click here", "red: {n} clicks here")


@dataclass(frozen=True, slots=True, kw_only=True)
class ClicksSettings(Settings):
    """What counts as a click, and what is done to it."""

    kind: str = choice(
        "clicks", options={"clicks": "clicks", "lip": "mouth click", "crackle": "crackle"}, label="Kind",
        help="Clicks finds single ones, those of the mouth too; mouth click also finds softer ones in the treble; crackle is dense, as from discs.",
    )  # fmt: skip
    sensitivity_db: float = number(
        0.0, unit=Unit.DB, low=-12.0, high=12.0, step=0.5, label="Sensitivity",
        help="Higher finds quieter clicks, and mistakes more harmless pulses for clicks.",
    )  # fmt: skip
    widest_ms: float = number(
        10.0, unit=Unit.MS, low=0.1, high=20.0, step=0.1, scale="log", label="Longest click",
        help="Longer disturbances are not changed: they may be consonants.",
    )  # fmt: skip
    repair: str = choice(
        "rebuild", options={"rebuild": "rebuild", "lower": "lower"}, label="Repair",
        help="Rebuild the sound under the click, or only lower it and cut its treble.",
    )  # fmt: skip
    lower_db: float = number(
        12.0, unit=Unit.DB, low=0.0, high=40.0, step=0.5, label="Lower by", more=True,
        help="How far a click is lowered where it is not rebuilt.",
    )  # fmt: skip
    mend_s: Stretches = places(
        label="Added by hand",
        learned=False,
        help="Sections that are repaired regardless of detection.",
    )
    left_s: Stretches = places(
        label="Skipped",
        learned=False,
        help="Clicks in these sections are not changed.",
    )


def find(samples: NDArray[np.float32], start: int, settings: ClicksSettings, rate: int) -> list[Stretch]:
    """Clicks of one channel in frames of the recording; ``start`` is the frame at ``samples[0]``."""
    sought = Sought(settings.kind, settings.sensitivity_db, settings.widest_ms)
    return clicks_in(samples, start, sought, rate)


def repaired(
    samples: NDArray[np.float32], start: int, stretches: Sequence[Stretch], settings: ClicksSettings, rate: int
) -> NDArray[np.float32]:
    """The channel, which begins at frame ``start``, with these stretches (in its own samples) mended."""
    if settings.repair == "lower":
        return lowered(samples, stretches, settings.lower_db, rate)
    by_hand = [s for s in stretches if overlaps_any((s[0] + start, s[1] + start), settings.mend_s, rate)]
    return mended(samples, stretches, by_hand, rate, rings=settings.kind != "crackle")


def chosen(samples: NDArray[np.float32], start: int, settings: ClicksSettings, rate: int) -> list[Stretch]:
    """All stretches to be mended in one channel, in its own samples."""
    found = [s for s in find(samples, start, settings, rate) if not overlaps_any(s, settings.left_s, rate)]
    by_hand = [(round(a * rate), round(b * rate)) for a, b in settings.mend_s]
    inside = [
        (max(a, start), min(b, start + len(samples))) for a, b in by_hand if b > start and a < start + len(samples)
    ]
    return [(a - start, b - start) for a, b in merged([*found, *inside], 1)]


def process(block: Block, settings: ClicksSettings, _analysis: None) -> Samples:
    """Mend the block."""
    return np.stack([
        repaired(x, block.start, chosen(x, block.start, settings, block.rate), settings, block.rate)
        for x in block.samples
    ])  # fmt: skip


def margin(settings: ClicksSettings, rate: int) -> Margin:
    """Frames of the models, the neighbours of a click and the context of its repair."""
    reach = round((context_s(settings.widest_ms) + REACH_S) * rate)
    longest = max((round((b - a) * rate) for a, b in settings.mend_s), default=0)
    return Margin(reach + longest, reach + longest)


def caption(settings: ClicksSettings) -> str:
    """Short text on the strip."""
    words = {"clicks": tr("clicks"), "lip": tr("mouth clicks"), "crackle": tr("crackle")}[settings.kind]
    return tr("{words} up to {widest_ms} ms", words=words, widest_ms=format_number(settings.widest_ms))


def survey(
    source: Source, after: Source, spans: Sequence[Span], settings: ClicksSettings, analysis: None, progress: Progress
) -> Survey:
    """Every click, with those that are left alone."""
    del after, analysis
    reach = margin(settings, source.rate)

    def look(samples: Samples, start: int) -> list[Stretch]:
        return merged([s for x in samples for s in find(x, start, settings, source.rate)], 2)

    found = through(source, reach.before, reach.after, look, progress)
    if spans:
        found = [s for s in found if any(span.overlaps(*s) for span in spans)]
    marks = []
    for a, b in found:
        on = not overlaps_any((a, b), settings.left_s, source.rate)
        marks.append(Mark(a, b, tr("{length:.1f} ms", length=1000 * (b - a) / source.rate), on=on))
    left = sum(not m.on for m in marks)
    seconds = (sum(s.frames for s in spans) if spans else source.frames) / source.rate
    rate = len(marks) / max(seconds / 60.0, 1e-9)
    rows = (
        (tr("found"), str(len(marks))),
        (tr("skipped"), str(left)),
        (tr("a minute"), format_number(rate)),
        (tr("by hand"), str(len(settings.mend_s))),
    )
    return Survey(
        plural(
            "1 click found, {repaired} repaired.",
            "{n} clicks found, {repaired} repaired.",
            len(marks),
            repaired=len(marks) - left,
        )
        if marks
        else _nothing_words(seconds, settings),
        tuple(marks),
        Table(("", ""), rows),
        stands_first=not marks and not settings.mend_s,
    )


def _nothing_words(seconds: float, settings: ClicksSettings) -> str:
    words = tr("No click was found at this setting.")
    if seconds <= SHORT_SPAN_S and not settings.mend_s:
        words += " " + tr("Repair selected click (menu Edit) rebuilds what is selected, found or not.")
    return words


def suggest(source: Source, spans: Sequence[Span], settings: ClicksSettings, progress: Progress) -> Suggestion:
    """Clicks or crackle, by how dense they are."""
    found = survey(source, source, spans, ClicksSettings(kind="clicks"), None, progress)
    seconds = max(1.0, (sum(s.frames for s in spans) if spans else source.frames) / source.rate)
    density = len(found.marks) / seconds
    del settings
    if density > 8.0:
        return Suggestion(
            {"kind": "crackle", "widest_ms": 1.5}, tr("{density:.0f} a second: dense crackle.", density=density)
        )
    if not found.marks:
        return Suggestion({}, tr("No click was found; this step is not needed."))
    widths = [1000.0 * (m.stop - m.start) / source.rate for m in found.marks]
    widest = float(np.clip(round(1.3 * np.quantile(widths, 0.95), 1), 6.0, 12.0))
    return Suggestion(
        {"kind": "clicks", "widest_ms": widest},
        plural(
            "1 click, shorter than {widest} ms.",
            "{n} clicks, most shorter than {widest} ms.",
            len(found.marks),
            widest=format_number(widest),
        ),
    )


def picture(passage: Samples | None, rate: int, settings: ClicksSettings, _analysis: object) -> Picture:
    """The spectrum of what is found in the passage beside the passage's own."""
    found = find(passage[0], 0, settings, rate) if passage is not None and passage.shape[1] else []
    return moments_picture(passage, rate, found, HERE, tr("no click here"))


CLICKS = Problem(kind="clicks", mild=0.0, grave=20.0, unit=A_MINUTE, certainty=(0.5, 0.9))
CRACKLE_A_MINUTE = 480.0
STRONG_DB, STRONG_OVER_VOICE_DB, NEAR_S, MOST_LOOKED_AT = 14.0, -16.0, 0.02, 200
"""A click is strong from this far over the sound within NEAR_S around, and from this level of its peak relative to the voice. In
44 minutes of clean recordings, one speaker with clicks of his own left out, there is none; what clipping and loud noise
have taken for clicks is none either. Of impulses, clicks of the mouth and crackle three in five are, in every file."""
ROUGHLY_DB = 6.0  # a rough mending may take less: of 81 strong clicks it showed none more than 1 dB under the limits


def findings(source: Source, progress: Progress) -> list[Finding]:
    """Clicks, where one of them at least is strong: a single one is told however long the recording is."""
    marks = survey(source, source, (), ClicksSettings(), None, lambda share: progress(0.8 * share)).marks
    if not marks or not _any_strong(source, marks, lambda share: progress(0.8 + 0.2 * share)):
        return []
    rate = a_minute(len(marks), source)
    words = plural("1 click, {rate} a minute.", "{n} clicks, {rate} a minute.", len(marks), rate=format_number(rate))
    kind = "crackle" if rate > CRACKLE_A_MINUTE else "clicks"
    return [CLICKS.found("clicks", words, rate, {"kind": kind}, marks)]


def _any_strong(source: Source, marks: Sequence[Mark], progress: Progress) -> bool:
    """Whether one of the clicks cannot be anything else; of very many some are looked at, evenly spread.

    All are mended roughly; those that may be strong are mended as the step does it, the strongest first.
    """
    voice_db = voice_level_db(source, lambda share: progress(0.5 * share))
    looked_at = marks[:: -(-len(marks) // MOST_LOOKED_AT)]
    strengths = []
    for n, mark in enumerate(looked_at):
        strengths.append(_strength(source, mark, voice_db, _rough))
        progress(0.5 + 0.4 * (n + 1) / len(looked_at))
    for n in sorted(range(len(looked_at)), key=lambda n: -strengths[n]):
        if strengths[n] < -ROUGHLY_DB:
            return False
        if _strength(source, looked_at[n], voice_db, process) >= 0.0:
            return True
    return False


def _rough(block: Block, settings: ClicksSettings, _analysis: None) -> Samples:
    return np.stack([
        roughly_mended(x, chosen(x, block.start, settings, block.rate), block.rate) for x in block.samples
    ])  # fmt: skip


def _strength(
    source: Source, mark: Mark, voice_db: float, mend: Callable[[Block, ClicksSettings, None], Samples]
) -> float:
    """How far a click lies over what makes it a strong one, in dB."""
    settings, rate = ClicksSettings(), source.rate
    reach, near = margin(settings, rate), round(NEAR_S * rate)
    start = mark.start - reach.before - near
    samples = read_padded(source, start, mark.stop + reach.after + near)
    taken = np.abs(samples - mend(Block(samples, start, rate), settings, None))
    a, b = mark.start - start, mark.stop - start
    peak = gain_to_db(float(taken[:, a:b].max()))
    channel = int(taken[:, a:b].max(axis=1).argmax())
    around = np.concatenate([samples[channel, a - near : a], samples[channel, b : b + near]])
    level = power_to_db(float(np.mean(around.astype(np.float64) ** 2)))
    return min(peak - level - STRONG_DB, peak - voice_db - STRONG_OVER_VOICE_DB)


TOOL = Tool(
    id="clicks",
    title="Clicks",
    summary="Finds clicks, mouth clicks and crackle, and rebuilds the sound under them.",
    settings=ClicksSettings,
    order=15,
    family="moments",
    version=3,
    process=process,
    caption=caption,
    margin=margin,
    survey=survey,
    suggest=suggest,
    picture=picture,
    skip_field="left_s",
    problems=(CLICKS,),
    find=findings,
)
