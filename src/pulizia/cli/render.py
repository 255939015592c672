# SPDX-License-Identifier: GPL-3.0-or-later
"""`pulizia render`: the processed recordings, or a programme, of a project as files."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from pulizia.cli.assembled import Assembled, add_programme_flag, assembled
from pulizia.cli.measure import cleaned_note
from pulizia.cli.outputs import FORMATS
from pulizia.cli.parsing import seconds
from pulizia.cli.progress import TerminalProgress
from pulizia.delivery.deliver import check_output, cut_words, write_source
from pulizia.delivery.deliverable import Deliverable
from pulizia.errors import ProjectError
from pulizia.media.ahead import made_ahead
from pulizia.media.broadcast import Loudness
from pulizia.media.names import safe_name
from pulizia.project.file import load_project
from pulizia.project.processed import processed_recording
from pulizia.session.programme_pieces import Piece, clip_pieces, reel_pieces, stem_pieces, whole_piece


def add_to(commands: Any) -> None:  # noqa: ANN401 - argparse keeps the type private
    """Declare the command."""
    command = commands.add_parser("render", help="render the processed recordings of a project")
    command.add_argument("project", type=Path)
    command.add_argument("-o", "--output", type=Path, required=True,
                         help="a folder; or a file when the project holds one recording")  # fmt: skip
    add_programme_flag(command)
    command.add_argument("--stems", action="store_true", help="of a programme: one file for each stem, into a folder")
    command.add_argument("--reels", action="store_true", help="of a programme: one file for each reel, into a folder")
    command.add_argument("--clips", action="store_true", help="of a programme: one file for each clip, into a folder")
    command.add_argument(
        "--handles",
        type=seconds,
        default=0.0,
        metavar="S",
        help="with --clips: this much more at both ends, in seconds",
    )
    command.add_argument(
        "--joined",
        action="store_true",
        help="with --clips: one continuous file for each lane instead of a file for each clip",
    )
    command.add_argument(
        "--analyse", choices=("recording", "clip"), default="recording",
        help="with --clips: what the steps learn from, the whole recording (default) or each clip alone",
    )  # fmt: skip
    command.add_argument("--bits", choices=tuple(FORMATS), default="24", help="sample format (24)")
    command.add_argument("--overwrite", action="store_true", help="replace existing outputs")
    command.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Render every recording; the step's short names go into the file names."""
    if options.programme:
        return _render_programme(options)
    if options.stems or options.clips or options.reels:
        message = "--stems, --reels and --clips belong to a programme. Name one with --programme."
        raise ProjectError(message)
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
        programme = processed_recording(recording, project, progress)
        wanted = Deliverable(sample_format=FORMATS[options.bits])
        with made_ahead(programme.kept) as sound:
            cut = write_source(sound, target, wanted, progress, metadata=programme.metadata, loudness=Loudness())
        progress.done()
        print(f"{recording.name}: written to {target}")
        media = programme.media
        for words in (media.warning, cleaned_note(cleaned=media.source.cleaned), cut_words(cut)):
            if words:
                print(words)
    return 0


def _render_programme(options: argparse.Namespace) -> int:
    progress = TerminalProgress(options.programme)
    made = assembled(options.project, options.programme, progress)
    pieces = _pieces(made, options)
    for target, _ in pieces:
        check_output(target, inputs=made.inputs, overwrite=options.overwrite)
    wanted = Deliverable(sample_format=FORMATS[options.bits])
    for target, piece in pieces:
        cut = write_source(piece.source, target, wanted, progress, metadata=piece.metadata, loudness=Loudness())
        progress.done()
        print(f"{piece.title}: written to {target}")
        if words := cut_words(cut):
            print(words)
    for note in made.notes:
        print(note)
    return 0


def _pieces(made: Assembled, options: argparse.Namespace) -> list[tuple[Path, Piece]]:
    """What is written: the programme, its stems or its clips, each with its file."""
    programme, folder = made.programme, options.output
    if not (options.stems or options.clips or options.reels):
        piece = whole_piece(programme, made.sound)
        return [(folder / f"{piece.name}.wav" if folder.is_dir() else folder, piece)]
    if folder.exists() and not folder.is_dir():
        message = f"{folder.name} is a file. Choose a folder for stems, reels or clips."
        raise ProjectError(message)
    if options.stems:
        found = stem_pieces(programme, made.sound)
    elif options.reels:
        found = reel_pieces(programme, made.sound)
    else:
        alone = made.opened if options.analyse == "clip" else None
        found = clip_pieces(programme, made.sound, handles_s=options.handles, joined=options.joined, opened=alone)
    folder.mkdir(exist_ok=True)
    return [(folder / f"{piece.name}.wav", piece) for piece in found]
