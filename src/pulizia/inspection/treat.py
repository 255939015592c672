# SPDX-License-Identifier: GPL-3.0-or-later
"""Treatments for what was found, each checked on its result: what harms the voice or does not help is weakened or left out.

Steps are tried in the order in which troubles are best treated, whatever the order of the findings, each together with
those that were kept and in its own place among them, on a passage of the recording.
It is kept when the trouble falls by the same measure that told it, and the voice stays: its level within
MOST_LEVEL_DB, and what its own cells lose under MOST_HARM_DB.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np

from pulizia.audio.source import Source, SpanSource
from pulizia.errors import PuliziaError
from pulizia.inspection.inspect import PROBLEMS, find_again, inspect
from pulizia.measure.harm import harm
from pulizia.measure.listening import listened
from pulizia.measure.speech_activity import SILENT_DB, Activity, speech_between
from pulizia.media.ahead import render, threads
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain, heard_by
from pulizia.score.order import order_note
from pulizia.score.step_rows import added
from pulizia.score.steps import Step, make_step
from pulizia.settings.declare import Number, Settings, declared
from pulizia.tools.finding import Finding
from pulizia.tools.registry import tool_of
from pulizia.units import format_number, power_to_db
from pulizia.words import tr, translated

Progress = Callable[[float, str], None]
PASSAGE_S = 45
WHOLE_S = 600  # up to here the whole recording has the last word
SOUND_OVER_NOISE_DB = 6.0
HARM_OF_NOISE, MOST_NOISY_HARM_DB = 0.1, -10.0  # in loud noise a tenth of the noise's energy
MOST_HARM_DB = -16.0  # of the voice's energy; the words for harm call -19 to -13 noticeable
MOST_ROOM_DB, MOST_ROOM_LEVEL_DB = -12.0, 2.0  # early reflections are part of the voice, and of its level
MOST_LEVEL_DB = 0.5
NOISE_SHARE, MOST_NOISY_LEVEL_DB = 0.5, 2.0  # in loud noise the voice may lose half the power that the noise has
LEAST_HELP = 0.1  # of the severity
WEAKER = (1.0, 0.6, 0.35)  # shares of the strength that are tried
CACHE_BYTES = 256 << 20
MADE_BYTES = 96 << 20  # of a sound that is rendered whole before it is read
COVERED = ("moments", "steady")
"""Families of troubles that others can cover. What seems dull or to ring after a treatment may be its own doing."""
SHARES = (0.6, 0.8, 0.9)
"""Of the work: when all was tried, when the result was listened to, when what was covered was tried."""


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
    uncovered
        Whether it only showed after other steps, behind which its own stands then.
    """

    finding: Finding
    step: Step | None
    after: Finding | None
    sentence: str
    uncovered: bool = False


@dataclass(frozen=True, slots=True)
class Treatment:
    """What was tried, and what is found in the result.

    Attributes
    ----------
    trials
        In the order in which they were tried.
    steps
        The score with what was kept: the steps that were there, and the new ones where they belong.
    after
        Everything that is found in the result; None where the recording is too long to listen to all of it again.
    key
        Identity of the result.
    """

    trials: tuple[Trial, ...]
    steps: tuple[Step, ...]
    after: tuple[Finding, ...] | None
    key: str


