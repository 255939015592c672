# SPDX-License-Identifier: GPL-3.0-or-later
"""Work that the person waits for: its progress is shown, and it can be stopped. No Qt."""

from __future__ import annotations

import time
from collections.abc import Callable
from weakref import WeakKeyDictionary

from pulizia.session.events import Event
from pulizia.session.jobs import SOON, Job, JobPool
from pulizia.words import tr

Stopped = Callable[[], None] | None


class Awaited:
    """Jobs that somebody asked for and waits for, beside those that the window asks for itself."""

    def __init__(self, pool: JobPool, say: Callable[..., None], busy: Event[[]], answered: Event[[]]) -> None:
        self._pool, self._say, self._busy, self._answered = pool, say, busy, answered
        self._stopped: WeakKeyDictionary[Job, Stopped] = WeakKeyDictionary()
        self._goes_on = False
        # monotonic seconds: when what is waited for was begun, files one after the other counted as one
        self.since = 0.0

    def begin(
        self, work: Callable[[Job], object], title: str, done: Callable[..., None],
        failed: Callable[[str], None] | None = None, stopped: Stopped = None, slot: str | None = None,
    ) -> Job:  # fmt: skip
        """Do work in the background; one of ``done``, ``failed`` and ``stopped`` is called on the interface's thread.

        A newer request in the same ``slot`` takes the place of the older one, of which nothing is heard any more.
        """
        begun: list[Job] = []

        def finished(result: object) -> None:
            over()
            self._go_on(lambda: done(result))

        def broken(sentence: str) -> None:
            over()
            self._go_on(lambda: (failed or (lambda text: self._say(text, bad=True)))(sentence))

        def over() -> None:  # its thread may not have left it yet
            for job in begun:
                self._stopped.pop(job, None)

        if not self._goes_on and not self.jobs:
            self.since = time.monotonic()
        job = self._pool.submit(
            work, title=title, priority=SOON, slot=slot, on_done=finished, on_error=broken,
            on_progress=lambda _share: self._busy.emit(),
        )  # fmt: skip
        begun.append(job)
        self._stopped[job] = stopped
        self._busy.emit()
        return job

    def _go_on(self, answer: Callable[[], None]) -> None:
        """Answer; what is begun by the answer belongs to the same wait."""
        self._goes_on = True
        try:
            answer()
        finally:
            self._goes_on = False
        self._answered.emit()

    @property
    def jobs(self) -> list[Job]:
        """Those that run or wait, the running ones first."""
        return [job for job in self._pool.busy if job in self._stopped]

    def stop(self) -> None:
        """Stop all of it; what was done before stays."""
        jobs = self.jobs
        for job in jobs:
            job.cancel()
        calls = dict.fromkeys(call for job in jobs if (call := self._stopped[job]) is not None)
        if jobs and not calls:
            self._say(tr("{title}: stopped.", title=jobs[0].title))
        for call in calls:
            call()
        self._answered.emit()
