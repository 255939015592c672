"""Older project files, brought forward one version at a time."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

UPGRADES: dict[int, Callable[[dict[str, Any]], dict[str, Any]]] = {}
"""From each older version to the next; empty while version 1 is the first."""


def upgraded(content: dict[str, Any], version: int) -> dict[str, Any]:
    """The content as the current version would have written it."""
    while content["version"] < version:
        content = UPGRADES[content["version"]](content) | {"version": content["version"] + 1}
    return content
