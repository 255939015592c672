# SPDX-License-Identifier: GPL-3.0-or-later
"""Nothing that is heard or told changes unnoticed: every option of every tool, and every measure, against kept figures.

After a change that was meant: python -m tests.golden.figures, and read what differs before it is kept.
"""

from __future__ import annotations

import json
from functools import cache
from typing import Any

import pytest
from tests.golden.figures import FILE, differences, measure_figures, pair_figures, tool_figures, tools


@cache
def kept() -> dict[str, Any]:
    return json.loads(FILE.read_text())


def told(now: dict[str, Any], was: dict[str, Any]) -> str:
    changed = list(differences(was, json.loads(json.dumps(now))))
    return "\n".join([f"{len(changed)} figures have changed:", *changed[:20]]) if changed else ""


def test_every_tool_has_figures_of_every_variant() -> None:
    assert kept().keys() == {"measures", "pairs", *tools()}
    assert sum(map(len, kept().values())) > 180
    assert not [row for rows in kept().values() for row in rows.values() if isinstance(row, str)]  # none is refused


@pytest.mark.parametrize(
    "tool_id",
    [
        pytest.param(name, marks=pytest.mark.slow)
        if name in ("areas", "clicks", "hum", "noise", "room_tail", "sibilance")
        else name
        for name in tools()
    ],
)
def test_a_tool_makes_what_it_made(tool_id: str) -> None:
    changed = told(tool_figures(tool_id), kept()[tool_id])
    assert not changed, changed


@pytest.mark.slow
def test_the_measures_say_what_they_said() -> None:
    changed = told(measure_figures(), kept()["measures"])
    assert not changed, changed


@pytest.mark.slow
def test_what_is_told_of_two_sounds_and_seen_of_meters_is_what_it_was() -> None:
    changed = told(pair_figures(), kept()["pairs"])
    assert not changed, changed
