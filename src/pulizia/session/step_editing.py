# SPDX-License-Identifier: GPL-3.0-or-later
"""Edits of the steps of a recording, a lane or a programme, each with its words for the history. No Qt."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import replace
from typing import Any

from pulizia.audio.spans import Span, clipped, normalised, without
from pulizia.errors import ProjectError
from pulizia.project.model import Project
from pulizia.project.step_owner import owner_of, with_steps
from pulizia.score import step_rows as rows
from pulizia.score.recipes import Recipe
from pulizia.score.steps import Step, make_step, new_id
from pulizia.session.history import History
from pulizia.settings.declare import Settings
from pulizia.words import plural, tr, translated


class StepEditing:
    """The part of the document that changes steps. ``owner_id`` is the identity of a recording, a lane or a programme."""

    history: History

    @property
    def project(self) -> Project:
        """The present project."""
        return self.history.present

    def _tell(self) -> None:
        """Tell the listeners of a change."""
        raise NotImplementedError

    def _edit(self, project: Project, label: str, merge_key: str | None = None) -> None:
        self.history.edit(project, label, merge_key)
        self._tell()

    def _put(self, owner_id: str, steps: rows.Steps, label: str, merge_key: str | None = None) -> None:
        self._edit(with_steps(self.project, owner_id, steps), label, merge_key)

    def _change(
        self, owner_id: str, step_id: str, change: Callable[[Step], Step], label: str, merge_key: str | None = None
    ) -> None:
        steps = owner_of(self.project, owner_id).steps
        self._put(owner_id, rows.changed(steps, step_id, change), label, merge_key)

    def _title(self, owner_id: str, step_id: str) -> str:
        return translated(owner_of(self.project, owner_id).step(step_id).tool.title)

    # -- adding

    def add_step(
        self, owner_id: str, tool_id: str, settings: dict[str, Any] | None = None,
        spans: tuple[Span, ...] | None = None, band_hz: tuple[float, float] | None = None,
        channels: tuple[int, ...] | None = None,
    ) -> Step:  # fmt: skip
        """Add a step where its tool recommends; SettingsError when the settings are wrong."""
        step = replace(make_step(tool_id, settings, spans=spans, band_hz=band_hz), channels=channels)
        steps = rows.added(owner_of(self.project, owner_id).steps, step)
        self._put(owner_id, steps, tr("Add {title}", title=translated(step.tool.title)))
        return step

    def add_steps(
        self, owner_id: str, wanted: Iterable[Step], what: str
    ) -> list[Step]:  # fmt: skip
        """Add steps where their tools recommend, as one entry of history called ``what``."""
        made = [replace(step, id=new_id()) for step in wanted]
        steps = owner_of(self.project, owner_id).steps
        for step in made:
            steps = rows.added(steps, step)
        if made:
            self._put(owner_id, steps, what)
        return made

    def set_steps(self, owner_id: str, steps: Sequence[Step], what: str) -> None:
        """Put a whole score in the place of the old one, as one entry of history called ``what``; none where it is the same."""
        if tuple(steps) != owner_of(self.project, owner_id).steps:
            self._put(owner_id, tuple(steps), what)

    def paste_steps(self, owner_id: str, copied: Sequence[Step]) -> None:
        """Add steps that were copied elsewhere, in their order and where their tools recommend, as one entry of history."""
        steps = rows.with_recipe(owner_of(self.project, owner_id).steps, copied)
        self._put(owner_id, steps, tr("Paste {title}", title=_titles(copied)))

    def paste_steps_everywhere(self, copied: Sequence[Step]) -> None:
        """Add copied steps to every recording, in their order, as one entry of history."""
        recordings = [
            replace(r, score=rows.with_recipe(r.score, [replace(step, id=new_id()) for step in copied]))
            for r in self.project.recordings
        ]
        words = tr("Paste {title} everywhere", title=_titles(copied))
        self._edit(replace(self.project, recordings=tuple(recordings)), words)

    def paste_step_on(self, owner_ids: Iterable[str], step: Step) -> None:
        """Add a copied step to several lanes or recordings, as one entry of history."""
        project = self.project
        for owner_id in owner_ids:
            steps = rows.added(owner_of(project, owner_id).steps, replace(step, id=new_id()))
            project = with_steps(project, owner_id, steps)
        self._edit(project, tr("Paste {title}", title=translated(step.tool.title)))

    def apply_recipe(self, recipes: Mapping[str, Recipe], same: str = "add") -> None:
        """Give owners the steps of a recipe, in the order of the recipe, as one entry of history.

        ``recipes`` holds what each owner gets; for ``same`` see :func:`pulizia.score.step_rows.with_recipe`.
        """
        project = self.project
        for owner_id, recipe in recipes.items():
            owner = owner_of(project, owner_id)
            project = with_steps(project, owner_id, rows.with_recipe(owner.steps, recipe.steps_for(owner.rate), same))
        names = dict.fromkeys(translated(recipe.name) for recipe in recipes.values())
        self._edit(project, tr("Apply {name}", name=", ".join(names)))

    # -- changing

    def change_settings(self, owner_id: str, step_id: str, **changes: Any) -> None:  # noqa: ANN401
        """Change settings of a step; changes of one setting in a row are one entry of history."""
        self._change(
            owner_id, step_id, lambda s: s.with_settings(**changes),
            tr("Change {title}", title=self._title(owner_id, step_id)), merge_key=f"{step_id}:{','.join(changes)}",
        )  # fmt: skip

    def use_settings(self, owner_id: str, step_id: str, settings: Settings) -> None:
        """Give a step other settings of its tool, as one entry of history."""
        words = tr("Change {title}", title=self._title(owner_id, step_id))
        self._change(owner_id, step_id, lambda s: replace(s, settings=settings), words)

    def compare_settings(self, owner_id: str, step_id: str, side: str) -> None:
        """Show the other side of a step's settings, "A" or "B"; the first time it begins as a copy. One entry of history."""

        def switched(step: Step) -> Step:
            other = step.compared[1] if step.compared is not None else step.settings
            return replace(step, settings=other, compared=(side, step.settings))

        words = tr("Compare settings of {title}", title=self._title(owner_id, step_id))
        self._change(owner_id, step_id, switched, words)

    def set_channels(self, owner_id: str, step_id: str, channels: tuple[int, ...] | None) -> None:
        """Let a step act on these channels alone, or on all of them (None)."""
        words = tr("Change the channels of {title}", title=self._title(owner_id, step_id))
        self._change(owner_id, step_id, lambda s: replace(s, channels=channels), words)

    def set_enabled(self, owner_id: str, step_id: str, *, enabled: bool) -> None:
        """Switch a step on or off."""
        title = self._title(owner_id, step_id)
        words = tr("Switch {title} on", title=title) if enabled else tr("Switch {title} off", title=title)
        self._change(owner_id, step_id, lambda s: replace(s, enabled=enabled), words)

    def set_all_enabled(self, owner_id: str, step_ids: Collection[str], *, enabled: bool) -> None:
        """Switch several steps on or off, as one entry of history."""
        steps = owner_of(self.project, owner_id).steps
        count = sum(s.id in step_ids for s in steps)
        words = (
            plural("Switch 1 step on", "Switch {n} steps on", count)
            if enabled
            else plural("Switch 1 step off", "Switch {n} steps off", count)
        )
        self._put(owner_id, tuple(replace(s, enabled=enabled) if s.id in step_ids else s for s in steps), words)

    def remove_steps(self, owner_id: str, step_ids: Collection[str]) -> None:
        """Take several steps out of the row, as one entry of history."""
        steps = owner_of(self.project, owner_id).steps
        words = plural("Remove 1 step", "Remove {n} steps", sum(s.id in step_ids for s in steps))
        self._put(owner_id, tuple(s for s in steps if s.id not in step_ids), words)

    def move_steps(self, owner_id: str, step_ids: Collection[str], place: int) -> None:
        """Move several steps together before the step at a place, as one entry of history."""
        steps = owner_of(self.project, owner_id).steps
        words = plural("Move 1 step", "Move {n} steps", sum(s.id in step_ids for s in steps))
        self._put(owner_id, rows.moved_together(steps, step_ids, place), words)

    def set_spans(self, owner_id: str, step_id: str, spans: tuple[Span, ...] | None, *, merge: bool = False) -> None:
        """Let a step act in these sections only; None is everywhere."""
        if spans is not None:
            spans = clipped(normalised(spans), owner_of(self.project, owner_id).frames)
            if not spans:
                message = tr("The section lies outside the recording. Select a section inside it.")
                raise ProjectError(message)
        words = tr("Change where {title} applies", title=self._title(owner_id, step_id))
        key = f"{step_id}:spans" if merge else None
        self._change(owner_id, step_id, lambda s: replace(s, spans=spans), words, merge_key=key)

    def act_there(self, owner_id: str, step_id: str, span: Span) -> None:
        """Let a step act in this section as well, also where the original was restored."""
        frames = owner_of(self.project, owner_id).frames

        def acting(step: Step) -> Step:
            spans = None if step.spans is None else clipped(normalised([*step.spans, span]), frames)
            return replace(step, spans=spans, holes=without(step.holes, [span]))

        words = tr("Change where {title} applies", title=self._title(owner_id, step_id))
        self._change(owner_id, step_id, acting, words)

    def apply_everywhere(self, owner_id: str, step_id: str) -> None:
        """Let a step act everywhere, also where the original was restored: one entry of history."""
        words = tr("Apply {title} everywhere", title=self._title(owner_id, step_id))
        self._change(owner_id, step_id, lambda s: replace(s, spans=None, holes=()), words)

    def move_step(self, owner_id: str, step_id: str, place: int) -> None:
        """Move a step in the order."""
        words = tr("Move {title}", title=self._title(owner_id, step_id))
        self._put(owner_id, rows.moved(owner_of(self.project, owner_id).steps, step_id, place), words)

    def remove_step(self, owner_id: str, step_id: str) -> None:
        """Take a step out of the row."""
        words = tr("Remove {title}", title=self._title(owner_id, step_id))
        self._put(owner_id, rows.without(owner_of(self.project, owner_id).steps, step_id), words)

    def give_back(self, owner_id: str, span: Span) -> bool:
        """Give the original back in a section; False when no step acts there."""
        owner = owner_of(self.project, owner_id)
        changed = rows.restored(owner.steps, span, owner.frames)
        if changed == owner.steps:
            return False
        self._put(owner_id, changed, tr("Restore original"))
        return True

    def give_back_in(self, places: Iterable[tuple[str, Span]]) -> bool:
        """Give the original back in sections of several owners, as one entry of history; False when no step acts there."""
        project = self.project
        for owner_id, span in places:
            owner = owner_of(project, owner_id)
            project = with_steps(project, owner_id, rows.restored(owner.steps, span, owner.frames))
        if project == self.project:
            return False
        self._edit(project, tr("Restore original"))
        return True


def _titles(steps: Sequence[Step]) -> str:
    return ", ".join(translated(step.tool.title) for step in steps)
