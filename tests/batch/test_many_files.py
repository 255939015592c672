# SPDX-License-Identifier: GPL-3.0-or-later
"""Batches as real processes: resumed, shared by two runs, killed in the middle, on a cluster that loses a worker."""

from __future__ import annotations

import json
import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path

import numpy as np
import pytest
import soundfile
from distributed import Client
from tests.conftest import voice_in_noise

from pulizia.batch.engines import LocalEngine
from pulizia.batch.ledger import NAME, Answer, Item, Ledger
from pulizia.batch.runner import Became, Outcome, Result, Runner, run_all
from pulizia.errors import DiskError
from pulizia.media.leftovers import remove_leftovers, temporary_beside

PULIZIA = [sys.executable, "-m", "pulizia"]


def entries(ledger: Path) -> dict[str, tuple[str, int]]:
    """Status and number of claims of each output, by its name."""
    if not ledger.exists():
        return {}
    with closing(sqlite3.connect(ledger, timeout=240)) as base:
        if not base.execute("SELECT name FROM sqlite_master WHERE name = 'entries'").fetchone():
            return {}  # only just begun
        return {Path(k).name: (s, n) for k, s, n in base.execute("SELECT key, status, tries FROM entries")}


def wait_for(told: Callable[[], object], seconds: float = 240.0) -> None:
    """Until something is so; fails when it does not come."""
    end = time.monotonic() + seconds
    while not told():
        assert time.monotonic() < end, "it did not come"
        time.sleep(0.02)


@pytest.fixture(scope="module")
def takes(tmp_path_factory: pytest.TempPathFactory) -> list[Path]:
    """Eight takes of 40 seconds."""
    folder = tmp_path_factory.mktemp("takes")
    paths = [folder / f"take{n}.wav" for n in range(8)]
    for n, path in enumerate(paths):
        soundfile.write(path, np.tile(voice_in_noise(8.0, seed=n), 5).T, 48_000, subtype="PCM_24")
    return paths


@contextmanager
def started(*arguments: object) -> Iterator[subprocess.Popen[str]]:
    """A process, ended whatever happens."""
    process = subprocess.Popen(list(map(str, arguments)), stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
    try:
        yield process
    finally:
        process.kill()
        process.communicate()


def repair(takes: list[Path], out: Path, *more: object) -> list[object]:
    """The command that all of these tests run."""
    return [*PULIZIA, "repair", *takes, "--recipe", "hard-s", "-o", out, *more]


def done_count(out: Path) -> int:
    """How many outputs there are."""
    return len(list(out.glob("*.wav")))


@pytest.mark.slow
def test_a_killed_batch_is_taken_up_where_it_was(takes: list[Path], tmp_path: Path) -> None:
    out = tmp_path / "out"
    with started(*repair(takes, out)) as first:
        wait_for(lambda: [status for status, _ in entries(out / NAME).values()].count("done") >= 2)
        first.send_signal(signal.SIGKILL)
        first.communicate(timeout=240)  # its workers end too, and close what they print to
    whole = {path: path.stat().st_mtime_ns for path in out.glob("*.wav")}
    assert len(whole) < len(takes)
    done_before = {name for name, (status, _) in entries(out / NAME).items() if status == "done"}
    second = subprocess.run(list(map(str, repair(takes, out, "--resume"))), capture_output=True, text=True, check=False)
    assert second.returncode == 0, second.stderr
    assert f"{len(done_before)} were there already" in second.stdout
    assert {status for status, _ in entries(out / NAME).values()} == {"done"}
    assert done_count(out) == len(takes)
    for path, moment in whole.items():
        assert path.name not in done_before or path.stat().st_mtime_ns == moment
    assert not list(out.glob(".pulizia-*"))


@pytest.mark.slow
def test_two_runs_share_the_work_and_do_nothing_twice(takes: list[Path], tmp_path: Path) -> None:
    out = tmp_path / "out"
    out.mkdir()
    with started(*repair(takes, out, "--resume")) as one, started(*repair(takes, out, "--resume")) as other:
        told = [process.communicate(timeout=240)[0] for process in (one, other)]
        assert (one.returncode, other.returncode) == (0, 0), told
    counts = [int(text.splitlines()[-1].split(" of ")[0]) for text in told]
    assert sum(counts) == len(takes)
    assert {(status, tries) for status, tries in entries(out / NAME).values()} == {("done", 1)}


@pytest.mark.slow
def test_sigterm_ends_a_batch_with_whole_files_only(takes: list[Path], tmp_path: Path) -> None:
    out = tmp_path / "out"
    with started(*repair(takes, out)) as run:
        wait_for(lambda: done_count(out) >= 1)
        run.send_signal(signal.SIGTERM)
        told = run.communicate(timeout=240)[0]
    assert run.returncode == 1
    assert "nothing was left half-written" in told
    assert "Traceback" not in told
    for path in out.glob("*.wav"):
        assert soundfile.info(path).frames == 40 * 48_000
    assert not list(out.glob(".pulizia-*"))
    assert {status for status, _ in entries(out / NAME).values()} <= {"done", "waiting"}


ENDED_IN_A_CALLBACK = """
import signal, sys, time, weakref
from pulizia.batch.stopping import ends_with

class Thing: pass

ends_with(signal.SIGTERM, {error})
try:
    for _ in range(2):
        thing = Thing()
        there = weakref.ref(thing, lambda _: (signal.raise_signal(signal.SIGTERM), time.sleep(0)))
        del thing
        time.sleep(20)
except {error}:
    print("whole")
"""


@pytest.mark.parametrize("error", ["SystemExit", "KeyboardInterrupt"])
def test_a_signal_whose_error_is_thrown_away_is_heard_a_moment_later(error: str) -> None:
    """In the callback of a weak reference the interpreter prints an error and goes on."""
    code = ENDED_IN_A_CALLBACK.format(error=error)
    run = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=15, check=False)
    assert run.stdout == "whole\n"
    assert run.stderr == ""


