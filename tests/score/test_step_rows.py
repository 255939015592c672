# SPDX-License-Identifier: GPL-3.0-or-later
"""Steps that join others: those of a recipe stay in its order, whatever the row holds already."""

from __future__ import annotations

from itertools import pairwise

from hypothesis import given
from hypothesis import strategies as st

from pulizia.audio.spans import Span
from pulizia.score.order import order_note
from pulizia.score.recipe_library import shipped_recipes
from pulizia.score.step_rows import added, with_recipe
from pulizia.score.steps import Step, make_step
from pulizia.tools.registry import tool_of

TOOLS = ("overload", "clicks", "hum", "noise", "room_tail", "equaliser", "split_compressor", "leveller", "limiter")
SHORT = (Span(0, 100),)
ROW = st.lists(
    st.builds(lambda tool, short: make_step(tool, spans=SHORT if short else None), st.sampled_from(TOOLS), st.booleans()), max_size=6,
)  # fmt: skip


def places(row: tuple[Step, ...], steps: list[Step]) -> list[int]:
    ids = [s.id for s in row]
    return [ids.index(s.id) for s in steps if s.id in ids]


@given(there=ROW, recipe=ROW, same=st.sampled_from(["add", "keep", "replace"]))
def test_a_recipe_and_the_row_it_joins_both_keep_their_order(there: list[Step], recipe: list[Step], same: str) -> None:
    made = with_recipe(there, recipe, same)
    was, new = places(made, there), places(made, recipe)
    assert was == sorted(was)
    assert new == sorted(new)
    assert len(was) == len(there)  # nothing that was there goes
    met, left = 0, [s.tool_id for s in there if s.spans is None]
    for step in recipe:
        if same != "add" and step.spans is None and step.tool_id in left:
            left.remove(step.tool_id)
            met += 1
    assert len(new) == len(recipe) - met
    assert len(made) == len(there) + len(new)
    changed = [s for s in made if s.id in {old.id for old in there} and s not in there]
    assert same == "replace" or not changed


@given(recipe=ROW)
def test_a_recipe_alone_is_what_the_command_line_makes_of_it(recipe: list[Step]) -> None:
    assert with_recipe((), recipe, "replace") == with_recipe((), recipe) == tuple(recipe)


@given(there=ROW, tool=st.sampled_from(TOOLS))
def test_a_step_goes_behind_those_that_come_before_it(there: list[Step], tool: str) -> None:
    row: tuple[Step, ...] = ()
    for step in there:
        row = added(row, step)
    row = added(row, make_step(tool))
    orders = [tool_of(s.tool_id).order for s in row]
    assert all(a <= b for a, b in pairwise(orders))


def test_a_step_of_a_recipe_takes_the_settings_of_the_one_that_is_there() -> None:
    there = [make_step("noise", {"reduction_db": 6.0}), make_step("leveller")]
    recipe = [make_step("equaliser"), make_step("noise", {"reduction_db": 20.0}), make_step("clicks")]
    row = with_recipe(there, recipe, "replace")
    assert [s.tool_id for s in row] == ["noise", "equaliser", "clicks", "leveller"]
    assert row[0].id == there[0].id
    assert row[0].settings.reduction_db == 20.0


def test_no_recipe_that_is_shipped_holds_an_order_that_harms() -> None:
    for recipe in shipped_recipes().values():
        steps = recipe.steps_for(48_000)
        assert not [order_note(steps, step.id) for step in steps if order_note(steps, step.id)]
