# SPDX-License-Identifier: GPL-3.0-or-later
"""Edit lists on the command line: assembled into a project, written from one, a changed cut conformed."""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import get_args

from pulizia.cli.assembled import add_programme_flag, assembled
from pulizia.cli.outputs import check_project_output
from pulizia.cli.parsing import seconds
from pulizia.cli.progress import TerminalProgress
from pulizia.delivery.deliver import check_output, write_source
from pulizia.delivery.deliverable import Deliverable
from pulizia.errors import MediaError, ProjectError
from pulizia.interchange.assemble import Assembled, assemble
from pulizia.interchange.conform import conform
from pulizia.interchange.conform_match import lengths_of
from pulizia.interchange.conform_rows import Change, count_words, row_words
from pulizia.interchange.edit_list import EditListError, rate_named
from pulizia.interchange.export import Rendered, list_of, losses, write_list
from pulizia.interchange.find_media import MediaFolders
from pulizia.interchange.read import KINDS, read_edit_list
from pulizia.media.broadcast import Loudness
from pulizia.media.facts import MediaFacts, media_facts
from pulizia.project.clips import Programme
from pulizia.project.file import SUFFIX, load_project, save_project
from pulizia.project.model import Project, Recording
from pulizia.session.programme_pieces import rendered_clips


