# SPDX-License-Identifier: GPL-3.0-or-later
"""`pulizia inspect`: what is wrong with a recording, where, and which step would mend it."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path
from typing import Any

from pulizia.audio.source import Source
from pulizia.cli.measure import cleaned_note
from pulizia.cli.progress import TerminalProgress
from pulizia.cli.worked import worked_programme
from pulizia.inspection.finding import Finding
from pulizia.inspection.inspect import inspect
from pulizia.score.recipes import recipe_text
from pulizia.score.steps import make_step
from pulizia.units import format_time

WORKERS = 2


def add_to(commands: Any) -> None:  # noqa: ANN401 - argparse keeps the type private
    """Declare the command."""
    command = commands.add_parser("inspect", help="find problems and name the steps that treat them")
    command.add_argument("file", type=Path, help="a sound or video file, or a project")
    command.add_argument("--recording", help="which recording of a project")
    command.add_argument("--json", action="store_true", help="print as JSON, with all places")
    command.add_argument("--recipe", action="store_true", help="print a recipe that treats what was found")
    command.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Inspect one file."""
    progress = TerminalProgress(options.file.name)
    programme = worked_programme(options.file, options.recording, lambda share: progress(share, "opening"))
    rate = programme.sound.rate
    found = inspect(programme.sound, programme.media.channel_names, progress, workers=WORKERS)
    progress.done()
    for note in (programme.media.warning, cleaned_note(cleaned=programme.media.source.cleaned)):
        if note:
            print(f"pulizia: {note}", file=sys.stderr)
    if options.json:
        print(json.dumps({"findings": [_row(finding, programme.sound) for finding in found]}, indent=1))
        return 0
    if options.recipe:
        steps = [make_step(f.tool_id, f.settings) for f in found if f.tool_id]
        steps.sort(key=lambda s: s.tool.order)
        print(recipe_text(f"For {programme.name}", tuple(steps), rate), end="")
        return 0
    if not found:
        print(f"{programme.name}: nothing was found.")
    for finding in found:
        treat = f"  -> {finding.tool_id}" if finding.tool_id else ""
        print(f"{finding.kind:<16}{finding.sentence}{treat}")
        if finding.marks:
            places = ", ".join(format_time(m.start / rate, 2) for m in finding.marks[:8])
            print(f"{'':<16}at {places}{' and more' if len(finding.marks) > 8 else ''}")
    return 0


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
    }  # fmt: skip
