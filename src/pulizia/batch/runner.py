# SPDX-License-Identifier: GPL-3.0-or-later
"""Takes files through an engine: claims, hands on, repeats what was lost, and tells what became of each."""

from __future__ import annotations

import socket
import time
from collections import deque
from collections.abc import Callable
from concurrent.futures import FIRST_COMPLETED, Future, wait
from dataclasses import dataclass, field
from enum import Enum
from pathlib import Path
from typing import Any, Protocol

from pulizia.batch.engines import Engine
from pulizia.batch.ledger import Answer, Item, Ledger
from pulizia.errors import OutputExistsError, PuliziaError
from pulizia.media.leftovers import remove_leftovers

TRIES = 3
LOOK_AGAIN_S = 1.0  # at files that another run is working on
AHEAD = 2  # files handed on beyond those that are worked on, so that no worker waits for the next


@dataclass(frozen=True, slots=True)
class Result:
    """What a file's work has to say: lines for people, and a row of plain JSON values for programs."""

    lines: tuple[str, ...] = ()
    row: dict[str, Any] | list[Any] | None = None


class Work(Protocol):
    """What is done to each file. ``overwrite`` says that an output that is there may be replaced."""

    def __call__(self, path: Path, target: Path | None, *, overwrite: bool) -> Result:
        """Do it; raises PuliziaError with one sentence for a person."""


class Became(Enum):
    """What became of a file."""

    DONE = "done"
    FAILED = "failed"
    THERE = "there"  # done before, or by another run


@dataclass(frozen=True, slots=True)
class Outcome:
    """One file with what became of it."""

    item: Item
    became: Became
    told: Result = field(default_factory=Result)
    error: str = ""


def sentence_of(error: PuliziaError) -> str:
    """What an error says on the command line, with the way out that only the command line has."""
    return f"{error} Or allow it to be replaced: --overwrite." if isinstance(error, OutputExistsError) else str(error)


def attempt(work: Work, path: Path, target: Path | None, overwrite: bool, asked_from: str) -> tuple[Result, str]:  # noqa: FBT001 - handed over by position
    """Do one file; a fault that a person can mend becomes its sentence. Runs where the engine puts it."""
    try:
        if socket.gethostname() != asked_from and not path.exists():
            return (
                Result(),
                f"{path} is not there on {socket.gethostname()}. Give every machine the same files and folders.",
            )
        return work(path, target, overwrite=overwrite), ""
    except PuliziaError as error:
        return Result(), sentence_of(error)
    except MemoryError:
        return Result(), "There is not enough memory for this. Close other programs."
    except Exception as error:  # noqa: BLE001 - a fault with one file must not stop the others
        from pulizia.media.faults import note_fault

        return Result(), note_fault(error, f"Work on {path.name}")


@dataclass(slots=True)
class _Flight:
    item: Item
    overwrite: bool
    tries: int = 0


class Runner:
    """A batch under way. Add files, take turns until nothing is left, then close.

    Parameters
    ----------
    work : what is done; picklable
    ledger : what is written down; None for work that nobody takes up again
    since : work done before this moment (seconds of the clock) is done again
    overwrite : outputs that are there may be replaced
    """

    def __init__(
        self, work: Work, engine: Engine, ledger: Ledger | None, *, since: float = 0.0, overwrite: bool = False
    ) -> None:
        self._work, self._engine, self._ledger = work, engine, ledger
        self._since, self._overwrite = since, overwrite
        self._waiting: deque[Item] = deque()
        self._elsewhere: list[Item] = []  # another run has them
        self._looked = 0.0
        self._suspects: deque[_Flight] = deque()  # lost once: they go on alone, so that one cannot take others along
        self._flying: dict[Future[tuple[Result, str]], _Flight] = {}
        self._swept: set[Path] = set()

    def add(self, item: Item) -> None:
        """One more file."""
        self._waiting.append(item)

    @property
    def is_idle(self) -> bool:
        """Whether nothing is left to do."""
        return not (self._waiting or self._elsewhere or self._suspects or self._flying)

    def turn(self, wait_s: float = 0.5) -> list[Outcome]:
        """Hand on what fits, wait a moment, and return what became of files since the last turn."""
        if self._elsewhere and time.monotonic() - self._looked > LOOK_AGAIN_S:
            self._looked = time.monotonic()
            self._waiting.extend(self._elsewhere)
            self._elsewhere.clear()
        ended = self._hand_on()
        if not self._flying:
            if not ended and self._elsewhere:
                time.sleep(min(wait_s, LOOK_AGAIN_S))
            return ended
        done, _ = wait(self._flying, timeout=0.0 if ended else wait_s, return_when=FIRST_COMPLETED)
        for future in done:
            outcome = self._landed(self._flying.pop(future), future)
            if outcome is not None:
                ended.append(outcome)
        return ended

    def close(self) -> None:
        """Remove what workers that were lost have left; an engine does not always tell that it lost one."""
        for folder in self._swept:
            remove_leftovers(folder)

    def _hand_on(self) -> list[Outcome]:
        ended: list[Outcome] = []
        if self._suspects:
            if not self._flying:
                self._start(self._suspects.popleft())
            return ended
        most = self._engine.width + (AHEAD if self._engine.width > 1 else 0)
        while self._waiting and len(self._flying) < most:
            item = self._waiting.popleft()
            claim = self._ledger.claim(item, since=self._since) if self._ledger else None
            if claim is None or claim.answer is Answer.TAKEN:
                self._sweep(item)
                self._start(_Flight(item, self._overwrite or (claim is not None and claim.own)))
                if self._engine.width == 1:
                    break  # it is done already; tell it before the next
            elif claim.answer is Answer.BUSY:
                self._elsewhere.append(item)
            else:
                ended.append(Outcome(item, Became.THERE, _told_of(claim.told or {})))
        return ended

    def _sweep(self, item: Item) -> None:
        """Remove what killed processes left in the folder of an output, once."""
        if item.target is not None and item.target.parent not in self._swept:
            self._swept.add(item.target.parent)
            remove_leftovers(item.target.parent)

    def _start(self, flight: _Flight) -> None:
        flight.tries += 1
        future = self._engine.submit(
            attempt, self._work, flight.item.path, flight.item.target, flight.overwrite, socket.gethostname()
        )
        self._flying[future] = flight

    def _landed(self, flight: _Flight, future: Future[tuple[Result, str]]) -> Outcome | None:
        error = future.exception()
        if error is not None and self._engine.is_lost(error):
            self._swept.clear()
            self._sweep(flight.item)
            if flight.tries < TRIES:
                self._suspects.append(flight)
                return None
            why = f"{flight.item.path.name} was given up: the process that had it ended {TRIES} times. Free memory, or repair it alone."
        elif error is not None:
            why = f"{flight.item.path.name} could not be processed ({type(error).__name__}: {error})."
        else:
            told, why = future.result()
            if not why:
                if self._ledger is not None:
                    self._ledger.finish(flight.item, {"lines": list(told.lines), "row": told.row})
                return Outcome(flight.item, Became.DONE, told)
        if self._ledger is not None:
            self._ledger.fail(flight.item, why)
        return Outcome(flight.item, Became.FAILED, error=why)


def _told_of(kept: dict[str, Any]) -> Result:
    return Result(tuple(kept.get("lines", ())), kept.get("row"))


def run_all(runner: Runner, tell: Callable[[Outcome], None]) -> None:
    """Take turns until nothing is left."""
    while not runner.is_idle:
        for outcome in runner.turn():
            tell(outcome)
    runner.close()
