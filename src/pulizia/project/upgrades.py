# SPDX-License-Identifier: GPL-3.0-or-later
"""Older project files, brought forward one version at a time."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any


def _with_markers(content: dict[str, Any]) -> dict[str, Any]:
    """Version 2 keeps markers with each recording."""
    return content | {"recordings": [row | {"markers": []} for row in content["recordings"]]}


def _with_left(content: dict[str, Any]) -> dict[str, Any]:
    """Version 3 keeps the kinds of trouble that shall stay."""
    return content | {"recordings": [row | {"left": []} for row in content["recordings"]]}


def _with_trim(content: dict[str, Any]) -> dict[str, Any]:
    """Version 4 keeps what of a recording is the programme."""
    return content | {"recordings": [row | {"trim": None} for row in content["recordings"]]}


def _with_regions(content: dict[str, Any]) -> dict[str, Any]:
    """Version 5 lets a marker have a length and a note, and knows the digest of a whole file."""
    return content


def _with_programmes(content: dict[str, Any]) -> dict[str, Any]:
    """Version 6 keeps the programmes that are made of recordings."""
    return content | {"programmes": []}


def _with_received(content: dict[str, Any]) -> dict[str, Any]:
    """Version 7 keeps the edit list that a programme was made of."""
    return content | {"programmes": [row | {"received": None} for row in content["programmes"]]}


UPGRADES: dict[int, Callable[[dict[str, Any]], dict[str, Any]]] = {
    1: _with_markers,
    2: _with_left,
    3: _with_trim,
    4: _with_regions,
    5: _with_programmes,
    6: _with_received,
}
"""From each older version to the next."""


def upgraded(content: dict[str, Any], version: int) -> dict[str, Any]:
    """The content as the current version would have written it."""
    while content["version"] < version:
        content = UPGRADES[content["version"]](content) | {"version": content["version"] + 1}
    return content
