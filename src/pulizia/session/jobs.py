# SPDX-License-Identifier: GPL-3.0-or-later
"""Background work: prioritised, cancellable, with progress. No Qt; a poster brings answers home."""

from __future__ import annotations

import contextlib
import heapq
import itertools
import os
import threading
import time
from collections.abc import Callable
from typing import Any
from weakref import WeakValueDictionary

from pulizia.errors import Cancelled, PuliziaError
from pulizia.media.faults import note_fault
from pulizia.session.memory import give_back
from pulizia.words import tr

Post = Callable[[Callable[[], None]], None]
FIRST, VISIBLE, SOON, LATER = -1, 0, 1, 2
"""Priorities: a first impression, what is on screen, what will be next, the rest.

Work of priority LATER runs on one thread at a time: it never keeps the others waiting. A first impression, which is
there in an instant, has a thread of its own: it does not wait until long work lets go of one.
"""


class Job:
    """One piece of work and what became of it."""

    def __init__(self, work: Callable[[Job], Any], title: str) -> None:
        self.title = title
        self.share = 0.0
        self.work = work
        self.on_done: Callable[[Any], None] | None = None
        self.on_error: Callable[[str], None] | None = None
        self.on_progress: Callable[[float], None] | None = None
        self.finished = threading.Event()
        self._cancelled = threading.Event()

    def cancel(self) -> None:
        """Ask the work to stop; its answer will be dropped."""
        self._cancelled.set()

    @property
    def is_cancelled(self) -> bool:
        """Whether it was asked to stop."""
        return self._cancelled.is_set()

    def cancelled_within(self, seconds: float) -> bool:
        """Wait a little; whether it was asked to stop meanwhile."""
        return self._cancelled.wait(seconds)

    def progress(self, share: float) -> None:
        """Called by the work with 0..1; raises Cancelled when it was asked to stop."""
        if self._cancelled.is_set():
            raise Cancelled
        self.share = share
        if self.on_progress is not None:
            self.on_progress(share)


BEHIND = 5  # how much less urgent workers are for the system than the window and the sound
MOST_CANCELLED = 8  # that wait
TOLD_EVERY_S = 0.04


