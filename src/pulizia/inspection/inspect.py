# SPDX-License-Identifier: GPL-3.0-or-later
"""All finders over one recording: what is wrong, where, how much, and which step would mend it.

Each tool says what it treats (``Tool.find``); the order is that in which problems are best treated.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

from pulizia.audio.source import Source
from pulizia.errors import Cancelled, PuliziaError
from pulizia.tools.base import AnyTool
from pulizia.tools.finding import Finding, Problem
from pulizia.tools.registry import ALL

Progress = Callable[[float, str], None]
WAIT_S = 0.2
FINDERS: tuple[AnyTool, ...] = tuple(sorted((tool for tool in ALL if tool.find), key=lambda tool: tool.order))
PROBLEMS: dict[str, Problem] = {problem.kind: problem for tool in FINDERS for problem in tool.problems}
"""Every kind of problem that is looked for, with its thresholds."""


def inspect(source: Source, progress: Progress = lambda _share, _what: None, *, workers: int = 1) -> list[Finding]:
    """Everything that was found, in the order in which it is best treated.

    ``progress`` may raise to stop; it is called from this thread only. ``workers`` finders listen at once.
    """
    known: dict[str, list[Finding]] = {}
    shares = dict.fromkeys((tool.id for tool in FINDERS), 0.0)
    finished, stopped = threading.Condition(), threading.Event()

    def look(tool: AnyTool) -> None:
        def heard(share: float) -> None:
            if stopped.is_set():
                raise Cancelled
            shares[tool.id] = share

        try:
            made = _found(tool, source, heard)
        except Cancelled:
            return
        with finished:
            known[tool.id] = made
            shares[tool.id] = 1.0
            finished.notify()

    with ThreadPoolExecutor(workers) as pool:
        jobs = [pool.submit(look, tool) for tool in FINDERS]
        try:
            while not all(job.done() for job in jobs):
                at_work = next((tool.id for tool in FINDERS if tool.id not in known), "done")
                progress(sum(shares.values()) / len(shares), at_work)
                with finished:
                    finished.wait(WAIT_S)
        except BaseException:
            stopped.set()
            raise
        for job in jobs:
            job.result()  # a fault of ours is not kept quiet
    progress(1.0, "done")
    return [finding for tool in FINDERS for finding in known[tool.id]]


def find_kind(kind: str, source: Source) -> Finding | None:
    """One kind of finding in a source; None when it is not there."""
    tool = next(tool for tool in FINDERS if any(problem.kind == kind for problem in tool.problems))
    found = _found(tool, source, lambda _share: None)
    return next((finding for finding in found if finding.kind == kind), None)


def _found(tool: AnyTool, source: Source, progress: Callable[[float], None]) -> list[Finding]:
    if tool.find is None:
        return []
    try:
        return list(tool.find(source, progress))
    except PuliziaError:
        return []  # too short or silent for this finder: nothing to report
