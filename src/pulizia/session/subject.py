# SPDX-License-Identifier: GPL-3.0-or-later
"""What is measured, delivered and reported: a recording after its steps, or a programme. No Qt."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from pulizia.audio.layouts import channel_names
from pulizia.audio.markers import Marker
from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.delivery.metadata import Metadata
from pulizia.media.broadcast import Broadcast
from pulizia.media.open import OpenMedia, broadcast_of, picture_of, tags_of
from pulizia.project.clips import Programme
from pulizia.project.model import Recording
from pulizia.project.programme import beside_film, in_place, kept_markers, kept_start, programme_of
from pulizia.project.programme_sound import ProgrammeSound
from pulizia.report.clip_table import ClipRow
from pulizia.score.chain import Chain
from pulizia.score.steps import Step


def _as_it_is(sound: Source) -> Source:
    return sound


@dataclass(frozen=True, slots=True, kw_only=True)
class Subject:
    """A recording or a programme as what is delivered.

    Attributes
    ----------
    chain : its own steps
    before, after : what is measured and delivered, without and with its own steps
    kept : where that lies in what is heard
    metadata : what travels in its files
    recording : what it is made of; None for a programme
    sound : a programme's lanes; None for a recording
    in_video : puts a delivered sound to where its video needs it, with silence around
    clip_table : gives a programme's clips for its report
    """

    id: str
    name: str
    chain: Chain
    before: Source
    after: Source
    names: tuple[str, ...]
    kept: Span
    markers: tuple[Marker, ...]
    metadata: Metadata
    steps: tuple[Step, ...]
    recording: Recording | None = None
    sound: ProgrammeSound | None = None
    clip_table: Callable[[], tuple[ClipRow, ...]] = tuple
    in_video: Callable[[Source], Source] = _as_it_is

    @property
    def rate(self) -> int:
        """Frames a second."""
        return self.after.rate

    @property
    def channels(self) -> int:
        """Channels of what is delivered."""
        return self.after.channels

    @property
    def seconds(self) -> float:
        """Length of what is delivered."""
        return self.after.frames / self.after.rate

    @property
    def video(self) -> Path | None:
        """The video file whose sound it is."""
        return self.recording.path if self.recording is not None else self.metadata.picture

    def prepare(self, progress: Callable[[float], None] = lambda _: None) -> None:
        """Let a programme's steps learn what they need, lanes first (in a worker)."""
        if self.sound is not None:
            self.sound.prepare(progress)

    def in_place(self, delivered: Source) -> Source:
        """A delivered sound at its place in what is heard, with silence around."""
        return delivered if self.recording is None else in_place(self.recording, delivered)

    @property
    def lies_elsewhere(self) -> bool:
        """Whether what is delivered does not begin where its video does, or is only a part of it."""
        return self.in_video is not _as_it_is


def recording_subject(recording: Recording, media: OpenMedia, chain: Chain) -> Subject:
    """A recording with its opened file."""
    markers = kept_markers(recording)
    metadata = Metadata(
        markers=markers, broadcast=kept_start(recording, broadcast_of(media)), tags=tags_of(media, recording.name),
        picture=picture_of(media),
    )  # fmt: skip
    return Subject(
        id=recording.id, name=recording.name, chain=chain, before=programme_of(recording, chain.before),
        after=programme_of(recording, chain.after), names=media.channel_names, kept=recording.kept, markers=markers,
        metadata=metadata, steps=recording.score, recording=recording,
        in_video=_as_it_is if recording.trim is None else partial(in_place, recording),
    )  # fmt: skip


def metadata_of(programme: Programme) -> Metadata:
    """What travels in a programme's files: its name, its markers, its start time, and the video that it goes back into."""
    seconds = programme.start_frame / programme.picture_rate
    start = Broadcast(description=programme.name, frames_since_midnight=round(seconds * programme.rate))
    film = Path(programme.film) if programme.film else None
    return Metadata(
        markers=_inside(programme), broadcast=start, picture=film if film is not None and film.is_file() else None
    )


def _inside(programme: Programme) -> tuple[Marker, ...]:
    """The markers that its file can hold."""
    return tuple(m for m in programme.markers if m.frame <= programme.frames)


def programme_subject(
    programme: Programme, sound: ProgrammeSound, clip_table: Callable[[], tuple[ClipRow, ...]]
) -> Subject:
    """A programme with its sound."""
    return Subject(
        id=programme.id, name=programme.name, chain=sound.chain, before=sound.chain.before, after=sound.after,
        names=channel_names(programme.channels), kept=Span(0, sound.after.frames), markers=_inside(programme),
        metadata=metadata_of(programme), steps=programme.steps, sound=sound, clip_table=clip_table,
        in_video=partial(beside_film, programme) if programme.film_quarters else _as_it_is,
    )  # fmt: skip
