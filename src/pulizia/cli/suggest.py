# SPDX-License-Identifier: GPL-3.0-or-later
"""`pulizia suggest`: what a tool finds in a recording, settings that fit it, and what they would do."""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import Any

from pulizia.cli.progress import TerminalProgress
from pulizia.errors import SettingsError
from pulizia.measure.harm import LOWEST_DB, Harm, harm
from pulizia.project.processed import processed_file
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.score.steps import make_step
from pulizia.settings.as_dict import to_dict
from pulizia.tools.base import Survey
from pulizia.tools.registry import tool_named
from pulizia.units import format_number, format_time


def add_to(commands: Any) -> None:  # noqa: ANN401 - argparse keeps the type private
    """Declare the command."""
    command = commands.add_parser("suggest", help="settings of one tool that fit a recording, and what it finds")
    command.add_argument("tool", help="the tool, see pulizia tools")
    command.add_argument("file", type=Path, help="a sound or video file, or a project")
    command.add_argument("--recording", help="which recording of a project")
    command.add_argument("--json", action="store_true", help="print the step for a recipe, with what it finds")
    command.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Look through one file with one tool."""
    tool = tool_named(options.tool)
    if tool.suggest is None and tool.survey is None:
        message = f"{tool.title} has no automatic settings. Set it by hand; pulizia tools {tool.id} lists its settings."
        raise SettingsError(message)
    progress = TerminalProgress(options.file.name)
    programme = processed_file(options.file, options.recording, lambda share: progress(share, "opening"))
    source = programme.sound
    sentence, step = "", make_step(tool.id)
    if tool.suggest is not None:
        found = tool.suggest(source, (), step.settings, lambda share: progress(share, "looking for settings"))
        sentence, step = found.sentence, step.with_settings(**found.changes)
    chain = Chain(source, [step], ChunkCache(), AnalysisStore())
    stage = next(iter(chain.stages.values()))
    survey = None
    if tool.survey is not None:
        survey = tool.survey(
            source, stage, (), step.settings, stage.analysis(), lambda share: progress(share, "looking through it")
        )
    taken = None if tool.sets_level or tool.shapes_tone else harm(source, stage, (), room=tool.takes_room)
    progress.done()
    if options.json:
        marks = [[m.start / source.rate, m.stop / source.rate] for m in survey.marks] if survey else []
        content = {
            "step": {"tool": tool.id, "settings": to_dict(step.settings)}, "why": sentence,
            "found": survey.sentence if survey else "", "places_s": marks,
            "harm_db": taken.level_db if taken else None,
        }  # fmt: skip
        print(json.dumps(content, indent=1))
        return 0
    _print(sentence, survey, taken, source.rate)
    return 0


def _print(sentence: str, survey: Survey | None, taken: Harm | None, rate: int) -> None:
    for line in (sentence, survey.sentence if survey else ""):
        if line:
            print(line)
    for row in survey.table.rows if survey and survey.table else ():
        print("  " + "  ".join(f"{cell:<16}" for cell in row).rstrip())
    if survey and survey.marks:
        places = ", ".join(format_time(m.start / rate, 2) for m in survey.marks[:12])
        print(f"at {places}{' and more' if len(survey.marks) > 12 else ''}")
    if taken is not None:
        told = "none" if taken.level_db <= LOWEST_DB else f"{taken.words}, {format_number(taken.level_db)} dB"
        print(f"harm to the voice: {told}")
