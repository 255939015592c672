# SPDX-License-Identifier: GPL-3.0-or-later
"""The one reader of our JSON files: what cannot be read is one sentence, whatever it is."""

from __future__ import annotations

import json
from typing import Any

from pulizia.errors import PuliziaError
from pulizia.words import tr

DEEPEST = 64
LONGEST_TEXT = 100_000


def parsed(text: str, name: str, error: type[PuliziaError], way_out: str) -> Any:  # noqa: ANN401 - JSON
    """The value of a text of JSON.

    Raises
    ------
    error
        When it is no JSON, nested too deeply, or holds numbers or texts beyond all measure; ``way_out``
        says what to do.
    """

    def damaged(what: str) -> str:
        return tr("{name} is damaged: {what}. {way_out}", name=name, what=what, way_out=way_out)

    try:
        value = json.loads(text)
    except RecursionError as cause:
        message = damaged(tr("it is nested too deeply"))
        raise error(message) from cause
    except json.JSONDecodeError as cause:
        message = damaged(tr("not readable as JSON (line {number}: {value})", number=cause.lineno, value=cause.msg))
        raise error(message) from cause
    except ValueError as cause:  # a number of thousands of digits
        message = damaged(tr("it holds a number that is too long"))
        raise error(message) from cause
    if problem := _problem(value):
        raise error(damaged(problem))
    return value


def _problem(value: object) -> str:
    """What no file of ours holds; "" when there is nothing of it."""
    waiting: list[tuple[object, int]] = [(value, 0)]
    while waiting:
        item, depth = waiting.pop()
        if depth > DEEPEST:
            return tr("it is nested too deeply")
        if isinstance(item, dict):
            waiting += [(inner, depth + 1) for pair in item.items() for inner in pair]
        elif isinstance(item, list):
            waiting += [(inner, depth + 1) for inner in item]
        elif isinstance(item, str) and len(item) > LONGEST_TEXT:
            return tr("it holds a text of {count} characters", count=len(item))
    return ""
