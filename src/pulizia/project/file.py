# SPDX-License-Identifier: GPL-3.0-or-later
"""Project files: readable JSON with a version, relative media paths and fingerprints."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any

from pulizia.audio.markers import in_order
from pulizia.data.json_text import parsed
from pulizia.errors import ProjectError, SettingsError, brief
from pulizia.media.open import PROJECT_SUFFIX
from pulizia.media.write import write_text
from pulizia.project.model import Project, Recording
from pulizia.project.past import Past, past_of, past_row
from pulizia.project.programme_file import programme_of_row, programme_row
from pulizia.project.rows import marker_of, marker_row, spans_of, step_of, step_row
from pulizia.project.upgrades import upgraded
from pulizia.words import tr

FORMAT, VERSION, SUFFIX = "pulizia-project", 7, PROJECT_SUFFIX
LARGEST_BYTES = 256 << 20
LONGEST_PATH, LONGEST_NAME, MOST_STEPS = 4096, 1000, 1000


def save_project(project: Project, path: Path, past: Past = ()) -> None:
    """Write a project, with earlier states of it; an earlier file is replaced only by a whole new one.

    Raises
    ------
    DiskError
        When the disk refuses.
    """
    write_text(path, project_text(project, path.parent, past))


def project_text(project: Project, folder: Path, past: Past = ()) -> str:
    """The file's text; media inside or beside ``folder`` are named relative to it."""
    content = _head(project) | {
        "recordings": [_recording_row(r, folder) for r in project.recordings],
        "programmes": [programme_row(p) for p in project.programmes],
    }
    text = json.dumps(content, indent=1)
    earlier = past_row(past, project, lambda r: _recording_row(r, folder))
    if earlier is not None:  # on one line: nobody reads it, and it stays out of the way of what one does
        text = f'{text[:-2]},\n "past": {json.dumps(earlier)}\n}}'
    return text + "\n"


def compact_text(project: Project, folder: Path) -> str:
    """The same on one line, made a recording at a time: other threads have their turns between."""
    head = json.dumps(_head(project))[:-1]
    recordings = ",".join(json.dumps(_recording_row(r, folder)) for r in project.recordings)
    programmes = ",".join(json.dumps(programme_row(p)) for p in project.programmes)
    return f'{head}, "recordings": [{recordings}], "programmes": [{programmes}]}}\n'


def _head(project: Project) -> dict[str, Any]:
    return {"format": FORMAT, "version": VERSION, "id": project.id, "target": project.target_id}


def load_project(path: Path) -> Project:
    """Read a project file; see :func:`load_with_past`."""
    return load_with_past(path)[0]


def load_with_past(path: Path) -> tuple[Project, list[tuple[str, Project]]]:
    """Read a project file and the earlier states that were kept in it.

    Raises
    ------
    ProjectError
        One sentence: unreadable, damaged, not a project, or newer than this program.
    """
    try:
        if path.stat().st_size > LARGEST_BYTES:
            message = tr("{name} is too large for a project. Choose another file.", name=path.name)
            raise ProjectError(message)
        text = path.read_text(encoding="utf-8")
    except FileNotFoundError as error:
        message = tr("{path} does not exist. Check the name of the project.", path=path)
        raise ProjectError(message) from error
    except (OSError, UnicodeDecodeError) as error:
        message = tr("{name} cannot be read as a project. Restore it from a backup.", name=path.name)
        raise ProjectError(message) from error
    return parse_with_past(text, path.name, path.parent)


def parse_project(text: str, name: str, folder: Path) -> Project:
    """Make a project of a file's text; see :func:`load_with_past`."""
    return parse_with_past(text, name, folder)[0]