class JobPool:
    """A few threads that take the most urgent and, among equals, the newest request first.

    Parameters
    ----------
    post
        Runs a function on the thread that owns the interface (or right away without one).
    threads
        How many requests run at once; from two on, one more takes first impressions alone.
    """

    def __init__(self, post: Post = lambda call: call(), threads: int = 2) -> None:
        self._post = post
        self._queue: list[tuple[int, int, Job]] = []
        self._order = itertools.count()
        self._slots: WeakValueDictionary[str, Job] = WeakValueDictionary()  # until answered
        self._lock = threading.Condition()
        self._closing = False
        self._later = 0
        self._alone_until = 0.0
        self._running: set[Job] = set()
        self.unexpected: list[str] = []  # faults of ours, for tests to find
        self.fault: Callable[[str], None] = lambda _text: None
        self._threads = [
            threading.Thread(target=self._work, args=(FIRST if n == threads else LATER,), name=f"job-{n}", daemon=True)
            for n in range(threads + (threads > 1))
        ]
        for thread in self._threads:
            thread.start()

    def submit(
        self,
        work: Callable[[Job], Any],
        *,
        title: str = "",
        priority: int = SOON,
        slot: str | None = None,
        on_done: Callable[[Any], None] | None = None,
        on_error: Callable[[str], None] | None = None,
        on_progress: Callable[[float], None] | None = None,
    ) -> Job:
        """Queue work. A newer request in the same ``slot`` cancels the older one.

        ``on_done(result)``, ``on_error(sentence)`` and, now and then, ``on_progress(share)`` are posted.
        """
        job = Job(work, title)
        job.on_done, job.on_error = on_done, on_error
        if on_progress is not None:
            job.on_progress = self._now_and_then(job, on_progress)
        with self._lock:
            if slot is not None:
                if (old := self._slots.get(slot)) is not None:
                    old.cancel()
                self._slots[slot] = job
            heapq.heappush(self._queue, (priority, -next(self._order), job))
            self._drop_cancelled()
            self._lock.notify_all()  # the one that would wake may be the one for first impressions
        return job

    def _now_and_then(self, job: Job, told: Callable[[float], None]) -> Callable[[float], None]:
        """Post progress no more often than it can be seen: work may tell it thousands of times a second."""
        last = 0.0

        def tell(share: float) -> None:
            nonlocal last
            now = time.monotonic()
            if now - last >= TOLD_EVERY_S or share >= 1.0:
                last = now
                self._post(lambda: None if job.is_cancelled else told(share))

        return tell

    def _drop_cancelled(self) -> None:
        """What was cancelled while it waited leaves, with the sound that it holds, though the threads never come to it."""
        waiting = [entry for entry in self._queue if not entry[2].is_cancelled]
        if len(self._queue) - len(waiting) > MOST_CANCELLED:
            for _, _, job in self._queue:
                if job.is_cancelled:
                    job.finished.set()
            heapq.heapify(waiting)
            self._queue = waiting

    def one_at_a_time(self, seconds: float) -> None:
        """Let one thread alone take requests for a while: a hand is at work, and window and sound want the processor."""
        with self._lock:
            self._alone_until = time.monotonic() + seconds

    @property
    def busy(self) -> list[Job]:
        """Jobs that are running or waiting and were not cancelled."""
        with self._lock:
            waiting = [job for _, _, job in self._queue]
            return [job for job in [*self._running, *waiting] if not job.is_cancelled]

    def close(self) -> None:
        """Cancel everything and wait for the threads."""
        with self._lock:
            self._closing = True
            for job in [*self._running, *(job for _, _, job in self._queue)]:
                job.cancel()
            self._queue.clear()
            self._lock.notify_all()
        for thread in self._threads:
            thread.join(timeout=20)

    def _work(self, least: int) -> None:
        with contextlib.suppress(OSError, AttributeError):
            os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), BEHIND)
        while True:
            with self._lock:
                while not self._is_work_for_now(least) and not self._closing:
                    left = self._alone_until - time.monotonic()
                    self._lock.wait(left if self._queue and left > 0.0 else None)
                if self._closing:
                    return
                priority, _, job = heapq.heappop(self._queue)
                self._running.add(job)
                self._later += priority >= LATER
            try:
                if not job.is_cancelled:
                    self._run(job)
            finally:
                with self._lock:
                    self._running.discard(job)
                    if priority >= LATER:
                        self._later -= 1
                        self._lock.notify_all()
                    idle = not self._queue and not self._running
                job.finished.set()
                if idle:
                    give_back()

    def _is_work_for_now(self, least: int) -> bool:
        if not self._queue or self._queue[0][0] > least:
            return False
        if self._running and time.monotonic() < self._alone_until:
            return False
        return self._queue[0][0] < LATER or self._later == 0

    def _run(self, job: Job) -> None:
        try:
            result = job.work(job)
        except Cancelled:
            return
        except PuliziaError as error:
            self._answer(job, job.on_error or self.fault, str(error))
        except MemoryError:
            self._answer(job, job.on_error or self.fault, tr("There is not enough memory for this."))
        except Exception as error:  # noqa: BLE001 - a fault of ours must not end the thread silently
            self.unexpected.append(f"{job.title}: {error!r}")
            sentence = note_fault(error, job.title or tr("A background task"))
            self._answer(job, job.on_error or self.fault, sentence)
        else:
            if job.on_done is not None:
                self._answer(job, job.on_done, result)

    def _answer(self, job: Job, call: Callable[[Any], None], value: Any) -> None:  # noqa: ANN401
        if not self._closing:
            self._post(lambda: None if job.is_cancelled else call(value))
