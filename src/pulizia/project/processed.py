# SPDX-License-Identifier: GPL-3.0-or-later
"""A file or a project's recording as the sound to render or deliver."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.delivery.metadata import Metadata
from pulizia.errors import ProjectError
from pulizia.media.identity import whole_digest
from pulizia.media.open import OpenMedia, broadcast_of, open_media, picture_of, tags_of
from pulizia.project.file import SUFFIX, load_project
from pulizia.project.model import Project, Recording
from pulizia.project.programme import kept_markers, kept_start, programme_of
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.units import seconds_to_frames

CHUNK_BYTES = 384 << 20  # of rendered sound held: what steps listened to need not be rendered again


@dataclass(frozen=True, slots=True, kw_only=True)
class Processed:
    """A recording with its worked sound, and the file from which it comes.

    Attributes
    ----------
    sound : all of it, after its score; ``kept`` is what is delivered
    """

    sound: Source
    recording: Recording
    media: OpenMedia

    @property
    def kept(self) -> Source:
        """What is delivered."""
        return programme_of(self.recording, self.sound)

    @property
    def name(self) -> str:
        """For people."""
        return self.recording.name

    @property
    def metadata(self) -> Metadata:
        """What travels in its files: markers, recorder metadata, and the picture it came from."""
        return Metadata(
            markers=kept_markers(self.recording),
            broadcast=kept_start(self.recording, broadcast_of(self.media)),
            tags=tags_of(self.media, self.name),
            picture=picture_of(self.media),
        )


def trimmed(recording: Recording, keep: Sequence[float] | None) -> Recording:
    """A recording trimmed as a flag says; ProjectError when there is nothing to keep."""
    if keep is None:
        return recording
    start, stop = (seconds_to_frames(s, recording.rate) for s in keep)
    if not 0 <= start < min(stop, recording.frames):
        message = f"--keep takes FROM and TO in seconds, FROM before TO, inside the {recording.seconds:.2f} s of {recording.name}."
        raise ProjectError(message)
    return recording.with_trim(Span(start, stop))


def processed_file(path: Path, recording: str | None, progress: Callable[[float], None]) -> Processed:
    """The sound of a file, or a project's recording after its score."""
    if path.suffix.lower() != SUFFIX:
        media = open_media(path, progress)
        return Processed(sound=media.source, recording=Recording.of_media(media), media=media)
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
    return processed_recording(chosen[0], project, progress)


def processed_recording(recording: Recording, project: Project, progress: Callable[[float], None]) -> Processed:
    """A recording after its score; refuses a file that is not the one the score was made for."""
    media = open_media(recording.path, progress)
    if media.fingerprint != recording.fingerprint:
        message = f"{recording.path.name} has changed since the project was saved. Relink it in the window first."
        raise ProjectError(message)
    if recording.digest and whole_digest(recording.path) != recording.digest:
        message = (
            f"{recording.path.name} has changed inside since the project was saved. Relink it in the window first."
        )
        raise ProjectError(message)
    paths = {r.fingerprint: r.path for r in project.recordings}
    wanted = {step.other for step in recording.score if step.other in paths}
    others = {f: found.source for f in wanted if (found := open_media(paths[f], progress)).fingerprint == f}
    chain = Chain(media.source, recording.score, ChunkCache(CHUNK_BYTES), AnalysisStore(), others.get)
    chain.prepare(progress)
    return Processed(sound=chain.after, recording=recording, media=media)
