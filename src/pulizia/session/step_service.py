# SPDX-License-Identifier: GPL-3.0-or-later
"""What one does with the selected steps: switch, move, remove, copy and paste, several together as one edit. No Qt."""

from __future__ import annotations

from dataclasses import replace

from pulizia.score.steps import Step, new_id
from pulizia.session.core import SessionCore
from pulizia.session.jobs import Job
from pulizia.words import plural, tr, translated


class StepService:
    """Works on what is selected in the row of steps."""

    def __init__(self, session: SessionCore) -> None:
        self._session = session
        self._copied: tuple[Step, ...] = ()

    def choose(self, by: int) -> None:
        """Select the next (1) or previous (-1) step."""
        owner = self._session.owner
        if owner is not None and owner.steps:
            ids = [step.id for step in owner.steps]
            at = ids.index(self._session.step_id) + by if self._session.step_id in ids else 0
            self._session.choose_step(ids[min(max(at, 0), len(ids) - 1)])

    def toggle(self) -> None:
        """Switch the selected steps on or off, as the one whose settings are shown."""
        step, owner = self._session.step, self._session.owner
        if step is None or owner is None:
            return
        if self._session.more_steps:
            ids = [s.id for s in self._session.steps_chosen]
            self._session.document.set_all_enabled(owner.id, ids, enabled=not step.enabled)
        else:
            self._session.document.set_enabled(owner.id, step.id, enabled=not step.enabled)

    def remove(self) -> None:
        """Take the selected steps out of the row."""
        step, owner = self._session.step, self._session.owner
        if step is None or owner is None:
            return
        if self._session.more_steps:
            self._session.document.remove_steps(owner.id, [s.id for s in self._session.steps_chosen])
        else:
            self._session.document.remove_step(owner.id, step.id)

    def move(self, by: int) -> None:
        """Move the selected steps up (-1) or down (1) by one place."""
        step, owner = self._session.step, self._session.owner
        if step is None or owner is None:
            return
        ids, chosen = [s.id for s in owner.steps], [s.id for s in self._session.steps_chosen]
        if self._session.more_steps:
            place = ids.index(chosen[0]) - 1 if by < 0 else ids.index(chosen[-1]) + 2
            self._session.document.move_steps(owner.id, chosen, max(0, place))
        else:
            self._session.document.move_step(owner.id, step.id, ids.index(step.id) + by)

    def drop(self, step_id: str, row: int) -> None:
        """Move a step, and what is selected with it, before the step that now stands at a row."""
        owner = self._session.owner
        if owner is None:
            return
        if self._session.more_steps:
            self._session.document.move_steps(owner.id, [s.id for s in self._session.steps_chosen], row)
        else:
            ids = [s.id for s in owner.steps]
            self._session.document.move_step(owner.id, step_id, row - (1 if row > ids.index(step_id) else 0))

    def select(self, step_id: str, *, add: bool = False, reach: bool = False) -> None:
        """Select a step: alone, added or taken out (``add``), or with all up to it from the one that is shown (``reach``)."""
        owner = self._session.owner
        if owner is None:
            return
        ids, chosen = [s.id for s in owner.steps], [s.id for s in self._session.steps_chosen]
        if add:
            self._session.choose_steps([i for i in ids if (i in chosen) != (i == step_id)])
        elif reach and self._session.step_id in ids:
            first, last = sorted((ids.index(self._session.step_id), ids.index(step_id)))
            self._session.choose_steps(ids[first : last + 1])
        else:
            self._session.choose_step(step_id)

    def copy(self) -> None:
        """Keep the selected steps for pasting elsewhere, with what they have learned."""
        steps, chain = self._session.steps_chosen, self._session.owner_chain
        if not steps or chain is None:
            return
        stages = [(step, chain.stages.get(step.id)) for step in steps]
        if any(stage is None for _, stage in stages):
            self._session.say(tr("Switch the step on first: what it has learned is copied with it."), bad=True)
            return

        def work(job: Job) -> tuple[Step, ...]:
            made = []
            for step, stage in stages:
                if stage is not None:
                    settings = step.tool.carried(step.settings, stage.analysis(job.progress), stage.rate)
                    made.append(replace(step, settings=settings, spans=None, holes=(), channels=None, id=new_id()))
            return tuple(made)

        def done(copied: object) -> None:
            self._copied = copied if isinstance(copied, tuple) else ()
            self._session.say(tr("{title} copied. Paste it into any recording (Ctrl+V).", title=titles))

        titles = ", ".join(translated(step.tool.title) for step in steps)
        self._session.job(work, tr("Copying {title}", title=titles), done)

    @property
    def can_paste(self) -> bool:
        """Whether steps were copied."""
        return bool(self._copied) and self._session.owner is not None

    def paste(self) -> None:
        """Add the copied steps to what is shown."""
        if not self._copied or self._session.owner is None:
            return
        steps = [replace(step, id=new_id()) for step in self._copied]
        self._session.document.paste_steps(self._session.owner.id, steps)
        self._session.choose_steps([step.id for step in steps])

    def paste_everywhere(self) -> None:
        """Add the copied steps to every recording of the project, as one edit."""
        if not self._copied:
            return
        count = len(self._session.document.project.recordings)
        self._session.document.paste_steps_everywhere(self._copied)
        title = ", ".join(translated(step.tool.title) for step in self._copied)
        self._session.say(
            plural("{title} was added to 1 recording.", "{title} was added to {n} recordings.", count, title=title)
        )
