# SPDX-License-Identifier: GPL-3.0-or-later
"""Many files, several at once, on this machine or on a cluster; a failure does not stop the rest."""

from __future__ import annotations

import argparse
import hashlib
import json
import os
import signal
import sys
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from pulizia import __version__
from pulizia.batch.engines import engine_of
from pulizia.batch.ledger import NAME, Item, Ledger
from pulizia.batch.runner import Became, Outcome, Runner, Work, run_all
from pulizia.batch.stopping import ends_with
from pulizia.delivery.deliver import check_output
from pulizia.errors import DeliveryError

WHERE = {
    "files",
    "output",
    "jobs",
    "resume",
    "on",
    "ledger",
    "overwrite",
    "run",
    "command",
    "log",
    "folder",
    "failed",
    "once",
    "settle",
    "report",
    "several",
}
"""Flags that say where and how, not what is done to the sound."""


def add_batch_flags(command: argparse.ArgumentParser, *, writes: bool) -> None:
    """Declare the flags of commands that take many files."""
    command.add_argument("--jobs", type=int, default=2, help="files processed at once on this machine (2)")
    command.add_argument(
        "--on", metavar="ADDRESS", help="let the workers of a Dask scheduler do it, such as tcp://server:8786"
    )
    command.add_argument(
        "--ledger",
        type=Path,
        metavar="FILE",
        help="where it is written down what is done"
        + (f" ({NAME} in the output folder, until all is done)" if writes else " (nowhere)"),
    )
    command.add_argument(
        "--resume",
        action="store_true",
        help="leave what is done already" if writes else "leave what the ledger says is done; needs --ledger",
    )


def order_of(options: argparse.Namespace, *contents: object) -> str:
    """A name for what is done to each file: the same settings give the same name, on every machine."""
    flags = {k: str(v) for k, v in sorted(vars(options).items()) if k not in WHERE}
    text = json.dumps([__version__, options.command, flags, [repr(content) for content in contents]])
    return hashlib.blake2b(text.encode(), digest_size=16).hexdigest()


def for_workers(options: argparse.Namespace) -> argparse.Namespace:
    """The options without the list of all files: it would travel with each of them."""
    slim = argparse.Namespace(**vars(options))
    slim.files, slim.several = [], len(options.files) > 1
    return slim


def run_batch(
    work: Work, files: Sequence[Path], targets: Sequence[Path | None], options: argparse.Namespace, *, order: str
) -> tuple[int, list[Outcome]]:
    """Do all files and tell each result as it comes, with a summary at the end.

    Returns 1 when any failed, else 0, and all outcomes in the order of the files.
    """
    items = [Item(path, target) for path, target in zip(files, targets, strict=True)]
    _check(items, options)
    outcomes: dict[str, Outcome] = {}
    began = time.time()
    with (
        stopped_politely(),
        ledger_of(options, items, order) as ledger,
        engine_of(options.on, min(options.jobs, len(items))) as engine,
    ):
        runner = Runner(
            work, engine, ledger, since=0.0 if options.resume else began, overwrite=getattr(options, "overwrite", False)
        )
        for item in items:
            runner.add(item)

        def tell(outcome: Outcome) -> None:
            outcomes[outcome.item.key] = outcome
            if outcome.became is not Became.THERE or outcome.item.target is None:
                print_outcome(outcome, f"[{len(outcomes)}/{len(items)}] " if len(items) > 1 else "")

        run_all(runner, tell)
    if len(items) > 1:
        _sum_up(items, outcomes)
    failed = any(outcome.became is Became.FAILED for outcome in outcomes.values())
    return int(failed), [outcomes[item.key] for item in items if item.key in outcomes]


def print_outcome(outcome: Outcome, head: str = "") -> None:
    """What became of one file, on the stream where it belongs."""
    if outcome.error:
        print(f"pulizia: {head}{outcome.error}", file=sys.stderr, flush=True)
    for n, line in enumerate(outcome.told.lines):
        print((head if n == 0 else "") + line, flush=True)


def print_rows(outcomes: Sequence[Outcome]) -> None:
    """The rows of all files as JSON: one alone as it is, several as a list, with what failed in it."""
    rows = [o.told.row if not o.error else {"file": str(o.item.path), "error": o.error} for o in outcomes]
    if len(rows) > 1:
        print(json.dumps(rows, indent=1))
    elif rows and not outcomes[0].error:
        print(json.dumps(rows[0], indent=1))


def _sum_up(items: Sequence[Item], outcomes: dict[str, Outcome]) -> None:
    became = [outcome.became for outcome in outcomes.values()]
    there = became.count(Became.THERE)
    failed = [o.item.path.name for o in outcomes.values() if o.became is Became.FAILED]
    writes = any(item.target is not None for item in items)
    words = [f"{became.count(Became.DONE)} of {len(items)} files {'written' if writes else 'done'}"]
    words += [f"{there} were there already"] if there else []
    words += [f"{len(failed)} failed: {', '.join(failed)}"] if failed else []
    print("; ".join(words) + ".", file=sys.stdout if writes else sys.stderr)


def _check(items: Sequence[Item], options: argparse.Namespace) -> None:
    """Outputs that are among the inputs, or two of one name, before any work is done; DeliveryError."""
    inputs = {_real(item.path) for item in items}
    for item in items:
        if item.target is not None and _real(item.target) in inputs:
            check_output(item.target, inputs=[item.target], overwrite=True)
    if options.resume and options.ledger is None and items and items[0].target is None:
        message = "--resume needs the ledger of the earlier run. Name it with --ledger."
        raise DeliveryError(message)


def _real(path: Path) -> str:
    try:
        return os.path.realpath(path)
    except (OSError, ValueError):  # a name that no disk can hold
        return str(path)


def ledger_path(options: argparse.Namespace, items: Sequence[Item], *, several: bool) -> Path:
    """Where the ledger of a run lies; an empty path where there is none."""
    if options.ledger is not None:
        return Path(options.ledger)
    if items and items[0].target is not None and (several or options.on or options.resume):
        return items[0].target.parent / NAME
    return Path()


@contextmanager
def ledger_of(options: argparse.Namespace, items: Sequence[Item], order: str) -> Iterator[Ledger | None]:
    """The ledger of a run, closed at its end, or None."""
    path = ledger_path(options, items, several=len(items) > 1)
    if path == Path():
        yield None
        return
    ledger = Ledger(path, order)
    try:
        yield ledger
    finally:
        ledger.close()
    if options.ledger is None and not (options.resume or options.on) and ledger.is_done:
        path.unlink(missing_ok=True)  # nothing is left to take up: only what was asked for stays in the folder


@contextmanager
def stopped_politely() -> Iterator[None]:
    """SIGTERM ends a batch as Ctrl+C does: what is written is whole, what is not is given back."""
    try:
        take_back = ends_with(signal.SIGTERM, KeyboardInterrupt)
    except ValueError:  # not in the main thread
        yield
        return
    try:
        yield
    finally:
        take_back()
