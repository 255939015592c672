# SPDX-License-Identifier: GPL-3.0-or-later
"""A project's programme as the sound to render, measure or deliver."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from pulizia.audio.layouts import channel_names
from pulizia.audio.source import Source
from pulizia.delivery.metadata import Metadata
from pulizia.errors import MediaError, ProjectError
from pulizia.media.open import OpenMedia
from pulizia.project.clips import Programme
from pulizia.project.file import SUFFIX, load_project
from pulizia.project.model import Project
from pulizia.project.processed import CHUNK_BYTES, processed_recording
from pulizia.project.programme_sound import ProgrammeSound, sound_of
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore
from pulizia.score.steps import Step
from pulizia.session.subject import metadata_of


@dataclass(frozen=True, slots=True, kw_only=True)
class Assembled:
    """A programme with its sound.

    Attributes
    ----------
    notes : sentences on recordings that cannot be heard
    files : the opened files of the others
    """

    project: Project
    programme: Programme
    sound: ProgrammeSound
    notes: tuple[str, ...]
    files: dict[str, OpenMedia]

    def opened(self, recording_id: str) -> tuple[Source, tuple[Step, ...]] | None:
        """A recording's untouched sound and its steps; None when its file cannot be opened."""
        media = self.files.get(recording_id)
        return None if media is None else (media.source, self.project.recording(recording_id).score)

    @property
    def source(self) -> Source:
        """What is delivered."""
        return self.sound.after

    @property
    def names(self) -> tuple[str, ...]:
        """Names of its channels."""
        return channel_names(self.programme.channels)

    @property
    def inputs(self) -> list[Path]:
        """Files that it is made of; none of them is ever written to."""
        film = [Path(self.programme.film)] if self.programme.film else []
        return [*(r.path for r in self.project.recordings), *film]

    @property
    def metadata(self) -> Metadata:
        """What travels in its files: markers and the start time."""
        return metadata_of(self.programme)


def add_programme_flag(command: argparse.ArgumentParser) -> None:
    """Declare the flag that chooses a programme."""
    command.add_argument("--programme", metavar="NAME", help="a programme of a project, by name")


def assembled(path: Path, name: str, progress: Callable[[float], None]) -> Assembled:
    """A programme of a project with its sound; recordings that cannot be opened are silent, and named in the notes.

    Raises
    ------
    ProjectError
        When the file is no project, or there is no such programme in it.
    """
    if path.suffix.lower() != SUFFIX:
        message = f"--programme takes a programme of a project; {path.name} is no project."
        raise ProjectError(message)
    project = load_project(path)
    chosen = next((p for p in project.programmes if p.name == name), None)
    if chosen is None:
        names = ", ".join(p.name for p in project.programmes) or "none"
        message = f"{path.name} has no programme {name}; it holds {names}."
        raise ProjectError(message)
    notes: list[str] = []
    files: dict[str, OpenMedia] = {}

    def heard(recording_id: str) -> tuple[Source, tuple[str, ...]] | None:
        try:
            worked = processed_recording(project.recording(recording_id), project, progress)
        except (MediaError, ProjectError) as error:
            notes.append(f"A recording is silent in {name}. {error}")
            return None
        files[recording_id] = worked.media
        return worked.sound, worked.media.channel_names

    sound = sound_of(chosen, heard, ChunkCache(CHUNK_BYTES), AnalysisStore())
    sound.prepare(progress)
    return Assembled(project=project, programme=chosen, sound=sound, notes=tuple(notes), files=files)