@pytest.fixture
def cluster(tmp_path: Path) -> Iterator[tuple[str, list[subprocess.Popen[str]]]]:
    """A scheduler and two workers on this machine."""
    file = tmp_path / "scheduler.json"
    dask = [sys.executable, "-m", "dask"]
    quiet = ("--no-dashboard",)
    with started(
        *dask, "scheduler", "--host", "127.0.0.1", "--port", "0", "--scheduler-file", file, "--no-show", *quiet
    ):
        wait_for(lambda: file.exists() and file.read_text().rstrip().endswith("}"))  # it is whole
        address = json.loads(file.read_text())["address"]
        worker = (*dask, "worker", address, "--host", "127.0.0.1", "--nthreads", "1", "--no-nanny", *quiet)
        with started(*worker) as one, started(*worker) as other:
            with Client(address, timeout=60, set_as_default=False) as client:
                client.wait_for_workers(2, timeout=240)
            yield address, [one, other]


@pytest.mark.slow
def test_a_cluster_that_loses_a_worker_does_every_file_once(
    takes: list[Path], tmp_path: Path, cluster: tuple[str, list[subprocess.Popen[str]]]
) -> None:
    address, workers = cluster
    out, here = tmp_path / "out", tmp_path / "here"
    with started(*repair(takes, out, "--on", address)) as run:
        wait_for(lambda: done_count(out) >= 2)
        workers[0].kill()
        told = run.communicate(timeout=400)[0]
    assert run.returncode == 0, told
    assert f"{len(takes)} of {len(takes)} files written." in told
    assert {status for status, _ in entries(out / NAME).values()} == {"done"}
    assert not list(out.glob(".pulizia-*"))
    subprocess.run(list(map(str, repair(takes[:2], here))), check=True, capture_output=True)
    for path in here.glob("*.wav"):
        assert np.array_equal(soundfile.read(path)[0], soundfile.read(out / path.name)[0])
    rows = subprocess.run(
        [*PULIZIA, "measure", *map(str, takes[:3]), "--json", "--on", address],
        check=True,
        capture_output=True,
        text=True,
    ).stdout
    alone = subprocess.run(
        [*PULIZIA, "measure", *map(str, takes[:3]), "--json"], check=True, capture_output=True, text=True
    )
    assert json.loads(rows) == json.loads(alone.stdout)


