# SPDX-License-Identifier: GPL-3.0-or-later
"""What a session tells of itself: events that can be connected to, and sentences for the person. No Qt."""

from __future__ import annotations

from collections.abc import Callable
from typing import Generic, ParamSpec

P = ParamSpec("P")


class Event(Generic[P]):
    """Calls whoever is connected, in the order in which they came."""

    def __init__(self) -> None:
        self._calls: list[Callable[P, object]] = []

    def connect(self, call: Callable[P, object]) -> None:
        """Call ``call`` whenever it happens."""
        self._calls.append(call)

    def emit(self, *values: P.args, **named: P.kwargs) -> None:
        """Tell everybody."""
        for call in self._calls:
            call(*values, **named)


class Events:
    """All events of a session.

    Attributes
    ----------
    document, current, selection, listening, measures, pictures, playing, surveys, findings, queue, film
        Something of it has changed; whoever wants to know looks for itself.
    busy, answered
        Work that somebody waits for has begun or gone on; it has ended.
    message
        A sentence for the person, and whether it tells of something that failed.
    shown
        First and last frame that somebody was taken to.
    """

    def __init__(self) -> None:
        self.document: Event[[]] = Event()
        self.current: Event[[]] = Event()
        self.selection: Event[[]] = Event()
        self.listening: Event[[]] = Event()
        self.measures: Event[[]] = Event()
        self.pictures: Event[[]] = Event()
        self.busy: Event[[]] = Event()
        self.answered: Event[[]] = Event()
        self.playing: Event[[]] = Event()
        self.surveys: Event[[]] = Event()
        self.findings: Event[[]] = Event()
        self.queue: Event[[]] = Event()
        self.film: Event[[]] = Event()
        self.message: Event[str, bool] = Event()
        self.shown: Event[int, int] = Event()


class Telling:
    """What tells of itself by events."""

    def __init__(self) -> None:
        self.events = Events()

    def say(self, text: str, *, bad: bool = False) -> None:
        """Show a sentence to the person."""
        self.events.message.emit(text, bad)