def treatment(
    source: Source,
    findings: Sequence[Finding],
    *,
    present: Sequence[Step] = (),
    known: Collection[str] | None = None,
    alone: Sequence[str] = (),
    others: Callable[[str], Source | None] = lambda _fingerprint: None,
    cache: ChunkCache | None = None,
    store: AnalysisStore | None = None,
    progress: Progress = lambda _share, _what: None,
) -> Treatment:
    """Try a step for each finding that has one; ``present`` are steps that are there already, ``others`` what they read.

    The result is listened to as a whole. What only shows there, as thumps do that the room had covered, is treated behind
    the other steps, but for the ids in ``known``: what was there before and is not wanted here; None treats nothing but
    ``findings``. ``alone`` are the channels that are microphones of their own, as :func:`inspect` takes them. What is
    rendered and learned goes into ``cache`` and ``store``, so that who renders the result with the same ones makes
    nothing twice. ``progress`` may raise to stop.
    """
    store, cache = store or AnalysisStore(), cache or ChunkCache(CACHE_BYTES)
    trials: list[Trial] = []

    def score_with(*more: Trial) -> list[Step]:
        return _score(present, [*trials, *more])

    def tried(given: Sequence[Finding], begin: float, end: float, *, uncovered: bool = False) -> None:
        wanted = sorted((f for f in given if f.tool_id), key=lambda f: tool_of(f.tool_id).order)

        def chain_with(finding: Finding, step: Step | None) -> Chain:
            steps = score_with(Trial(finding, step, None, "", uncovered))
            return Chain(source, steps, cache, store, others)

        for n, finding in enumerate(wanted):
            progress(begin + (end - begin) * n / len(wanted), finding.tool_id)
            trial = _tried(finding, source, partial(chain_with, finding))
            trials.append(replace(trial, uncovered=uncovered))

    def listened_again(begin: float, end: float) -> tuple[tuple[Finding, ...], str]:
        chain = Chain(source, score_with(), cache, store, others)
        chain.prepare()
        _made(chain.after)
        told: Progress = lambda share, what: progress(begin + (end - begin) * share, what)  # noqa: E731
        return tuple(inspect(chain.after, told, workers=threads(), alone=alone)), chain.after.key

    tried(findings, 0.0, SHARES[0])
    if source.frames > WHOLE_S * source.rate:
        progress(1.0, "done")
        return Treatment(tuple(_judged_on_a_passage(t) for t in trials), tuple(score_with()), None, "")
    after, key = listened_again(SHARES[0], SHARES[1])
    seen = {*(known or ()), *(f.id for f in findings)}
    can_be_covered = [f for f in after if f.tool_id and tool_of(f.tool_id).family in COVERED]
    grown = [t for t in trials if t.step is not None and any(_not_less(f, t.finding) for f in can_be_covered)]
    fresh = {f.id for f in after if known is not None and f.id not in seen} | {t.finding.id for t in grown}
    uncovered = [f for f in can_be_covered if f.id in fresh]
    if uncovered and any(trial.step is not None for trial in trials):
        first, then = trials, (after, key)
        trials = [t for t in trials if t not in grown]
        tried(uncovered, SHARES[1], SHARES[2], uncovered=True)
        if grown or any(t.uncovered and t.step is not None for t in trials):
            after, key = listened_again(SHARES[2], 1.0)
        if sum(f.severity for f in after) > sum(f.severity for f in then[0]) - LEAST_HELP:
            trials, (after, key) = first, then  # it is not better on the whole
    progress(1.0, "done")
    now = {f.id: f for f in after}
    told = [t if t.step is None else _told_anew(t, t.step, now.get(t.finding.id)) for t in trials]
    return Treatment(tuple(told), tuple(score_with()), after, key)


def _not_less(now: Finding, was: Finding) -> bool:
    """Whether the same trouble is as grave as it was: what covered it went after its own step."""
    return now.id == was.id and not _is_less(now, was)


def _is_less(now: Finding, was: Finding) -> bool:
    """Whether a trouble fell by as much as counts, or to half, however grave or slight it was."""
    before, after = (PROBLEMS[was.kind].reach(f.measure) for f in (was, now))
    return after <= before - LEAST_HELP or after <= before / 2.0 < before


def _made(source: Source) -> None:
    """Render what will be read again, as far as the cache holds it."""
    if 4 * source.frames * source.channels <= MADE_BYTES:
        render(source)


def _score(present: Sequence[Step], trials: Sequence[Trial]) -> list[Step]:
    """The steps that are there and those that were kept, each where its tool belongs or behind what uncovered its trouble.

    What a person has put in another order stays so.
    """
    steps = tuple(present)
    for step in _joined([t.step for t in trials if t.step is not None and not t.uncovered]):
        steps = added(steps, step)
    for step in _joined([t.step for t in trials if t.step is not None and t.uncovered]):
        last = len(steps)
        while last and steps[last - 1].tool.family == "level":
            last -= 1
        behind = (*steps[:last], step, *steps[last:])
        steps = added(steps, step) if order_note(behind, step.id) else behind
    return list(steps)


