# SPDX-License-Identifier: GPL-3.0-or-later
"""What a project holds: an immutable value; every edit makes a new one."""

from __future__ import annotations

import itertools
import uuid
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from pulizia.audio.markers import Marker, in_order
from pulizia.audio.spans import Span
from pulizia.errors import ProjectError
from pulizia.media.open import OpenMedia
from pulizia.project.clips import Programme
from pulizia.score.step_rows import added, changed, moved, restored, without
from pulizia.score.steps import Step
from pulizia.words import tr

SHORTEST_KEPT_S = 0.1


@dataclass(frozen=True, slots=True, kw_only=True)
class Recording:
    """One source file, never written to, with its own score."""

    path: Path
    name: str
    fingerprint: str
    rate: int
    channels: int
    frames: int
    score: tuple[Step, ...] = ()
    markers: tuple[Marker, ...] = ()
    left: tuple[str, ...] = ()  # kinds of trouble that shall stay as they are
    digest: str = ""  # of the whole file, where it was known when the project was saved
    trim: Span | None = None  # what of it is the programme; None is all
    target_id: str = ""  # what it is delivered for; "" is the target of the project
    id: str = field(default_factory=lambda: uuid.uuid4().hex[:12])

    @classmethod
    def of_media(cls, media: OpenMedia) -> Recording:
        """A recording with an empty score."""
        source = media.source
        return cls(
            path=media.path.absolute(), name=media.path.stem, fingerprint=media.fingerprint,
            rate=source.rate, channels=source.channels, frames=source.frames,
            markers=in_order(media.markers, source.frames),
        )  # fmt: skip

    def relinked(self, media: OpenMedia) -> Recording:
        """The recording with another file, and all that was done to it.

        Raises
        ------
        ProjectError
            When its steps were made at another sample rate.
        """
        source = media.source
        if source.rate != self.rate and (self.fingerprint or self.score):
            message = tr(
                "{name} has {rate} Hz, the steps were made at {expected} Hz. Choose the original file.",
                name=media.path.name,
                rate=source.rate,
                expected=self.rate,
            )
            raise ProjectError(message)
        return replace(
            self, path=media.path.absolute(), fingerprint=media.fingerprint, digest="", rate=source.rate, channels=source.channels,
            frames=source.frames, trim=self.trim if self.trim is not None and self.trim.stop <= source.frames else None,
        )  # fmt: skip

    @property
    def seconds(self) -> float:
        """Length."""
        return self.frames / self.rate

    @property
    def kept(self) -> Span:
        """What of the recording is the programme."""
        return self.trim or Span(0, self.frames)

    @property
    def kept_seconds(self) -> float:
        """Length of the programme."""
        return self.kept.frames / self.rate

    def with_trim(self, trim: Span | None) -> Recording:
        """With another stretch as its programme; None is all. ProjectError when too little would be left."""
        if trim is not None:
            trim = Span(max(0, trim.start), min(trim.stop, self.frames))
            if trim.frames < SHORTEST_KEPT_S * self.rate:
                message = tr(
                    "A trimmed recording keeps at least {shortest_kept_s:g} s. Select a longer section.",
                    shortest_kept_s=SHORTEST_KEPT_S,
                )
                raise ProjectError(message)
        return replace(self, trim=None if trim == Span(0, self.frames) else trim)

    def step(self, step_id: str) -> Step:
        """The step with this identity."""
        for step in self.score:
            if step.id == step_id:
                return step
        raise KeyError(step_id)

    def with_step(self, step: Step) -> Recording:
        """With a new step at the place that its tool recommends."""
        return replace(self, score=added(self.score, step))

    def with_changed(self, step_id: str, change: Callable[[Step], Step]) -> Recording:
        """With one step changed."""
        return replace(self, score=changed(self.score, step_id, change))

    def without_step(self, step_id: str) -> Recording:
        """Without one step."""
        return replace(self, score=without(self.score, step_id))

    def with_moved(self, step_id: str, place: int) -> Recording:
        """With one step at another place in the order, counted from 0."""
        return replace(self, score=moved(self.score, step_id, place))

    def with_markers(self, markers: Iterable[Marker]) -> Recording:
        """With these markers, by time."""
        return replace(self, markers=in_order(markers, self.frames))

    def with_given_back(self, span: Span) -> Recording:
        """With the original given back in a stretch: no step but those that set the level acts there."""
        return replace(self, score=restored(self.score, span, self.frames))


@dataclass(frozen=True, slots=True, kw_only=True)
class Project:
    """Recordings with their scores, the programmes made of them, and the target of the delivery."""

    recordings: tuple[Recording, ...] = ()
    target_id: str = "ebu-r128"
    programmes: tuple[Programme, ...] = ()
    id: str = field(default_factory=lambda: uuid.uuid4().hex)

    def target_of(self, subject_id: str | None) -> str:
        """What a recording or programme is delivered for."""
        own = {row.id: row.target_id for row in self.programmes} | {row.id: row.target_id for row in self.recordings}
        return own.get(subject_id or "") or self.target_id

    def with_target(self, target_id: str, subject_id: str | None = None) -> Project:
        """With a target for one recording or programme; without one, for all of them."""

        def wanted(row: Any) -> Any:  # noqa: ANN401 - a recording or a programme
            own = "" if subject_id is None else target_id if row.id == subject_id else row.target_id
            return row if own == row.target_id else replace(row, target_id=own)

        return replace(
            self, target_id=target_id if subject_id is None else self.target_id,
            recordings=tuple(wanted(r) for r in self.recordings), programmes=tuple(wanted(p) for p in self.programmes),
        )  # fmt: skip

    def recording(self, recording_id: str) -> Recording:
        """The recording with this identity."""
        for recording in self.recordings:
            if recording.id == recording_id:
                return recording
        message = tr("The recording is no longer part of the project.")
        raise ProjectError(message)

    def with_recording(self, recording: Recording) -> Project:
        """With one more recording, or an existing one replaced."""
        ids = [r.id for r in self.recordings]
        if recording.id in ids:
            return replace(
                self,
                recordings=tuple(recording if r.id == recording.id else r for r in self.recordings),
            )
        return replace(self, recordings=(*self.recordings, recording))

    def programme(self, programme_id: str) -> Programme:
        """The programme with this identity."""
        for programme in self.programmes:
            if programme.id == programme_id:
                return programme
        message = tr("The programme is no longer part of the project.")
        raise ProjectError(message)

    def with_programme(self, programme: Programme) -> Project:
        """With one more programme, or one replaced; another one of the same name gets a number behind it."""
        if any(known.id == programme.id for known in self.programmes):
            return replace(
                self, programmes=tuple(programme if p.id == programme.id else p for p in self.programmes)
            )  # fmt: skip
        taken = {known.name for known in self.programmes}
        names = itertools.chain([programme.name], (f"{programme.name} ({n})" for n in itertools.count(2)))
        free = next(name for name in names if name not in taken)
        named = programme if free == programme.name else replace(programme, name=free)
        return replace(self, programmes=(*self.programmes, named))

    def without_programme(self, programme_id: str) -> Project:
        """Without one programme; its recordings stay."""
        return replace(self, programmes=tuple(p for p in self.programmes if p.id != programme_id))

    def without_recording(self, recording_id: str) -> Project:
        """Without one recording; its file stays where it is."""
        return replace(self, recordings=tuple(r for r in self.recordings if r.id != recording_id))
