# SPDX-License-Identifier: GPL-3.0-or-later
"""What a session tells of itself: named events, and sentences for the person. No Qt."""

from __future__ import annotations

from collections.abc import Callable

EVENTS = (
    "document",
    "current",
    "selection",
    "listening",
    "measures",
    "pictures",
    "message",
    "busy",
    "playing",
    "surveys",
    "findings",
    "queue",
    "film",
    "shown",  # first and last frame that somebody was taken to
)


class Events:
    """Calls whoever wants to know of an event; see EVENTS."""

    def __init__(self) -> None:
        self._events: dict[str, list[Callable[..., None]]] = {name: [] for name in EVENTS}

    def on(self, event: str, call: Callable[..., None]) -> None:
        """Call ``call`` whenever ``event`` happens; see EVENTS."""
        self._events[event].append(call)

    def emit(self, event: str, *values: object) -> None:
        """Tell everybody."""
        for call in self._events[event]:
            call(*values)

    def say(self, text: str, *, bad: bool = False) -> None:
        """Show a sentence to the person."""
        self.emit("message", text, bad)