def _tried(finding: Finding, source: Source, chain_with: Callable[[Step | None], Chain]) -> Trial:
    why, upstream = "", chain_with(None).after
    _made(upstream)
    before = _passage(upstream, finding)
    title = _title(_step_for(finding), finding)
    was = find_again(finding, before)
    if before is not upstream and source.frames <= WHOLE_S * source.rate:
        # the steps before may resolve it in the whole though a passage still shows it, or in a passage alone
        whole = find_again(finding, upstream)
        was = whole if whole is None or was is None else was
    elif was is None and before is not upstream and find_again(finding, _passage(source, finding)) is None:
        was = finding  # a passage is too little to tell it: the whole recording did
    if was is None:
        return Trial(finding, None, None, tr("{tool} is not needed: the steps before resolve it.", tool=title))
    for share in WEAKER:
        step = _weakened(_step_for(finding), share)
        if step is None:
            break
        chain = chain_with(step)
        try:
            chain.prepare()
            after = _passage(chain.after, finding)
            render(after)
            now = find_again(finding, after)
            why = _complaint(step, heard_by(step, before), heard_by(step, after))
        except PuliziaError as error:
            return Trial(finding, None, finding, f"{title}: {error}")
        if why:
            continue
        if now is not None and not _is_less(now, was):
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
    noise = _mean_noise(heard)
    voice = power_to_db(max(10.0 ** (heard.speech_db / 10.0) - noise, 1e-16))
    if step.tool.family != "level" and step.tool_id != "overload":
        now = speech_between(after, 0, after.frames).level_db
        count = min(len(now), len(heard.core))
        core = heard.core[:count]
        level = power_to_db(float(np.mean(10.0 ** (now[:count][core] / 10.0))))
        if level < voice - (MOST_ROOM_LEVEL_DB if step.tool.takes_room else _most_level_db(noise, voice)):
            return tr("the voice would lose {db} dB", db=format_number(voice - level))
    if step.tool.shapes_tone or step.tool.family in ("level", "moments"):
        return ""
    taken = harm(before, after, (), room=step.tool.takes_room)
    most = MOST_ROOM_DB if step.tool.takes_room else _most_harm_db(noise, voice)
    if taken is not None and taken.level_db > most:
        return tr("harm to the voice {db} dB", db=format_number(taken.level_db, 0))
    return ""


def _mean_noise(heard: Activity) -> float:
    """Mean power of the pauses, the louder of two noises included, single sounds not."""
    pause = heard.level_db[~heard.active & (heard.level_db > SILENT_DB)]
    if not len(pause):
        return float(10.0 ** (heard.floor_db / 10.0))
    steady = pause[pause < np.quantile(pause, 0.75) + SOUND_OVER_NOISE_DB]
    return float(np.mean(10.0 ** (steady / 10.0)))


def _most_level_db(noise: float, voice_db: float) -> float:
    """How much level the voice may lose: more where the noise that goes is nearly as loud as the voice itself."""
    lost = min(NOISE_SHARE * noise / 10.0 ** (voice_db / 10.0), 0.9)
    return float(np.clip(-power_to_db(1.0 - lost), MOST_LEVEL_DB, MOST_NOISY_LEVEL_DB))


def _most_harm_db(noise: float, voice_db: float) -> float:
    """How much of the voice's own energy may go: more where the noise that goes with it is nearly as loud as the voice."""
    share = power_to_db(HARM_OF_NOISE * noise) - voice_db
    return float(np.clip(share, MOST_HARM_DB, MOST_NOISY_HARM_DB))


def _judged_on_a_passage(trial: Trial) -> Trial:
    """The trial with the word that its figures are those of a passage."""
    if trial.step is None:
        return trial
    return replace(trial, sentence=tr("{sentence}, judged on {s} s", sentence=trial.sentence, s=PASSAGE_S))


def _told_anew(trial: Trial, step: Step, now: Finding | None) -> Trial:
    """The trial with what the whole result tells; a passage told it until now."""
    return replace(trial, after=now, sentence=_kept_sentence(step, trial.finding, now))


def _kept_sentence(step: Step, was: Finding, now: Finding | None) -> str:
    title, caption = _title(step, was), translated(step.tool.caption(step.settings))
    decimals = (now or was).decimals
    before = f"{format_number(was.measure, decimals)} {translated(was.unit)}".strip()
    if now is None:
        return tr("{tool} ({settings}): was {before}, resolved", tool=title, settings=caption, before=before)
    after = f"{format_number(now.measure, decimals)} {translated(now.unit)}".strip()
    return tr("{tool} ({settings}): {after}, was {before}", tool=title, settings=caption, after=after, before=before)


def _joined(steps: Sequence[Step]) -> list[Step]:
    """Steps in their recommended order; equal ones for several microphones are one."""
    made: list[Step] = []
    for step in steps:
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
