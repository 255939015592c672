# SPDX-License-Identifier: GPL-3.0-or-later
"""All finders over one recording: what is wrong, where, how much, and which step would mend it.

Each tool says what it treats (``Tool.find``); the order is that in which problems are best treated.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

from pulizia.audio.source import ChannelsSource, Source
from pulizia.errors import Cancelled, PuliziaError
from pulizia.tools.base import AnyTool
from pulizia.tools.finding import Finding, Problem
from pulizia.tools.registry import ALL

Progress = Callable[[float, str], None]
WAIT_S = 0.2
FINDERS: tuple[AnyTool, ...] = tuple(sorted((tool for tool in ALL if tool.find), key=lambda tool: tool.order))
TOGETHER = {"channels", "leveller"}
"""Tools that judge channels together: of several microphones none lacks and none is late, and its quiet phrases are
those of the people who speak into the others."""
PROBLEMS: dict[str, Problem] = {problem.kind: problem for tool in FINDERS for problem in tool.problems}
"""Every kind of problem that is looked for, with its thresholds."""


def inspect(
    source: Source,
    progress: Progress = lambda _share, _what: None,
    *,
    workers: int = 1,
    alone: Sequence[str] = (),
) -> list[Finding]:
    """Everything that was found, in the order in which it is best treated.

    ``progress`` may raise to stop; it is called from this thread only. ``workers`` finders listen at once. ``alone``
    are the names of the channels where these are microphones of their own (see :func:`microphones`): each is then
    listened to by itself. Otherwise channels belong together.
    """
    known: dict[int, list[Finding]] = {}
    looks = _looks(source, alone)
    shares = [0.0] * len(looks)
    finished, stopped = threading.Condition(), threading.Event()

    def look(number: int) -> None:
        def heard(share: float) -> None:
            if stopped.is_set():
                raise Cancelled
            shares[number] = share

        try:
            made = looks[number].found(heard)
        except Cancelled:
            return
        with finished:
            known[number] = made
            shares[number] = 1.0
            finished.notify()

    with ThreadPoolExecutor(workers) as pool:
        jobs = [pool.submit(look, number) for number in range(len(looks))]
        try:
            while not all(job.done() for job in jobs):
                at_work = next((each.tool.id for n, each in enumerate(looks) if n not in known), "done")
                progress(sum(shares) / len(shares), at_work)
                with finished:
                    finished.wait(WAIT_S)
        except BaseException:
            stopped.set()
            raise
        for job in jobs:
            job.result()  # a fault of ours is not kept quiet
    progress(1.0, "done")
    return [finding for number in range(len(looks)) for finding in known[number]]


def not_found(findings: Sequence[Finding], *, alone: bool = False) -> list[str]:
    """Kinds of problem that were looked for and are not there; ``alone`` where each microphone was listened to by itself."""
    alone = alone or any(finding.channels is not None for finding in findings)
    found = {finding.kind for finding in findings}
    looked_for = [p.kind for tool in FINDERS if not (alone and tool.id in TOGETHER) for p in tool.problems]
    return [kind for kind in dict.fromkeys(looked_for) if kind not in found]


@dataclass(frozen=True, slots=True)
class _Look:
    """A tool that listens to a recording, or to one microphone of it."""

    tool: AnyTool
    source: Source
    channel: int = 0
    microphone: str = ""

    def found(self, progress: Callable[[float], None]) -> list[Finding]:
        made = _found(self.tool, self.source, progress)
        return [f.of_microphone(self.channel, self.microphone) for f in made] if self.microphone else made


def _looks(source: Source, alone: Sequence[str]) -> list[_Look]:
    if not alone:
        return [_Look(tool, source) for tool in FINDERS]
    heard = [ChannelsSource(source, [channel]) for channel in range(source.channels)]
    return [
        _Look(tool, heard[channel], channel, name)
        for tool in FINDERS
        if tool.id not in TOGETHER
        for channel, name in enumerate(alone)
    ]


def find_kind(kind: str, source: Source) -> Finding | None:
    """One kind of finding in a source; None when it is not there."""
    tool = next(tool for tool in FINDERS if any(problem.kind == kind for problem in tool.problems))
    return next((f for f in _found(tool, source, lambda _share: None) if f.kind == kind), None)


def find_again(finding: Finding, source: Source) -> Finding | None:
    """The same kind of finding, of the same microphone, in another sound of the recording; None when it is not there."""
    if finding.channels is None:
        return find_kind(finding.kind, source)
    found = find_kind(finding.kind, ChannelsSource(source, finding.channels))
    return None if found is None else found.of_microphone(finding.channels[0], finding.microphone)


def _found(tool: AnyTool, source: Source, progress: Callable[[float], None]) -> list[Finding]:
    if tool.find is None:
        return []
    try:
        return list(tool.find(source, progress))
    except PuliziaError:
        return []  # too short or silent for this finder: nothing to report
