# SPDX-License-Identifier: GPL-3.0-or-later
"""Many files, one after the other or two at once; a failure does not stop the rest."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor, as_completed
from dataclasses import dataclass
from multiprocessing import get_context
from pathlib import Path

from pulizia.errors import PuliziaError


@dataclass(frozen=True, slots=True)
class Outcome:
    """What became of one file."""

    path: Path
    lines: tuple[str, ...]
    error: str = ""


Work = Callable[[Path, Path], tuple[str, ...]]


def attempt(work: Work, path: Path, target: Path) -> Outcome:
    """Do one file; a fault that a person can mend becomes its sentence."""
    try:
        return Outcome(path, work(path, target))
    except PuliziaError as error:
        return Outcome(path, (), str(error))
    except MemoryError:
        return Outcome(path, (), "There is not enough memory for this. Close other programs.")
    except Exception as error:  # noqa: BLE001 - a fault with one file must not stop the others
        from pulizia.media.faults import note_fault

        return Outcome(path, (), note_fault(error, f"Work on {path.name}"))


def run_batch(work: Work, files: Sequence[Path], targets: Sequence[Path], *, jobs: int, resume: bool) -> int:
    """Do all files, tell each result, and end with a summary; 1 when any failed."""
    pairs = [(a, b) for a, b in zip(files, targets, strict=True) if not (resume and b.exists())]
    kept = len(files) - len(pairs)
    failed: list[Outcome] = []
    for number, outcome in enumerate(_outcomes(work, pairs, jobs), 1):
        head = f"[{number}/{len(pairs)}] " if len(files) > 1 else ""
        if outcome.error:
            failed.append(outcome)
            print(f"pulizia: {head}{outcome.error}", file=sys.stderr)
        for n, line in enumerate(outcome.lines):
            print((head if n == 0 else "") + line)
    if len(files) > 1:
        words = [f"{len(pairs) - len(failed)} of {len(files)} files written"]
        words += [f"{kept} were there already"] if kept else []
        words += [f"{len(failed)} failed: {', '.join(o.path.name for o in failed)}"] if failed else []
        print("; ".join(words) + ".")
    return 1 if failed else 0


def _outcomes(work: Work, pairs: list[tuple[Path, Path]], jobs: int) -> Iterator[Outcome]:
    workers = min(jobs, len(pairs), os.cpu_count() or 1)
    if workers <= 1:
        for path, target in pairs:
            yield attempt(work, path, target)
        return
    with ProcessPoolExecutor(workers, mp_context=get_context("spawn")) as pool:
        waiting = [pool.submit(attempt, work, path, target) for path, target in pairs]
        for future in as_completed(waiting):
            yield future.result()
