# SPDX-License-Identifier: GPL-3.0-or-later
"""`pulizia render`: the worked recordings of a project as files."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from pulizia.cli.measure import cleaned_note
from pulizia.cli.outputs import FORMATS
from pulizia.cli.progress import TerminalProgress
from pulizia.cli.worked import worked_recording
from pulizia.delivery.deliver import check_output, cut_words, write_source
from pulizia.delivery.deliverable import Deliverable
from pulizia.media.broadcast import Loudness
from pulizia.media.names import safe_name
from pulizia.project.file import load_project


def add_to(commands: Any) -> None:  # noqa: ANN401 - argparse keeps the type private
    """Declare the command."""
    command = commands.add_parser("render", help="render the processed recordings of a project")
    command.add_argument("project", type=Path)
    command.add_argument("-o", "--output", type=Path, required=True,
                         help="a folder; or a file when the project holds one recording")  # fmt: skip
    command.add_argument("--bits", choices=tuple(FORMATS), default="24", help="sample format (24)")
    command.add_argument("--overwrite", action="store_true", help="replace existing outputs")
    command.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Render every recording; the step's short names go into the file names."""
    project = load_project(options.project)
    for recording in project.recordings:
        if options.output.is_dir() or len(project.recordings) > 1:
            tools = "".join(f"-{step.tool_id}" for step in recording.score if step.enabled)
            target = options.output / f"{safe_name(recording.name + (tools or '-as-is'))}.wav"
        else:
            target = options.output
        inputs = [r.path for r in project.recordings]
        check_output(target, inputs=inputs, overwrite=options.overwrite)
        progress = TerminalProgress(recording.name)
        programme = worked_recording(recording, project, progress)
        wanted = Deliverable(sample_format=FORMATS[options.bits])
        cut = write_source(programme.kept, target, wanted, progress, said=programme.said, loudness=Loudness())
        progress.done()
        print(f"{recording.name}: written to {target}")
        media = programme.media
        for words in (media.warning, cleaned_note(cleaned=media.source.cleaned), cut_words(cut)):
            if words:
                print(words)
    return 0
