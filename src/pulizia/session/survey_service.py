# SPDX-License-Identifier: GPL-3.0-or-later
"""What each step finds in the sound that reaches it, and what it does to the voice: in the background."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from pulizia.audio.source import made_key
from pulizia.measure.harm import Harm, harm
from pulizia.project.step_owner import has_step
from pulizia.score.chain import Stage, heard_by
from pulizia.score.steps import Step
from pulizia.session.core import SessionCore
from pulizia.session.jobs import LATER, Job
from pulizia.settings.declare import Number, declared
from pulizia.tools.base import Suggestion, Survey
from pulizia.words import tr, translated

MOST_KEPT = 64


@dataclass(frozen=True, slots=True)
class Found:
    """What was found for a step; parts that a tool does not have are None."""

    survey: Survey | None
    harm: Harm | None


class SurveyService:
    """Surveys by the content of a stage; asked for when a step is looked at."""

    def __init__(self, session: SessionCore) -> None:
        self.session = session
        self._found: OrderedDict[str, Found] = OrderedDict()
        self._wanted: tuple[Stage | None, str | None] = (None, None)  # what is being looked through, and its key
        self._wanted_harm = ""

    def of(self, stage: Stage) -> Found | None:
        """What is known of a stage as it is now."""
        key = made_key(stage)
        return self._found.get(key) if key is not None else None

    def want(self, stage: Stage) -> None:
        """Look through a stage unless it is known; the event "surveys" tells when it is."""
        key, wanted = made_key(stage), self._wanted
        if stage is wanted[0] or (key is not None and (key in self._found or key == wanted[1])):
            return
        self._wanted = stage, key

        def work(job: Job) -> Found:
            _ = stage.key  # made here, as that of an assembly takes long
            tool, step = stage.step.tool, stage.step
            spans = () if step.spans is None else step.acts_in(stage.frames)
            analysis = stage.analysis(lambda p: job.progress(0.3 * p))
            made = None
            if tool.survey is not None:
                made = tool.survey(
                    stage.heard, stage.made, spans, step.settings, analysis, lambda p: job.progress(0.3 + 0.4 * p)
                )
            judged = (
                None
                if tool.sets_level or tool.shapes_tone
                else harm(stage.heard, stage.made, spans, lambda p: job.progress(0.7 + 0.3 * p), room=tool.takes_room)
            )
            return Found(made, judged)

        def done(found: Found) -> None:
            self._wanted = None, None
            self._keep(stage.key, found)

        def failed(_sentence: str) -> None:
            self._wanted = None, None  # the step itself says what is wrong with it

        self.session.pool.submit(
            work, title=tr("Analysing the step"), priority=LATER, slot="survey", on_done=done, on_error=failed
        )

    def harm_of_score(self) -> Harm | None:
        """What the whole score takes from the voice, when it is known; asks for it otherwise."""
        chain = self.session.chain
        if chain is None or not chain.stages:
            return None
        key = f"score:{chain.after.key}"
        if key in self._found:
            return self._found[key].harm
        if key == self._wanted_harm:
            return None  # asked for already; views ask whenever they are drawn
        self._wanted_harm = key
        before, after, room = chain.before, chain.after, chain.takes_room

        def done(found: Harm | None) -> None:
            self._keep(key, Found(None, found))
            self._wanted_harm = ""

        self.session.pool.submit(
            lambda job: harm(before, after, (), job.progress, room=room), title=tr("Measuring harm"), priority=LATER, slot="harm",
            on_done=done, on_error=lambda _text: None,
        )  # fmt: skip
        return None

    def _keep(self, key: str, found: Found) -> None:
        self._found[key] = found
        while len(self._found) > MOST_KEPT:
            self._found.popitem(last=False)
        self.session.events.surveys.emit()

    def suggest(self) -> None:
        """Find settings for the selected step and use them, as one edit."""
        step, chain, owner = self.session.step, self.session.owner_chain, self.session.owner
        if step is None or chain is None or owner is None or step.tool.suggest is None:
            return
        suggest: Callable[..., Suggestion] = step.tool.suggest
        source = heard_by(step, chain.input_of(step.id))
        spans = () if step.spans is None else step.acts_in(owner.frames)

        def done(found: Suggestion) -> None:
            told = found.sentence
            if found.changes and has_step(self.session.document.project, owner.id, step.id):
                self.session.document.change_settings(owner.id, step.id, **found.changes)
                self.session.document.history.settle()
                told = " ".join([told, *changes_told(step, found.changes)])
            self.session.say(told)

        work = lambda job: suggest(source, spans, step.settings, job.progress)  # noqa: E731
        self.session.job(work, tr("Looking for settings"), done, slot="suggest")


def changes_told(step: Step, changes: dict[str, Any]) -> list[str]:
    """What was changed, setting by setting, in a sentence; nothing where nothing was."""
    rows = []
    for name, declaration in declared(type(step.settings)).items():
        old, new = getattr(step.settings, name), changes.get(name)
        if isinstance(declaration, Number) and name in changes and old is not None and old != new and new is not None:
            label = translated(declaration.label)
            rows.append(
                tr("{label} {new}, was {old}", label=label, new=declaration.text(new), old=declaration.text(old))
            )
    return [tr("Changed: {rows}. Undo takes it back.", rows="; ".join(rows))] if rows else []
