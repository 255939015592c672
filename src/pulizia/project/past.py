# SPDX-License-Identifier: GPL-3.0-or-later
"""Earlier states of a project inside its file: each step, clip, recording and programme once, however many states hold it."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from typing import Any

from pulizia.errors import ProjectError, SettingsError
from pulizia.project.clips import Clip, Programme
from pulizia.project.model import Project, Recording
from pulizia.project.programme_file import clip_row, lane_row, programme_of_row, programme_row
from pulizia.project.rows import step_row
from pulizia.score.steps import Step

MOST_STATES, MOST_BYTES = 200, 4 << 20
LONGEST_LABEL = 400
INDEX_BYTES = 6  # of a place in a list, as text

Row = dict[str, Any]
Past = Sequence[tuple[str, Project]]
"""Earlier projects, the oldest first, each with the words of the edit that followed it."""


class _Pool:
    """Rows of steps and clips that are written once."""

    def __init__(self) -> None:
        self.rows: list[Row] = []
        self.bytes = 0
        self._places: dict[int, int] = {}

    def places(self, things: Iterable[Step | Clip]) -> list[int]:
        """Where each of them stands; new ones are added."""
        found = []
        for thing in things:
            place = self._places.get(id(thing))
            if place is None:
                place = self._places[id(thing)] = len(self.rows)
                row = step_row(thing) if isinstance(thing, Step) else clip_row(thing)
                self.rows.append(row)
                self.bytes += len(json.dumps(row))
            found.append(place)
        self.bytes += INDEX_BYTES * len(found)
        return found


def past_row(past: Past, present: Project, recording_row: Callable[[Recording], Row]) -> Row | None:
    """The newest states as far as MOST_STATES and MOST_BYTES allow; None when there are none.

    Recordings and programmes that the present project holds are named by their place in it, from -1 down.
    """
    pool, parts, states = _Pool(), list[Row](), list[Row]()
    here = [*map(id, present.recordings), *map(id, present.programmes)]
    known = {key: -1 - n for n, key in enumerate(here)}  # identity of a value: its place

    def place(held: Recording | Programme) -> int:
        if id(held) not in known:
            if isinstance(held, Recording):
                row = recording_row(replace(held, score=())) | {"score": pool.places(held.score)}
            else:
                lanes = [lane_row(lane.with_clips(())) | {"clips": pool.places(lane.clips)} for lane in held.lanes]
                row = programme_row(replace(held, lanes=())) | {"lanes": lanes}
            pool.bytes += len(json.dumps(row))
            known[id(held)] = len(parts)
            parts.append(row)
        return known[id(held)]

    for label, project in reversed(past[-MOST_STATES:]):
        state = {
            "label": label[:LONGEST_LABEL], "target": project.target_id,
            "recordings": [place(r) for r in project.recordings], "programmes": [place(p) for p in project.programmes],
        }  # fmt: skip
        pool.bytes += INDEX_BYTES * len(project.recordings)
        if pool.bytes > MOST_BYTES:
            break
        states.append(state)
    return {"pool": pool.rows, "parts": parts, "states": states[::-1]} if states else None


def past_of(row: object, present: Project, recording: Callable[[Row], Recording]) -> list[tuple[str, Project]]:
    """The earlier states that a row holds; none when it is damaged: they are a convenience, the project is whole."""
    with contextlib.suppress(
        KeyError, TypeError, ValueError, AttributeError, IndexError, ArithmeticError, ProjectError, SettingsError
    ):
        if isinstance(row, dict):
            return _states(row, present, recording)
    return []


def _states(row: Row, present: Project, recording: Callable[[Row], Recording]) -> list[tuple[str, Project]]:
    held, pool = (*present.recordings, *present.programmes), row["pool"]
    parts: list[Recording | Programme] = []
    for part in row["parts"]:
        if "lanes" in part:
            lanes = [lane | {"clips": [pool[i] for i in lane["clips"]]} for lane in part["lanes"]]
            parts.append(programme_of_row(part | {"lanes": lanes}))
        else:
            parts.append(recording(part | {"score": [pool[i] for i in part["score"]]}))
    made = []
    for state in row["states"][-MOST_STATES:]:
        of = [parts[i] if i >= 0 else held[-1 - i] for i in (*state["recordings"], *state["programmes"])]
        earlier = Project(
            recordings=tuple(part for part in of if isinstance(part, Recording)),
            programmes=tuple(part for part in of if isinstance(part, Programme)),
            target_id=str(state["target"]), id=present.id,
        )  # fmt: skip
        made.append((str(state["label"])[:LONGEST_LABEL], earlier))
    return made