def add_to(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Declare the commands."""
    made = commands.add_parser(
        "assemble", help="make a project of an edit list and its media",
        description="Make a project of an edit list (OTIO, AAF, CMX3600 EDL, XML of the xmeml form, CSV). Media are looked for in the given folders only.",
    )  # fmt: skip
    made.add_argument("list", type=Path, help="the edit list")
    _add_media(made)
    made.add_argument("-o", "--output", type=Path, required=True, help=f"the project ({SUFFIX})")
    made.add_argument("--overwrite", action="store_true", help="replace an existing project")
    made.set_defaults(run=run_assemble)
    out = commands.add_parser("export-list", help="write a programme as an edit list")
    out.add_argument("project", type=Path)
    add_programme_flag(out)
    out.add_argument(
        "-o", "--output", type=Path, required=True, help=f"the list; its suffix is one of {', '.join(sorted(KINDS))}"
    )
    out.add_argument(
        "--rendered", action="store_true", help="render each clip into a folder beside the list and name these files"
    )
    out.add_argument(
        "--handles",
        type=seconds,
        default=2.0,
        metavar="S",
        help="with --rendered: this much more at both ends, in seconds (2)",
    )
    out.add_argument("--overwrite", action="store_true", help="replace an existing list and existing clips")
    out.set_defaults(run=run_export)
    moved = commands.add_parser("conform", help="bring a programme into the order of a changed cut")
    moved.add_argument("project", type=Path)
    moved.add_argument("list", type=Path, help="the edit list of the new cut")
    add_programme_flag(moved)
    _add_media(moved)
    moved.add_argument("-o", "--output", type=Path, required=True, help=f"the conformed project ({SUFFIX})")
    moved.add_argument("--overwrite", action="store_true", help="replace an existing project")
    moved.set_defaults(run=run_conform)


def _add_media(command: argparse.ArgumentParser) -> None:
    command.add_argument(
        "--media", type=Path, nargs="+", default=[], metavar="FOLDER", help="where media are looked for"
    )
    command.add_argument(
        "--picture-rate",
        metavar="RATE",
        help="of an EDL or CSV list: 23.976, 24, 25, 29.97, 29.97df, 30, 50, 59.94, 60 (25)",
    )
    command.add_argument("--rate", type=int, metavar="HZ", help="sample rate of the programme (that of most media)")
    command.add_argument(
        "--field-recordings",
        action="store_true",
        help="take a recorder's file of the same moment instead of a camera's sound",
    )
    command.add_argument("--json", action="store_true", help="print the report as JSON")


def _assembled(
    options: argparse.Namespace, known: tuple[Recording, ...] = (), before: Programme | None = None
) -> Assembled:
    rate, drop = rate_named(options.picture_rate) if options.picture_rate else (None, None)
    received = before.received if before is not None else None
    if before is not None and rate is None:
        rate, drop = before.picture_rate, before.drop_frame
    folder: Path = options.output.with_name(f"{options.output.stem}-media")

    def extract_to(name: str) -> Path:
        folder.mkdir(parents=True, exist_ok=True)
        return folder / name

    progress = TerminalProgress(options.list.name)
    found, content = read_edit_list(options.list, rate=rate, drop=drop or None, extract_to=extract_to)
    for place in options.media:
        if not place.exists():
            message = f"{place} does not exist. Check the name of the folder."
            raise EditListError(message)
    places = [*options.media, *([folder] if folder.exists() else [])]
    made = assemble(
        found, content, options.list.name, MediaFolders.of(places), rate=options.rate,
        prefer_field=options.field_recordings or (received is not None and received.prefers_field), known=known,
        starts=received.starts if received is not None else (), progress=progress,
    )  # fmt: skip
    progress.done()
    return made


def _tell(options: argparse.Namespace, made: Assembled, **more: object) -> None:
    programme = made.programme
    clips = sum(len(lane.clips) for lane in programme.lanes)
    if options.json:
        content = {
            "list": options.list.name, "programme": programme.name, "rate": programme.rate, "clips": clips,
            "lanes": [{"name": lane.name, "kind": lane.kind, "clips": len(lane.clips)} for lane in programme.lanes],
            "duration_s": programme.frames / programme.rate, "picture_rate": str(programme.picture_rate), "drop_frame": programme.drop_frame,
            "media": [
                {"name": m.name, "path": None if m.path is None else str(m.path), "found": m.how, "events": m.events, "remarks": list(m.remarks)}
                for m in made.media
            ],
            "missing": list(made.missing), "remarks": list(made.remarks), **more,
        }  # fmt: skip
        print(json.dumps(content, indent=1))
        return
    found = len(made.media) - len(made.missing)
    lanes = len(programme.lanes)
    print(
        f"{programme.name}: {clips} clip{'s' * (clips != 1)} on {lanes} lane{'s' * (lanes != 1)}, "
        f"{found} of {len(made.media)} media found."
    )
    for line in made.report:
        print(line)


def run_assemble(options: argparse.Namespace) -> int:
    """Make the project; 1 when media are missing is not an error: they are silent and named."""
    target = check_project_output(options.output, overwrite=options.overwrite)
    made = _assembled(options)
    save_project(Project(recordings=made.recordings).with_programme(made.programme), target)
    _tell(options, made, project=str(target))
    if not options.json:
        print(f"Written to {target}.")
    return 0


def chosen_programme(project: Project, name: str | None, path: Path) -> Programme:
    """The programme with this name, or the only one. ProjectError otherwise."""
    names = ", ".join(p.name for p in project.programmes) or "none"
    if name is None and len(project.programmes) == 1:
        return project.programmes[0]
    found = next((p for p in project.programmes if p.name == name), None)
    if found is None:
        what = f"has no programme {name}" if name else "holds several programmes, or none"
        message = f"{path.name} {what}; it holds {names}. Name one with --programme."
        raise ProjectError(message)
    return found


def run_export(options: argparse.Namespace) -> int:
    """Write the list; what its kind cannot carry is said first."""
    project = load_project(options.project)
    programme = chosen_programme(project, options.programme, options.project)
    check_output(
        options.output, inputs=[options.project, *(r.path for r in project.recordings)], overwrite=options.overwrite
    )
    kind = KINDS.get(options.output.suffix.lower(), "")
    for sentence in losses(programme, kind, project.recordings, rendered=options.rendered):
        print(sentence)
    rendered = _rendered(options, programme) if options.rendered else None
    found = list_of(programme, {r.id: r for r in project.recordings}, facts_of, rendered)
    count = write_list(found, options.output)
    print(f"{programme.name}: {count} event{'' if count == 1 else 's'} written to {options.output}")
    return 0


def facts_of(recording: Recording) -> MediaFacts | None:
    """What a recording's file says; None when it is not there."""
    try:
        return media_facts(recording.path)
    except MediaError:
        return None


def _rendered(options: argparse.Namespace, programme: Programme) -> dict[str, Rendered]:
    progress = TerminalProgress(programme.name)
    made = assembled(options.project, programme.name, progress)
    folder = options.output.with_suffix("")
    folder = folder.with_name(folder.name + "-clips")
    folder.mkdir(parents=True, exist_ok=True)
    found: dict[str, Rendered] = {}
    for row in rendered_clips(made.programme, made.sound, handles_s=options.handles):
        path = folder / f"{row.piece.name}.wav"
        check_output(path, inputs=made.inputs, overwrite=options.overwrite)
        write_source(
            row.piece.source,
            path,
            Deliverable(sample_format="int24"),
            progress,
            metadata=row.piece.metadata,
            loudness=Loudness(),
        )
        source = row.piece.source
        found[row.clip_id] = Rendered(path.absolute(), row.lead_s, row.seconds, source.rate, source.channels)
    progress.done()
    for note in made.notes:
        print(note)
    return found


def run_conform(options: argparse.Namespace) -> int:
    """Write a new project in which the programme has the order of the new cut; the old project stays."""
    target = check_project_output(options.output, overwrite=options.overwrite, inputs=[options.project])
    project = load_project(options.project)
    old = chosen_programme(project, options.programme, options.project)
    options.rate = old.rate
    options.media = [*options.media, *dict.fromkeys(r.path for r in project.recordings if r.path.exists())]
    made = _assembled(options, project.recordings, old)
    conformed = conform(old, made.programme, lengths_of((*project.recordings, *made.recordings), old.rate))
    project = project.with_programme(conformed.programme)
    for recording in made.recordings:
        project = project.with_recording(recording)
    save_project(project, target)
    rows = [row_words(row, old.rate) for row in conformed.rows]
    if options.json:
        counts = {change: conformed.count(change) for change in get_args(Change)}
        _tell(options, made, changes=rows, counts=counts, project=str(target))
        return 0
    print(count_words(conformed))
    for line in rows:
        print(line)
    for line in made.report:
        if not line.split(":")[0].endswith(tuple(r.name for r in project.recordings)):
            print(line)
    print(f"Written to {target}.")
    return 0
