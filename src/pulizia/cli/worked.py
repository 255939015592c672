"""A file or a project's recording as the sound to render or deliver."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from pulizia.audio.markers import Marker
from pulizia.audio.source import Source
from pulizia.cli.outputs import CHUNK_BYTES
from pulizia.errors import ProjectError
from pulizia.media.broadcast import Broadcast
from pulizia.media.open import broadcast_of, open_media, picture_of
from pulizia.project.file import SUFFIX, load_project
from pulizia.project.model import Project, Recording
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.score.steps import Step


@dataclass(frozen=True, slots=True, kw_only=True)
class Programme:
    """The sound to deliver, and the file from which it comes."""

    source: Source
    path: Path
    name: str
    channel_names: tuple[str, ...]
    markers: tuple[Marker, ...] = ()
    broadcast: Broadcast = field(default_factory=Broadcast)
    picture: Path | None = None
    steps: tuple[Step, ...] = ()


def worked_programme(path: Path, recording: str | None, progress: Callable[[float], None]) -> Programme:
    """The sound of a file, or a project's recording after its score."""
    if path.suffix.lower() != SUFFIX:
        media = open_media(path, progress)
        return Programme(
            source=media.source, path=path, name=path.stem, channel_names=media.channel_names,
            markers=media.markers, broadcast=broadcast_of(media), picture=picture_of(media),
        )  # fmt: skip
    project = load_project(path)
    if not project.recordings:
        message = f"{path.name} holds no recordings. Add one in the window first."
        raise ProjectError(message)
    chosen = [r for r in project.recordings if recording is None or r.name == recording]
    if not chosen:
        names = ", ".join(r.name for r in project.recordings)
        message = f"{path.name} has no recording {recording}; it holds {names}."
        raise ProjectError(message)
    if recording is None and len(chosen) > 1:
        names = ", ".join(r.name for r in project.recordings)
        message = f"{path.name} holds several recordings ({names}). Choose one with --recording."
        raise ProjectError(message)
    return worked_recording(chosen[0], project, progress)


def worked_recording(recording: Recording, project: Project, progress: Callable[[float], None]) -> Programme:
    """A recording after its score; refuses a file that is not the one the score was made for."""
    media = open_media(recording.path, progress)
    if media.fingerprint != recording.fingerprint:
        message = f"{recording.path.name} has changed since the project was saved. Relink it in the window first."
        raise ProjectError(message)
    paths = {r.fingerprint: r.path for r in project.recordings}
    wanted = {step.other for step in recording.score if step.other in paths}
    others = {f: found.source for f in wanted if (found := open_media(paths[f], progress)).fingerprint == f}
    chain = Chain(media.source, recording.score, ChunkCache(CHUNK_BYTES), AnalysisStore(), others.get)
    chain.prepare(progress)
    return Programme(
        source=chain.after, path=recording.path, name=recording.name,
        channel_names=media.channel_names, markers=recording.markers, broadcast=broadcast_of(media),
        picture=picture_of(media), steps=recording.score,
    )  # fmt: skip
