# SPDX-License-Identifier: GPL-3.0-or-later
"""Edits of a row of steps as pure functions: each takes one and gives another."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import replace

from pulizia.audio.spans import Span
from pulizia.score.steps import Step

Steps = tuple[Step, ...]


def added(steps: Sequence[Step], step: Step) -> Steps:
    """With a new step at the place that its tool recommends."""
    place = _recommended(steps, step)
    return (*steps[:place], step, *steps[place:])


def _recommended(steps: Sequence[Step], step: Step) -> int:
    return sum(1 for other in steps if other.tool.order <= step.tool.order)


def with_recipe(steps: Sequence[Step], new: Sequence[Step], same: str = "add") -> Steps:
    """With the steps of a recipe in the order of the recipe, each at the earliest at the place that its tool recommends.

    ``same`` says what happens where a step of the same tool acts everywhere already: it is exchanged for the new one
    ("replace"), kept without the new one ("keep"), or joined by it ("add"). Steps that are there stay in their order.
    """
    made, taken, place = list(steps), set[str](), 0
    for step in new:
        old = next((s for s in steps if s.tool_id == step.tool_id and s.spans is None and s.id not in taken), None)
        if old is None or same == "add" or step.spans is not None:
            place = max(place, _recommended(made, step))
            made.insert(place, step)
            place += 1
        else:
            taken.add(old.id)
            here = next(n for n, s in enumerate(made) if s.id == old.id)
            if same == "replace":
                made[here] = replace(step, id=old.id)
            place = max(place, here + 1)
    return tuple(made)


def changed(steps: Sequence[Step], step_id: str, change: Callable[[Step], Step]) -> Steps:
    """With one step changed."""
    return tuple(change(s) if s.id == step_id else s for s in steps)


def without(steps: Sequence[Step], step_id: str) -> Steps:
    """Without one step."""
    return tuple(s for s in steps if s.id != step_id)


def moved(steps: Sequence[Step], step_id: str, place: int) -> Steps:
    """With one step at another place in the order, counted from 0."""
    rest = [s for s in steps if s.id != step_id]
    rest[max(0, min(place, len(rest))) : 0] = [s for s in steps if s.id == step_id]
    return tuple(rest)


def moved_together(steps: Sequence[Step], step_ids: Collection[str], place: int) -> Steps:
    """With several steps side by side, in their order, before the step that now stands at a place."""
    chosen = [s for s in steps if s.id in step_ids]
    before = [s for s in steps[: max(0, place)] if s.id not in step_ids]
    behind = [s for s in steps[max(0, place) :] if s.id not in step_ids]
    return (*before, *chosen, *behind)


def restored(steps: Sequence[Step], span: Span, frames: int) -> Steps:
    """With the original given back in a section: no step but those that set the level acts there."""

    def acts(step: Step) -> bool:
        return any(s.overlaps(span.start, span.stop) for s in step.acts_in(frames))

    return tuple(s if s.tool.sets_level or not acts(s) else s.with_hole(span) for s in steps)
