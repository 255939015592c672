# SPDX-License-Identifier: GPL-3.0-or-later
"""Earlier states of a project inside its file: each recording and programme once, however many states hold it."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Callable, Sequence
from typing import Any

from pulizia.errors import ProjectError, SettingsError
from pulizia.project.clips import Programme
from pulizia.project.model import Project, Recording

MOST_STATES, MOST_BYTES = 200, 4 << 20
LONGEST_LABEL = 400

Past = Sequence[tuple[str, Project]]
"""Earlier projects, the oldest first, each with the words of the edit that followed it."""


def past_row(
    past: Past, present: Project, recording_row: Callable[[Recording], dict[str, Any]],
    programme_row: Callable[[Programme], dict[str, Any]],
) -> dict[str, Any] | None:  # fmt: skip
    """The newest states as far as MOST_STATES and MOST_BYTES allow; None when there are none.

    Parts that the present project holds are named by their place in it.
    """
    parts: list[dict[str, Any]] = []
    here = [*map(id, present.recordings), *map(id, present.programmes)]
    known = {
        key: -1 - n for n, key in enumerate(here)
    }  # identity of a value: its place; those of the present from -1 down
    states: list[dict[str, Any]] = []
    size = 0
    for label, project in reversed(past[-MOST_STATES:]):
        new = [(id(r), recording_row(r)) for r in project.recordings if id(r) not in known]
        new += [(id(p), programme_row(p)) for p in project.programmes if id(p) not in known]
        size += sum(len(json.dumps(row)) for _, row in new) + 12 * len(project.recordings)
        if size > MOST_BYTES:
            break
        for key, row in new:
            known[key] = len(parts)
            parts.append(row)
        states.append({
            "label": label[:LONGEST_LABEL], "target": project.target_id,
            "recordings": [known[id(r)] for r in project.recordings],
            "programmes": [known[id(p)] for p in project.programmes],
        })  # fmt: skip
    return {"parts": parts, "states": states[::-1]} if states else None


def past_of(
    row: object, present: Project, recording: Callable[[dict[str, Any]], Recording],
    programme: Callable[[dict[str, Any]], Programme],
) -> list[tuple[str, Project]]:  # fmt: skip
    """The earlier states that a row holds; none when it is damaged: they are a convenience, the project is whole."""
    held = (*present.recordings, *present.programmes)
    found: list[tuple[str, Project]] = []
    with contextlib.suppress(
        KeyError, TypeError, ValueError, AttributeError, IndexError, ArithmeticError, ProjectError, SettingsError
    ):
        if not isinstance(row, dict):
            return []
        parts = [(recording if "score" in part and "fingerprint" in part else programme)(part) for part in row["parts"]]
        made: list[tuple[str, Project]] = []
        for state in row["states"][-MOST_STATES:]:
            of = [parts[i] if i >= 0 else held[-1 - i] for i in (*state["recordings"], *state["programmes"])]
            earlier = Project(
                recordings=tuple(part for part in of if isinstance(part, Recording)),
                programmes=tuple(part for part in of if isinstance(part, Programme)),
                target_id=str(state["target"]), id=present.id,
            )  # fmt: skip
            made.append((str(state["label"])[:LONGEST_LABEL], earlier))
        found = made
    return found
