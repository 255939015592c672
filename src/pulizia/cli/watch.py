# SPDX-License-Identifier: GPL-3.0-or-later
"""`pulizia watch`: what arrives in a folder is repaired and delivered, until it is stopped."""

from __future__ import annotations

import argparse
import time
from functools import partial
from pathlib import Path
from typing import Any

from pulizia.batch.engines import engine_of
from pulizia.batch.ledger import NAME, Item, Ledger
from pulizia.batch.runner import Became, Outcome, Runner, Work
from pulizia.batch.watch import WatchedFolder, moved_aside
from pulizia.cli import deliver, repair
from pulizia.cli.batch import for_workers, order_of, print_outcome, stopped_politely
from pulizia.cli.outputs import add_output_flags, deliverable_of
from pulizia.cli.parsing import seconds
from pulizia.delivery.normalise import WAYS
from pulizia.delivery.targets import target_of
from pulizia.errors import DeliveryError, DiskError
from pulizia.media import suffixes
from pulizia.media.folders import config_folder
from pulizia.score.recipe_library import find_recipe

LOOK_S = 1.0
NOT_HERE = {"also": (), "reels": False, "programme": None, "recording": None, "keep": None, "json": False, "noise": None,
            "dual_mono": False, "limit_hard": False, "head_s": 0.0, "tail_s": 0.0, "fade_in_s": 0.0, "fade_out_s": 0.0,
            "pop": None}  # fmt: skip
"""Flags of single deliveries and repairs that a standing order has no use for."""


def add_to(commands: Any) -> None:  # noqa: ANN401 - argparse keeps the type private
    """Declare the command."""
    command = commands.add_parser("watch", help="repair and deliver what arrives in a folder, until it is stopped")
    command.add_argument("folder", type=Path, help="where files arrive")
    first = command.add_mutually_exclusive_group()
    first.add_argument("--recipe", help="a recipe's JSON file, or the name of one")
    first.add_argument("--treat", action="store_true", help="inspect each file and treat the problems that are found")
    command.add_argument("--target", help="deliver to a loudness target; see `pulizia targets`")
    command.add_argument("--way", choices=tuple(WAYS), default="limit", help="how the target is reached (limit)")
    command.add_argument("-o", "--output", type=Path, required=True, help="the folder to write to; another one")
    command.add_argument("--report", type=Path, metavar="FOLDER", help="a report of each delivery, as a page")
    command.add_argument("--failed", type=Path, metavar="FOLDER",
                         help="where files go that cannot be processed, each with a sentence (failed, in FOLDER)")  # fmt: skip
    command.add_argument(
        "--settle", type=seconds, default=5.0, metavar="S", help="a file is complete when it stood still so long (5)"
    )
    command.add_argument("--once", action="store_true", help="end when all that is there is done")
    command.add_argument("--jobs", type=int, default=2, help="files processed at once on this machine (2)")
    command.add_argument("--on", metavar="ADDRESS", help="let the workers of a Dask scheduler do it")
    command.add_argument("--ledger", type=Path, metavar="FILE",
                         help=f"where it is written down what is done ({NAME} in the output folder)")  # fmt: skip
    add_output_flags(command, pictures=True)
    command.set_defaults(run=run, **NOT_HERE)


def run(options: argparse.Namespace) -> int:
    """Watch until SIGTERM or Ctrl+C; 0 also then, for that is how it ends."""
    work, order = _order(options)
    _check(options)
    failed_folder = options.failed or options.folder / "failed"
    ledger = Ledger(options.ledger or options.output / NAME, order)
    try:
        with stopped_politely(), engine_of(options.on, options.jobs) as engine:
            runner = Runner(work, engine, ledger, overwrite=options.overwrite)
            print(f"Watching {options.folder}. Stop with Ctrl+C.", flush=True)
            try:
                _watch(options, runner, ledger, failed_folder)
            finally:
                runner.close()
    except KeyboardInterrupt:
        print("Stopped. What was not finished is taken up at the next start.")
    finally:
        ledger.close()
    return 0


def _order(options: argparse.Namespace) -> tuple[Work, str]:
    recipe = find_recipe(options.recipe) if options.recipe else None
    options.files, options.several = [], True
    slim = for_workers(options)
    slim.several = True
    if options.target:
        target = target_of(options.target, config_folder("targets"))
        return partial(deliver.one, target=target, recipe=recipe, options=slim), order_of(options, recipe, target)
    if recipe is None and not options.treat:
        message = "Say what is to be done with what arrives: --recipe or --treat, --target, or both."
        raise DeliveryError(message)
    return partial(repair.repair, recipe=recipe, options=slim), order_of(options, recipe)


def _check(options: argparse.Namespace) -> None:
    if not options.folder.is_dir():
        message = f"The folder {options.folder} does not exist. Make it, or name another one."
        raise DiskError(message)
    if options.output.exists() and options.output.samefile(options.folder):
        message = "What is written would arrive again. Choose an output folder that is not the watched one."
        raise DeliveryError(message)
    if not options.settle >= 0:
        message = "--settle takes seconds, 0 or more."
        raise DeliveryError(message)
    for folder in (options.output, options.report):
        if folder is not None and folder.parent.is_dir() and not folder.exists():
            folder.mkdir()
    deliverable_of(options, options.output / f"a.{options.format or 'wav'}")


def _watch(options: argparse.Namespace, runner: Runner, ledger: Ledger, failed_folder: Path) -> None:
    arrivals = WatchedFolder(options.folder, suffixes.ALL, settle_s=options.settle)
    outputs = _Outputs(options.output, options.format or "wav", ledger)
    while True:
        for path in arrivals.arrived():
            runner.add(Item(path, outputs.of(path)))
        began = time.monotonic()
        for outcome in runner.turn(LOOK_S):
            _tell(outcome, failed_folder)
        if options.once and runner.is_idle and not arrivals.unsettled:
            return
        time.sleep(max(0.0, min(LOOK_S, options.settle / 2) - (time.monotonic() - began)) if runner.is_idle else 0.0)


class _Outputs:
    """Names of outputs: the input's own, with its ending in it where another input has taken the plain one."""

    def __init__(self, folder: Path, ending: str, ledger: Ledger) -> None:
        self._folder, self._ending, self._ledger = folder, ending, ledger
        self._inputs: dict[Path, str] = {}

    def of(self, path: Path) -> Path:
        """The output of an input, the same one after a restart."""
        plain = self._folder / f"{path.stem}.{self._ending}"
        taken_by = self._inputs.get(plain) or self._ledger.input_of(Item(path, plain)) or str(path)
        target = plain if taken_by == str(path) else plain.with_stem(f"{path.stem}-{path.suffix[1:].lower()}")
        self._inputs[target] = str(path)
        return target


def _tell(outcome: Outcome, failed_folder: Path) -> None:
    if outcome.became is Became.THERE:
        return
    print_outcome(outcome)
    if outcome.became is Became.FAILED and outcome.item.path.exists():
        try:
            moved_aside(outcome.item.path, failed_folder, outcome.error)
        except DiskError as error:
            print_outcome(Outcome(outcome.item, Became.FAILED, error=str(error)))
