# SPDX-License-Identifier: GPL-3.0-or-later
"""`pulizia notes`: the notes of a programme as a list."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any, get_args

from pulizia.audio.markers import NoteKind
from pulizia.cli.assembled import add_programme_flag
from pulizia.cli.edit_lists import chosen_programme
from pulizia.delivery.deliver import check_output
from pulizia.project.file import load_project
from pulizia.session.programme_notes import notes_csv, write_notes

KINDS = tuple(kind or "marker" for kind in get_args(NoteKind))


def add_to(commands: Any) -> None:  # noqa: ANN401 - argparse keeps the type private
    """Declare the command."""
    command = commands.add_parser("notes", help="the notes of a programme as a table, or as a page to print")
    command.add_argument("project", type=Path)
    add_programme_flag(command)
    command.add_argument("--kind", choices=KINDS, nargs="+", help="only these kinds")
    command.add_argument("-o", "--output", type=Path, help="a .csv or .html file (without it the table is printed)")
    command.add_argument("--overwrite", action="store_true", help="replace an existing file")
    command.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Print or write the notes."""
    programme = chosen_programme(load_project(options.project), options.programme, options.project)
    kinds: list[NoteKind] | None = None if options.kind is None else ["" if k == "marker" else k for k in options.kind]
    if options.output is None:
        print(notes_csv(programme, kinds), end="")
        return 0
    check_output(options.output, inputs=[options.project], overwrite=options.overwrite)
    write_notes(programme, options.output, kinds)
    print(f"The notes of {programme.name} are written to {options.output}.")
    return 0
