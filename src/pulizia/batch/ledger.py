# SPDX-License-Identifier: GPL-3.0-or-later
"""What is done of a batch, in one SQLite file beside the outputs, safe against two runs at once.

An entry belongs to an output (or, where nothing is written, to an input). A run claims an entry before it hands
the work on, renews its claims while it lives, and writes down what became of them. A claim that is not renewed
for a while, or whose process is gone, is free again: its run was killed.
"""

from __future__ import annotations

import json
import os
import socket
import sqlite3
import threading
import time
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from enum import Enum
from pathlib import Path
from typing import Any

from pulizia.errors import DiskError
from pulizia.media.leftovers import is_running

NAME = "pulizia-ledger.sqlite"
FORMAT = 1
STALE_S = 60.0
RENEW_S = 10.0
WAIT_S = 30.0  # for another run that is writing just now
TABLE = """
CREATE TABLE IF NOT EXISTS entries (
  key TEXT PRIMARY KEY, input TEXT NOT NULL, state TEXT NOT NULL, work TEXT NOT NULL,
  status TEXT NOT NULL, owner TEXT NOT NULL, renewed REAL NOT NULL, ended REAL NOT NULL,
  tries INTEGER NOT NULL, own INTEGER NOT NULL, told TEXT NOT NULL, error TEXT NOT NULL
)"""


@dataclass(frozen=True, slots=True)
class Item:
    """One file of a batch: what is read, and what is written (None where nothing is)."""

    path: Path
    target: Path | None = None

    @property
    def key(self) -> str:
        """Under which the ledger knows it."""
        return os.path.abspath(self.target or self.path)


class Answer(Enum):
    """What a claim came to."""

    TAKEN = "taken"  # it is ours to do
    DONE = "done"  # the same work was done with the same input
    BUSY = "busy"  # another run is at it


@dataclass(frozen=True, slots=True)
class Claim:
    """The answer, whether an output that is there was begun by this very work, and what was told when it was done."""

    answer: Answer
    own: bool = False
    told: dict[str, Any] | None = None


@dataclass(frozen=True, slots=True)
class Entry:
    """One row, for people and tests."""

    key: str
    input: str
    status: str
    tries: int
    error: str


class Ledger:
    """The ledger of a folder as one run sees it. Used by one thread; claims are renewed by another of its own.

    Parameters
    ----------
    path : the SQLite file, made when missing
    work : names what is done to each file, settings included; other work on the same output is done anew
    """

    def __init__(self, path: Path, work: str) -> None:
        self.path = Path(path)
        self.work = work
        self.owner = f"{socket.gethostname()}:{os.getpid()}:{uuid.uuid4().hex[:8]}"
        with self._writing() as base:
            version = base.execute("PRAGMA user_version").fetchone()[0]
            if version not in (0, FORMAT):
                message = f"{self.path} was made by another version of Pulizia. Remove it, or name another ledger with --ledger."
                raise DiskError(message)
            base.execute(f"PRAGMA user_version = {FORMAT}")
        self._closed = threading.Event()
        self._renewer = threading.Thread(target=self._renew, name="ledger", daemon=True)
        self._renewer.start()

    def claim(self, item: Item, *, since: float) -> Claim:
        """Ask for one file.

        Work that was done before ``since`` (seconds of the clock) is done again. With 0, an output that is there
        and of which the ledger says nothing counts as done: it was made before there was a ledger.
        """
        with self._writing() as base:
            row = base.execute(
                "SELECT work, state, status, owner, renewed, ended, tries, own, told FROM entries WHERE key = ?",
                (item.key,),
            ).fetchone()
            there = item.target is not None and item.target.exists()
            own, tries = not there, 0
            if row is None and there and not since:
                return Claim(Answer.DONE, told={})
            if row is not None:
                work, state, status, owner, renewed, ended, tries, began_here, told = row
                if status == "running" and owner != self.owner and not _is_gone(owner, renewed):
                    return Claim(Answer.BUSY)
                same = work == self.work and state == state_now(item.path)
                if status == "done" and same and (there or item.target is None) and ended >= since:
                    return Claim(Answer.DONE, told=json.loads(told))
                own = own or (status != "done" and bool(began_here) and work == self.work)
            base.execute(
                "INSERT OR REPLACE INTO entries VALUES (?, ?, ?, ?, 'running', ?, ?, 0, ?, ?, '{}', '')",
                (item.key, str(item.path), state_now(item.path), self.work, self.owner, time.time(), tries + 1, own),
            )
            return Claim(Answer.TAKEN, own)

    def finish(self, item: Item, told: dict[str, Any]) -> None:
        """Write down that it is done, with what is to be told of it (plain JSON values)."""
        self._end(item, "done", json.dumps(told), "")

    def fail(self, item: Item, error: str) -> None:
        """Write down why it failed; the next run tries it again."""
        self._end(item, "failed", "{}", error)

    def close(self) -> None:
        """Give back what was claimed and not finished."""
        self._closed.set()
        self._renewer.join()
        with self._writing() as base:
            base.execute("UPDATE entries SET status = 'waiting' WHERE status = 'running' AND owner = ?", (self.owner,))

    @property
    def is_done(self) -> bool:
        """Whether every file that it knows is done."""
        return all(entry.status == "done" for entry in self.entries())

    def entries(self) -> list[Entry]:
        """All rows, by key."""
        with self._writing() as base:
            found = base.execute("SELECT key, input, status, tries, error FROM entries ORDER BY key").fetchall()
        return [Entry(*row) for row in found]

    def input_of(self, item: Item) -> str | None:
        """The input whose output this is, or None where nobody has written it."""
        with self._writing() as base:
            row = base.execute("SELECT input FROM entries WHERE key = ?", (item.key,)).fetchone()
        return None if row is None else str(row[0])

    def _end(self, item: Item, status: str, told: str, error: str) -> None:
        with self._writing() as base:
            base.execute(
                "UPDATE entries SET status = ?, ended = ?, told = ?, error = ? WHERE key = ? AND owner = ?",
                (status, time.time(), told, error, item.key, self.owner),
            )

    def _renew(self) -> None:
        while not self._closed.wait(RENEW_S):
            try:
                with self._writing() as base:
                    base.execute(
                        "UPDATE entries SET renewed = ? WHERE status = 'running' AND owner = ?",
                        (time.time(), self.owner),
                    )
            except DiskError:
                continue  # the next turn may find the disk in order; a claim lasts several turns

    @contextmanager
    def _writing(self) -> Iterator[sqlite3.Connection]:
        """A connection of its own for each deed: nothing is shared between threads, nothing is held between deeds."""
        try:
            base = sqlite3.connect(self.path, timeout=WAIT_S, isolation_level=None)
            try:
                base.execute("BEGIN IMMEDIATE")  # two runs never look and claim at the same time
                base.execute(TABLE)  # a run that was done with all its files may have removed the ledger
                yield base
                base.execute("COMMIT")
            finally:
                base.close()
        except sqlite3.Error as error:
            message = f"The ledger {self.path} cannot be used ({error}). Remove it, or name another one with --ledger."
            raise DiskError(message) from error


def state_now(path: Path) -> str:
    """Size and time of the last change of an input: the same on every machine that sees the file."""
    try:
        found = path.stat()
    except OSError:
        return ""
    return f"{found.st_size}-{found.st_mtime_ns}"


def _is_gone(owner: str, renewed: float) -> bool:
    """Whether the run that holds a claim was killed."""
    host, pid, _ = owner.rsplit(":", 2)
    if host == socket.gethostname() and not is_running(int(pid)):
        return True
    return time.time() - renewed > STALE_S
