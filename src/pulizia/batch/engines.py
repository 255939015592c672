# SPDX-License-Identifier: GPL-3.0-or-later
"""What does the work of a batch: this process, processes of this machine, or the workers of a cluster.

All of them are used through the face of ``concurrent.futures``.
"""

from __future__ import annotations

import os
import signal
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import BrokenExecutor, CancelledError, Executor, Future, ProcessPoolExecutor
from contextlib import contextmanager
from multiprocessing import get_context, parent_process
from typing import Any, Protocol

from pulizia import __version__
from pulizia.batch.stopping import ends_with
from pulizia.errors import PuliziaError

CONNECT_S = 10.0
WORKERS_S = 30.0
END_S = 5.0
AGAIN_S = 0.2


class Engine(Protocol):
    """Where work is done."""

    where: str

    @property
    def width(self) -> int:
        """How many files are worked on at once."""

    def submit(self, work: Callable[..., Any], *given: object) -> Future[Any]:
        """Hand work on; all of it must be picklable."""

    def is_lost(self, error: BaseException) -> bool:
        """Whether this error means that the worker is gone, and not that the work failed."""

    def stop(self) -> None:
        """Drop what waits and end what runs."""


class _Here(Executor):
    """Work done at once in this process: one file after the other needs no second one."""

    def submit(self, fn: Callable[..., Any], /, *args: object, **kwargs: object) -> Future[Any]:
        done: Future[Any] = Future()
        try:
            done.set_result(fn(*args, **kwargs))
        except Exception as error:  # noqa: BLE001 - it belongs to the future
            done.set_exception(error)
        return done


def _be_a_worker() -> None:
    """Ctrl+C is for the process that hands the work out; being ended, a worker removes what it has half written.

    A worker whose parent was killed ends as well: nobody else would end it.
    """
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    ends_with(signal.SIGTERM, SystemExit)
    threading.Thread(target=_end_with_parent, name="parent", daemon=True).start()


def _end_with_parent() -> None:
    parent = parent_process()
    if parent is not None:
        parent.join()
        while True:  # the first one ends the work, a further one the wait for more; to the thread that waits
            signal.pthread_kill(threading.main_thread().ident or 0, signal.SIGTERM)
            time.sleep(AGAIN_S)


class LocalEngine:
    """Processes of this machine; one alone works in this process."""

    where = "this machine"

    def __init__(self, workers: int) -> None:
        self.width = max(1, min(workers, os.cpu_count() or 1))
        self._pool: Executor | None = None

    def submit(self, work: Callable[..., Any], *given: object) -> Future[Any]:
        """See :class:`Engine`."""
        if self._pool is None:
            spawn = get_context("spawn")  # a fork would carry threads and locks of this process along
            one = self.width == 1
            self._pool = _Here() if one else ProcessPoolExecutor(self.width, spawn, initializer=_be_a_worker)
        try:
            return self._pool.submit(work, *given)
        except BrokenExecutor as error:
            failed: Future[Any] = Future()
            failed.set_exception(error)
            return failed

    def is_lost(self, error: BaseException) -> bool:
        """A process of the pool ended by itself: the pool is made anew with the next work."""
        if isinstance(error, BrokenExecutor):
            self._pool = None
            return True
        return False

    def stop(self) -> None:
        """See :class:`Engine`."""
        if self._pool is None:
            return
        running = list((getattr(self._pool, "_processes", None) or {}).values())  # there is no public way to end them
        self._pool.shutdown(wait=False, cancel_futures=True)
        for process in running:
            process.terminate()
        for process in running:
            process.join(END_S)
            process.kill()


class ClusterEngine:
    """Workers that a Dask scheduler knows; they see the same files under the same paths."""

    def __init__(self, address: str) -> None:
        try:
            from distributed import Client, KilledWorker
            from distributed.client import FutureCancelledError
        except ImportError as error:
            message = "--on needs the package distributed. Install it with pip install 'pulizia[cluster]'."
            raise PuliziaError(message) from error
        connect: Any = Client  # the package declares no types
        self.where = address
        self._lost = (KilledWorker, FutureCancelledError, CancelledError)
        try:
            self._client: Any = connect(address, timeout=CONNECT_S, set_as_default=False, name="pulizia")
        except (OSError, ValueError, TypeError) as error:
            message = f"No scheduler answers at {address}. Start one with dask scheduler, and give its address as tcp://HOST:8786."
            raise PuliziaError(message) from error
        self._executor = self._client.get_executor(pure=False)
        self._check_workers()

    def _check_workers(self) -> None:
        try:
            self._client.wait_for_workers(1, timeout=WORKERS_S)
        except TimeoutError as error:
            self._client.close()
            message = f"The scheduler at {self.where} has no workers. Start some with dask worker {self.where}."
            raise PuliziaError(message) from error
        versions: dict[str, object] = self._client.run(version_here, on_error="return")
        for worker, found in versions.items():
            if found != __version__:
                self._client.close()
                state = f"has Pulizia {found}" if isinstance(found, str) else "has no Pulizia"
                message = f"The worker at {worker} {state}; this is {__version__}. Install the same version everywhere."
                raise PuliziaError(message)

    @property
    def width(self) -> int:
        """Threads of all workers that are there now."""
        threads: dict[str, int] = self._client.nthreads()
        return max(1, sum(threads.values()))

    def submit(self, work: Callable[..., Any], *given: object) -> Future[Any]:
        """See :class:`Engine`."""
        future: Future[Any] = self._executor.submit(work, *given)
        return future

    def is_lost(self, error: BaseException) -> bool:
        """The scheduler gave the work up because its workers ended."""
        return isinstance(error, self._lost)

    def stop(self) -> None:
        """See :class:`Engine`."""
        self._executor.shutdown(wait=False)  # drops what waits
        self._client.close()


def version_here() -> str:
    """The version of the program where this is called."""
    return __version__


@contextmanager
def engine_of(address: str | None, jobs: int) -> Iterator[Engine]:
    """The cluster at an address, or processes of this machine.

    Raises
    ------
    PuliziaError
        When nobody answers there, workers have another version, or the optional package is missing.
    """
    engine: Engine = ClusterEngine(address) if address else LocalEngine(jobs)
    try:
        yield engine
    finally:
        engine.stop()