def parse_with_past(text: str, name: str, folder: Path) -> tuple[Project, list[tuple[str, Project]]]:
    """Make a project of a file's text, and its earlier states; see :func:`load_with_past`."""
    content = parsed(text, name, ProjectError, tr("Restore it from a backup."))
    if not isinstance(content, dict) or content.get("format") != FORMAT:
        message = tr("{name} is not a Pulizia project. Choose another file.", name=name)
        raise ProjectError(message)
    version = content.get("version")
    if not isinstance(version, int) or version < 1:
        message = tr("{name} is damaged: it has no version. Restore it from a backup.", name=name)
        raise ProjectError(message)
    if version > VERSION:
        message = tr(
            "{name} was made by a newer Pulizia (format {version}, this one reads {known}). Update Pulizia.",
            name=name,
            version=version,
            known=VERSION,
        )
        raise ProjectError(message)
    try:
        content = upgraded(content, VERSION)
        recordings = tuple(_recording(row, folder) for row in content["recordings"])
        project = Project(
            recordings=recordings, target_id=str(content.get("target", "ebu-r128")),
            programmes=tuple(programme_of_row(row) for row in content["programmes"]),
            id=str(content["id"]),
        )  # fmt: skip
    except SettingsError as error:
        message = tr(
            "{name} cannot be opened: {error}. Update Pulizia or restore a backup.", name=name, error=brief(error)
        )
        raise ProjectError(message) from error
    except (KeyError, TypeError, ValueError, AttributeError, IndexError, ArithmeticError, ProjectError) as error:
        message = tr("{name} is damaged ({error}). Restore it from a backup.", name=name, error=brief(error))
        raise ProjectError(message) from error
    return project, past_of(content.get("past"), project, lambda row: _recording(row, folder))


def _recording_row(recording: Recording, folder: Path) -> dict[str, Any]:
    path = recording.path
    try:
        relative = os.path.relpath(path, folder.absolute())
    except ValueError:  # another drive
        relative = str(path)
    return {
        "id": recording.id, "name": recording.name, "path": relative, "absolute": str(path),
        "fingerprint": recording.fingerprint, "digest": recording.digest, "rate": recording.rate,
        "channels": recording.channels, "frames": recording.frames,
        "score": [step_row(step) for step in recording.score],
        "markers": [marker_row(marker) for marker in recording.markers],
        "left": list(recording.left), "target": recording.target_id,
        "trim": None if recording.trim is None else [recording.trim.start, recording.trim.stop],
    }  # fmt: skip


def _recording(row: dict[str, Any], folder: Path) -> Recording:
    if len(str(row["path"])) > LONGEST_PATH or "\0" in str(row["path"]):
        message = tr(
            "a recording has a path of {count} characters, or one with a zero character", count=len(str(row["path"]))
        )
        raise ValueError(message)
    if len(row["score"]) > MOST_STEPS:
        message = tr(
            "a recording has {count} steps, at most {most_steps} are read",
            count=len(row["score"]),
            most_steps=MOST_STEPS,
        )
        raise ValueError(message)
    path = Path(os.path.normpath(folder.absolute() / str(row["path"])))
    absolute = Path(str(row.get("absolute", path)))
    if not _is_there(path) and absolute.is_absolute() and _is_there(absolute):
        path = absolute
    rate, channels, frames = int(row["rate"]), int(row["channels"]), int(row["frames"])
    if rate <= 0 or channels <= 0 or frames <= 0:
        message = tr("recording {name} has no length", name=row.get("name"))
        raise ValueError(message)
    made = Recording(
        id=str(row["id"]), name=str(row["name"])[:LONGEST_NAME], path=path, fingerprint=str(row["fingerprint"]),
        digest=str(row.get("digest", "")),
        rate=rate, channels=channels, frames=frames,
        score=tuple(step_of(entry, rate, channels) for entry in row["score"]),
        markers=in_order((marker_of(entry) for entry in row["markers"]), frames),
        left=tuple(str(kind) for kind in row["left"]), target_id=str(row.get("target", "")),
    )  # fmt: skip
    trim = row["trim"]
    return made if trim is None else made.with_trim(spans_of([trim])[0])


def _is_there(path: Path) -> bool:
    try:
        return path.exists()
    except OSError:  # a name that no disk can hold
        return False
