# SPDX-License-Identifier: GPL-3.0-or-later
"""`pulizia inspect`: what is wrong with a recording, where, and which step would mend it."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Iterator, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

from pulizia.audio.source import Source
from pulizia.batch.runner import Result
from pulizia.cli.batch import add_batch_flags, for_workers, order_of, print_rows, run_batch
from pulizia.cli.measure import cleaned_note
from pulizia.cli.progress import TerminalProgress
from pulizia.errors import RecipeError
from pulizia.inspection.inspect import inspect, not_found
from pulizia.inspection.microphones import microphones
from pulizia.inspection.names import looked_for, name_of
from pulizia.project.processed import processed_file
from pulizia.score.recipes import recipe_text
from pulizia.score.steps import make_step
from pulizia.tools.finding import Finding
from pulizia.units import format_time

WORKERS, NAME_WIDTH = 2, 22


def add_to(commands: Any) -> None:  # noqa: ANN401 - argparse keeps the type private
    """Declare the command."""
    command = commands.add_parser("inspect", help="find problems and name the steps that treat them")
    command.add_argument("files", type=Path, nargs="+", metavar="FILE", help="sound or video files, or a project")
    command.add_argument("--recording", help="which recording of a project")
    command.add_argument("--json", action="store_true", help="print as JSON, with all places")
    command.add_argument("--recipe", action="store_true", help="print a recipe that treats what was found")
    add_batch_flags(command, writes=False)
    command.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Inspect files; a fault of one does not stop the others."""
    if options.recipe and len(options.files) > 1:
        message = "A recipe is made for one file. Name one."
        raise RecipeError(message)
    work = partial(inspected, options=for_workers(options))
    nothing = [None] * len(options.files)
    code, outcomes = run_batch(work, options.files, nothing, options, order=order_of(options))
    for outcome in outcomes:
        row = outcome.told.row if isinstance(outcome.told.row, dict) else {}
        for note in row.pop("notes", ()):
            print(f"pulizia: {note}", file=sys.stderr)
    if options.json:
        print_rows(outcomes)
    return code


def inspected(path: Path, _target: Path | None, *, overwrite: bool, options: argparse.Namespace) -> Result:
    """Inspect one file; returns what to tell."""
    del overwrite  # nothing is written
    progress = TerminalProgress(path.name)
    programme = processed_file(path, options.recording, lambda share: progress(share, "opening"))
    alone = microphones(programme.media.source, programme.media.channel_names)
    found = inspect(programme.sound, progress, workers=WORKERS, alone=alone)
    progress.done()
    notes = [note for note in (programme.media.warning, cleaned_note(cleaned=programme.media.source.cleaned)) if note]
    row: dict[str, Any] = {"findings": [_row(finding, programme.sound) for finding in found], "notes": notes}
    row["not_found"] = not_found(found, alone=bool(alone))
    if options.several:
        row = {"file": str(path)} | row
    if options.json:
        return Result((), row)
    if options.recipe:
        steps = [replace(make_step(f.tool_id, f.settings), channels=f.channels) for f in found if f.tool_id]
        steps.sort(key=lambda s: s.tool.order)
        return Result((recipe_text(f"For {programme.name}", tuple(steps), programme.sound.rate).rstrip("\n"),), row)
    return Result(
        tuple(_lines(found, row["not_found"], programme.sound.rate, programme.name, several=options.several)), row
    )


def _lines(found: Sequence[Finding], unfound: Sequence[str], rate: int, name: str, *, several: bool) -> Iterator[str]:
    if several or not found:
        kinds = ", ".join(dict.fromkeys(looked_for(f.kind) for f in found))
        yield f"{name}: {kinds or 'nothing was found'}."
    for finding in found:
        treat = f"  -> {finding.tool_id}" if finding.tool_id else ""
        yield f"{name_of(finding.kind):<{NAME_WIDTH}}{finding.sentence}{treat}"
        if finding.marks:
            places = ", ".join(format_time(m.start / rate, 2) for m in finding.marks[:8])
            yield f"{'':<{NAME_WIDTH}}at {places}{' and more' if len(finding.marks) > 8 else ''}"
    yield f"Not found: {', '.join(dict.fromkeys(looked_for(kind) for kind in unfound))}."


def _row(finding: Finding, source: Source) -> dict[str, Any]:
    rate, marks = source.rate, finding.marks
    start, stop = (marks[0].start, max(m.stop for m in marks)) if marks else (0, source.frames)
    return {
        "kind": finding.kind, "start_s": round(start / rate, 6), "end_s": round(stop / rate, 6),
        "severity": round(finding.severity, 3), "certainty": finding.certainty, "sentence": finding.sentence,
        "measures": {"value": finding.measure, "unit": finding.unit, "count": len(marks)},
        "at_s": [round(m.start / rate, 6) for m in marks],
        "places_s": [[round(m.start / rate, 6), round(m.stop / rate, 6)] for m in marks],
        "tool": finding.tool_id, "settings": finding.settings,
    } | ({"channel": finding.channels[0] + 1, "microphone": finding.microphone} if finding.channels else {})  # fmt: skip
