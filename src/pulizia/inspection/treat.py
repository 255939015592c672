# SPDX-License-Identifier: GPL-3.0-or-later
"""Treatments for what was found, each checked on its result: what harms the voice or does not help is weakened or left out.

Steps are tried in the order of the findings, which is that in which troubles are best treated, each together with
those that were kept and in its own place among them, on a passage of the recording.
It is kept when the trouble falls by the same measure that told it, and the voice stays: its level within
MOST_LEVEL_DB, and what its own cells lose under MOST_HARM_DB.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from pulizia.audio.source import Source, SpanSource
from pulizia.errors import PuliziaError
from pulizia.inspection.inspect import find_again
from pulizia.measure.harm import harm
from pulizia.measure.listening import listened
from pulizia.measure.speech_activity import speech_between
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain, heard_by
from pulizia.score.steps import Step, make_step
from pulizia.settings.declare import Number, Settings, declared
from pulizia.tools.finding import Finding
from pulizia.units import format_number, power_to_db
from pulizia.words import tr, translated

Progress = Callable[[float, str], None]
PASSAGE_S = 45
WHOLE_S = 600  # up to here the whole recording has the last word
MOST_HARM_DB = -16.0  # of the voice's energy; the words for harm call -19 to -13 noticeable
MOST_ROOM_DB, MOST_ROOM_LEVEL_DB = -8.0, 2.0  # the room's own tail counts as taken from the voice
MOST_LEVEL_DB = 0.5
LEAST_HELP = 0.1  # of the severity
WEAKER = (1.0, 0.6, 0.35)  # shares of the strength that are tried
CACHE_BYTES = 256 << 20


@dataclass(frozen=True, slots=True)
class Trial:
    """A treatment that was tried: what was found, what it came to, and why it was left out if it was.

    Attributes
    ----------
    finding
        What it treats.
    step
        The step with the settings that were kept; None when it was left out.
    after
        The same finder on the result; None when it finds nothing any more.
    sentence
        What to tell of it, in one line.
    """

    finding: Finding
    step: Step | None
    after: Finding | None
    sentence: str


def treatment(
    source: Source,
    findings: Sequence[Finding],
    *,
    present: Sequence[Step] = (),
    others: Callable[[str], Source | None] = lambda _fingerprint: None,
    cache: ChunkCache | None = None,
    store: AnalysisStore | None = None,
    progress: Progress = lambda _share, _what: None,
) -> list[Trial]:
    """Try a step for each finding that has one; ``present`` are steps that are there already, ``others`` what they read.

    What is rendered and learned goes into ``cache`` and ``store``, so that who renders the result with the same ones
    makes nothing twice. ``progress`` may raise to stop.
    """
    wanted = [f for f in findings if f.tool_id]
    kept = list(present)
    trials = []
    store, cache = store or AnalysisStore(), cache or ChunkCache(CACHE_BYTES)

    def chain_of(steps: Sequence[Step]) -> Chain:
        return Chain(source, steps, cache, store, others)

    for n, finding in enumerate(wanted):
        progress(n / len(wanted), finding.tool_id)
        trial = _tried(finding, kept, chain_of)
        trials.append(trial)
        if trial.step is not None:
            kept = _with(kept, trial.step)
    progress(1.0, "done")
    return trials


def _with(steps: Sequence[Step], step: Step) -> list[Step]:
    """A step more, where its tool belongs; what a person has put in another order stays so."""
    place = sum(1 for other in steps if other.tool.order <= step.tool.order)
    return [*steps[:place], step, *steps[place:]]


def _tried(finding: Finding, kept: Sequence[Step], chain_of: Callable[[Sequence[Step]], Chain]) -> Trial:
    why = ""
    before = _passage(chain_of(kept).after, finding)
    title = _title(_step_for(finding), finding)
    was = find_again(finding, before)
    source = chain_of(()).after
    part = _passage(source, finding)
    if was is None and part.frames < source.frames and find_again(finding, part) is None:
        was = finding  # a passage is too little to tell it: the whole recording did
    if was is None and source.frames <= WHOLE_S * source.rate:
        # it may be in this passage alone that the steps before resolve it
        was = find_again(finding, chain_of(kept).after)
    if was is None:
        return Trial(finding, None, None, tr("{tool} is not needed: the steps before resolve it.", tool=title))
    for share in WEAKER:
        step = _weakened(_step_for(finding), share)
        if step is None:
            break
        chain = chain_of(_with(kept, step))
        try:
            chain.prepare()
            after = _passage(chain.after, finding)
            now = find_again(finding, after)
            why = _complaint(step, heard_by(step, before), heard_by(step, after))
        except PuliziaError as error:
            return Trial(finding, None, finding, f"{title}: {error}")
        if why:
            continue
        if now is not None and now.severity > was.severity - LEAST_HELP:
            why = tr("it did not help")
            break
        return Trial(finding, step, now, _kept_sentence(step, was, now))
    return Trial(finding, None, finding, tr("{tool} left out: {why}.", tool=title, why=why))


def _step_for(finding: Finding) -> Step:
    return replace(make_step(finding.tool_id, finding.settings), channels=finding.channels)


def _title(step: Step, finding: Finding) -> str:
    title = translated(step.tool.title)
    return f"{title}, {finding.microphone}" if finding.microphone else title


def _passage(source: Source, finding: Finding) -> Source:
    """The part that trials listen to: around the middle of what was found, or of the recording."""
    frames = PASSAGE_S * source.rate
    if source.frames <= frames:
        return source
    middle = finding.marks[len(finding.marks) // 2].start if finding.marks else source.frames // 2
    start = min(max(0, middle - frames // 2), source.frames - frames)
    return SpanSource(source, start, start + frames)


def _weakened(step: Step, share: float) -> Step | None:
    """The step with this share of its strength; None where it has none to weaken."""
    name = step.tool.strength_field
    if share == 1.0:
        return step
    if not name:
        return None
    kinds: type[Settings] = step.tool.settings
    declaration: Any = declared(kinds)[name]
    if not isinstance(declaration, Number):
        return None
    value = getattr(step.settings, name) * share
    steps = round(value / declaration.step)
    return step.with_settings(**{name: max(declaration.low, steps * declaration.step)})


def _complaint(step: Step, before: Source, after: Source) -> str:
    """Why the result is not good; nothing when it is."""
    heard = listened(before)
    if not heard.core.any():
        return ""
    if step.tool.family != "level" and step.tool_id != "overload":
        now = speech_between(after, 0, after.frames).level_db
        count = min(len(now), len(heard.core))
        core = heard.core[:count]
        level = power_to_db(float(np.mean(10.0 ** (now[:count][core] / 10.0))))
        noise = 10.0 ** (heard.floor_db / 10.0)
        voice = power_to_db(max(10.0 ** (heard.speech_db / 10.0) - noise, 1e-16))
        most = MOST_ROOM_LEVEL_DB if step.tool_id == "room_tail" else MOST_LEVEL_DB
        if level < voice - most:
            return tr("the voice would lose {db} dB", db=format_number(voice - level))
    if step.tool.shapes_tone or step.tool.family in ("level", "moments"):
        return ""
    taken = harm(before, after, ())
    most = MOST_ROOM_DB if step.tool_id == "room_tail" else MOST_HARM_DB
    if taken is not None and taken.level_db > most:
        return tr("harm to the voice {db} dB", db=format_number(taken.level_db, 0))
    return ""


def _kept_sentence(step: Step, was: Finding, now: Finding | None) -> str:
    title, caption = _title(step, was), translated(step.tool.caption(step.settings))
    decimals = (now or was).decimals
    before = f"{format_number(was.measure, decimals)} {translated(was.unit)}".strip()
    if now is None:
        return tr("{tool} ({settings}): was {before}, resolved", tool=title, settings=caption, before=before)
    after = f"{format_number(now.measure, decimals)} {translated(now.unit)}".strip()
    return tr("{tool} ({settings}): {after}, was {before}", tool=title, settings=caption, after=after, before=before)


def kept_steps(trials: Sequence[Trial]) -> list[Step]:
    """The steps that were kept, in their order; equal ones for several microphones are one."""
    made: list[Step] = []
    for step in (t.step for t in trials if t.step is not None):
        same = next((n for n, s in enumerate(made) if _alike(s, step)), None)
        if same is None:
            made.append(step)
        else:
            made[same] = replace(
                made[same], channels=tuple(sorted({*(made[same].channels or ()), *(step.channels or ())}))
            )
    return sorted(made, key=lambda step: step.tool.order)


def _alike(one: Step, other: Step) -> bool:
    """Whether two steps differ by their microphones alone, and nothing is learned from each of these."""
    apart = one.channels is not None and other.channels is not None and not one.tool.learns
    return apart and one.tool_id == other.tool_id and one.settings == other.settings
