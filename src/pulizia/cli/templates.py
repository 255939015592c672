# SPDX-License-Identifier: GPL-3.0-or-later
"""`pulizia templates` and `pulizia from-template`: jobs that begin like the last one."""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import Any

from pulizia.audio.layouts import are_microphones
from pulizia.cli.edit_lists import chosen_programme
from pulizia.cli.outputs import check_project_output
from pulizia.delivery.deliver import check_output
from pulizia.media.open import open_media
from pulizia.media.write import write_text
from pulizia.project.file import load_project, save_project
from pulizia.project.model import Project, Recording
from pulizia.project.templates import (
    Placed,
    TemplateError,
    by_microphone,
    find_template,
    own_templates,
    programme_of_template,
    programmes_of_each,
    shipped_templates,
    template_of,
    template_text,
)


def add_to(commands: Any) -> None:  # noqa: ANN401 - argparse keeps the type private
    """Declare the commands."""
    listed = commands.add_parser("templates", help="templates of a job, and a programme saved as one")
    listed.add_argument("--of", type=Path, metavar="PROJECT", help="save a programme of this project as a template")
    listed.add_argument("--programme", metavar="NAME", help="the programme, when the project holds several")
    listed.add_argument("-o", "--output", type=Path, help="the template's file (.json)")
    listed.add_argument("--overwrite", action="store_true", help="replace an existing template")
    listed.add_argument("--json", action="store_true", help="print as JSON")
    listed.set_defaults(run=run_templates)
    made = commands.add_parser(
        "from-template", help="make a project of a template and recordings",
        description="Make a project of a template. Recordings go onto the named lanes, one behind the other; or each becomes a programme of its own.",
    )  # fmt: skip
    made.add_argument("template", help="name or file of a template; see `pulizia templates`")
    made.add_argument(
        "--lane", nargs="+", action="append", default=[], metavar=("NAME", "FILE"), help="a lane and its recordings, FILE:2 for the second channel of one alone; may be repeated"
    )  # fmt: skip
    made.add_argument(
        "--each", type=Path, nargs="+", default=[], metavar="FILE", help="a programme of each recording, on the first lane of voices"
    )  # fmt: skip
    made.add_argument("--name", default="", help="name of the programme (that of the template)")
    made.add_argument("-o", "--output", type=Path, required=True, help="the project (.pulizia)")
    made.add_argument("--overwrite", action="store_true", help="replace an existing project")
    made.set_defaults(run=run_from)


def run_templates(options: argparse.Namespace) -> int:
    """List the templates, or save one."""
    if options.of is not None:
        return _save(options)
    found = [(n, t, "own") for n, t in own_templates().items()] + [
        (n, t, "shipped") for n, t in shipped_templates().items()
    ]
    if options.json:
        rows = [
            {
                "id": n, "name": t.name, "description": t.description, "from": w, "target": t.target_id,
                "lanes": [{"name": lane.name, "kind": lane.kind, "tools": [s.tool_id for s in lane.steps]} for lane in t.lanes],
                "tools": [s.tool_id for s in t.steps],
            }
            for n, t, w in found
        ]  # fmt: skip
        print(json.dumps(rows, indent=1))
        return 0
    for name, template, where in found:
        print(
            f"{name:<24}{template.name} ({where}): {', '.join(lane.name for lane in template.lanes)}; {template.target_id}"
        )
        if template.description:
            print(f"{'':<24}{template.description}")
    return 0


def _save(options: argparse.Namespace) -> int:
    project = load_project(options.of)
    programme = chosen_programme(project, options.programme, options.of)
    if options.output is None:
        message = "Name the template's file with -o, for example job.json."
        raise TemplateError(message)
    check_output(options.output, inputs=[options.of], overwrite=options.overwrite)
    write_text(options.output, template_text(template_of(programme, project.target_id)))
    print(f"{programme.name} is saved as a template: {options.output}")
    return 0


def run_from(options: argparse.Namespace) -> int:
    """Make the project."""
    template = find_template(options.template)
    rows = {name: [_file_and_channel(text) for text in files] for name, *files in options.lane}
    paths = [path for files in rows.values() for path, _ in files] + options.each
    target = check_project_output(options.output, overwrite=options.overwrite, inputs=paths)
    names = ", ".join(lane.name for lane in template.lanes)
    for name, *files in options.lane:
        if name not in [lane.name for lane in template.lanes]:
            message = f"{template.name} has no lane {name}. Its lanes are {names}."
            raise TemplateError(message)
        if not files:
            message = f"Name the recordings of the lane {name} behind it."
            raise TemplateError(message)
    if not paths:
        message = f"Give recordings with --lane NAME FILE or with --each FILE. The lanes are {names}."
        raise TemplateError(message)
    opened: dict[Path, Recording] = {}
    names_of: dict[str, tuple[str, ...]] = {}
    for path in paths:
        if path.absolute() not in opened:
            media = open_media(path)
            recording = opened[path.absolute()] = Recording.of_media(media)
            names_of[recording.id] = media.channel_names
    programmes = list(
        programmes_of_each(template, [opened[p.absolute()] for p in options.each], lambda r: names_of[r.id])
    )
    if options.lane:
        programmes.insert(0, programme_of_template(template, _placed(rows, opened, names_of), options.name))
    project = Project(recordings=tuple(opened.values()), target_id=template.target_id)
    for programme in programmes:
        project = project.with_programme(programme)
    save_project(project, target)
    count = len(programmes)
    recordings = f"{len(opened)} recording{'' if len(opened) == 1 else 's'}"
    print(f"{count} programme{'' if count == 1 else 's'} of {recordings} written to {target}.")
    return 0


def _file_and_channel(text: str) -> tuple[Path, int | None]:
    """FILE, or FILE:NUMBER where no file is called so."""
    head, colon, number = text.rpartition(":")
    if colon and number.isdigit() and not Path(text).exists():
        return Path(head), int(number) - 1
    return Path(text), None


def _placed(
    rows: dict[str, list[tuple[Path, int | None]]], opened: dict[Path, Recording], names_of: dict[str, tuple[str, ...]]
) -> dict[str, list[Placed]]:
    """What each lane plays: a recorder's file that is named for several lanes gives each a microphone of its own."""
    lanes_of: dict[Path, list[str]] = {}
    for lane, files in rows.items():
        for path, channel in files:
            if channel is None:
                lanes_of.setdefault(path.absolute(), []).append(lane)
    made: dict[str, list[Placed]] = {}
    for lane, files in rows.items():
        for path, channel in files:
            recording, lanes = opened[path.absolute()], lanes_of.get(path.absolute(), [])
            if channel is not None and not 0 <= channel < recording.channels:
                count = f"{recording.channels} channel{'' if recording.channels == 1 else 's'}"
                message = f"{path.name} has {count}; there is no channel {channel + 1}."
                raise TemplateError(message)
            names, several = names_of[recording.id], list(dict.fromkeys(lanes))
            if channel is None and len(several) > 1 and are_microphones(names):
                made.setdefault(lane, []).extend(by_microphone(recording, several, names).get(lane, []))
            else:
                made.setdefault(lane, []).append((recording, channel))
    return made