@pytest.mark.slow
def test_a_cluster_that_is_not_there_is_one_sentence(takes: list[Path]) -> None:
    soon = "from pulizia.batch import engines; engines.CONNECT_S = 1.0; from pulizia.cli.main import run; run()"
    run = subprocess.run(
        [sys.executable, "-c", soon, "measure", str(takes[0]), "--on", "tcp://127.0.0.1:9"],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert run.returncode == 1
    assert run.stderr.startswith("pulizia: No scheduler answers at tcp://127.0.0.1:9.")
    assert len(run.stderr.strip().splitlines()) == 1


def _dies(path: Path, target: Path | None, *, overwrite: bool) -> Result:
    """Ends its process for one of the files, as the system does when memory runs out."""
    del target, overwrite
    if path.stem == "take1":
        os.kill(os.getpid(), signal.SIGKILL)
    return Result((path.name,))


@pytest.mark.slow
def test_a_file_that_ends_its_process_is_given_up_and_takes_no_other_along(takes: list[Path]) -> None:
    engine = LocalEngine(2)
    runner = Runner(_dies, engine, None)
    for path in takes[:4]:
        runner.add(Item(path))
    outcomes: list[Outcome] = []
    run_all(runner, outcomes.append)
    engine.stop()
    became = {outcome.item.path.stem: outcome.became for outcome in outcomes}
    assert became == {f"take{n}": Became.FAILED if n == 1 else Became.DONE for n in range(4)}
    assert "given up" in next(o.error for o in outcomes if o.became is Became.FAILED)


def test_the_ledger_knows_input_work_output_and_who_is_at_it(takes: list[Path], tmp_path: Path) -> None:
    take = Path(shutil.copy(takes[0], tmp_path / "take.wav"))
    item = Item(take, tmp_path / "out.wav")
    ledger, other = Ledger(tmp_path / "l.sqlite", "work"), Ledger(tmp_path / "l.sqlite", "work")
    assert ledger.claim(item, since=0).answer is Answer.TAKEN
    assert other.claim(item, since=0).answer is Answer.BUSY
    item.target.write_bytes(b"half")  # type: ignore[union-attr] - it is given above
    ledger.close()  # ended without an answer
    again = other.claim(item, since=0)
    assert (again.answer, again.own) == (Answer.TAKEN, True)  # the half output is of this work and may be replaced
    other.finish(item, {"lines": ["done"]})
    assert other.claim(item, since=0).told == {"lines": ["done"]}
    assert other.claim(item, since=time.time() + 1).answer is Answer.TAKEN  # what was done earlier does not count
    other.finish(item, {})
    take.write_bytes(b"another input")
    changed = other.claim(item, since=0)
    assert (changed.answer, changed.own) == (Answer.TAKEN, False)  # and what is there is not simply replaced
    other.fail(item, "why")
    assert [(e.status, e.error) for e in other.entries()] == [("failed", "why")]
    other.close()


def test_a_damaged_ledger_is_a_sentence(tmp_path: Path) -> None:
    (tmp_path / "l.sqlite").write_bytes(b"no database" * 100)
    with pytest.raises(DiskError, match="cannot be used"):
        Ledger(tmp_path / "l.sqlite", "work")
    with closing(sqlite3.connect(tmp_path / "n.sqlite")) as base:
        base.execute("PRAGMA user_version = 9")
    with pytest.raises(DiskError, match="another version"):
        Ledger(tmp_path / "n.sqlite", "work")


def test_only_what_killed_processes_left_is_removed(tmp_path: Path) -> None:
    handle, mine = temporary_beside(tmp_path)
    os.close(handle)
    gone = subprocess.run(
        [sys.executable, "-c", "import os; print(os.getpid())"], capture_output=True, text=True, check=True
    )
    of_a_killed_one = Path(mine.replace(f"-{os.getpid()}-", f"-{gone.stdout.strip()}-"))
    of_another_machine = tmp_path / ".pulizia-elsewhere-1-abc.part"
    old = tmp_path / ".pulizia-elsewhere-1-old.part"
    for path in (of_a_killed_one, of_another_machine, old):
        path.touch()
    os.utime(old, (0, 0))
    assert remove_leftovers(tmp_path) == 2
    assert {path.name for path in tmp_path.iterdir()} == {Path(mine).name, of_another_machine.name}
