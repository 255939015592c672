# SPDX-License-Identifier: GPL-3.0-or-later
"""The sounds of a project's programmes, each put together anew only when something of it has changed. No Qt."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

from pulizia.audio.source import Source
from pulizia.media.open import OpenMedia
from pulizia.project.clips import Programme
from pulizia.project.model import Project
from pulizia.project.programme_sound import ProgrammeSound, sound_of
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.words import tr


class Opened(Protocol):
    """A project with its opened files."""

    media: dict[str, OpenMedia]
    cache: ChunkCache
    analyses: AnalysisStore

    @property
    def project(self) -> Project:
        """The present project."""
        ...

    def chain(self, recording_id: str) -> Chain | None:
        """A recording's sound; None while its file is not open."""
        ...


@dataclass(slots=True)
class _Made:
    project: Project
    opened: int  # how many files were open
    programme: Programme
    chains: tuple[Chain | None, ...]
    sound: ProgrammeSound | None


class ProgrammeSounds:
    """Asked for at every turn of the gauges: while nothing has changed, hundreds of recordings are not gone through."""

    def __init__(self, opened: Opened) -> None:
        self._opened = opened
        self._made: dict[str, _Made] = {}

    def of(self, programme: Programme) -> ProgrammeSound | None:
        """The sound of a programme as it is now; None while it holds no clips."""
        opened, known = self._opened, self._made.get(programme.id)
        project = opened.project
        if (
            known is not None
            and (known.project is project and known.programme is programme)
            and known.opened == len(opened.media)
        ):
            return known.sound
        there = {r.id for r in project.recordings}
        chains = {i: opened.chain(i) if i in there else None for i in programme.recordings}
        if known is not None and known.programme is programme and known.chains == tuple(chains.values()):
            known.project, known.opened = project, len(opened.media)
            return known.sound
        made = None
        if programme.frames:
            made = self.put_together(
                programme, lambda i: chain.after if (chain := chains[i]) is not None else None,
                known.sound if known is not None else None,
            )  # fmt: skip
        self._made.pop(programme.id, None)
        self._drop_what_is_old(project)
        self._made[programme.id] = _Made(project, len(opened.media), programme, tuple(chains.values()), made)
        return made

    def _drop_what_is_old(self, project: Project) -> None:
        """Let go of programmes that are gone, and of those whose recordings sound differently now: they hold all of it."""
        there, programmes = {r.id for r in project.recordings}, {p.id for p in project.programmes}
        chain = self._opened.chain
        for programme_id, made in list(self._made.items()):
            now = (chain(i) if i in there else None for i in dict.fromkeys(made.programme.recordings))
            if programme_id not in programmes or any(a is not b for a, b in zip(made.chains, now, strict=True)):
                del self._made[programme_id]

    def put_together(
        self, programme: Programme, source_of: Callable[[str], Source | None], previous: ProgrammeSound | None = None
    ) -> ProgrammeSound:
        """The sound of a programme whose recordings sound as given; None is silence. ProjectError without clips.

        ``previous`` is the sound that it follows: what did not change is taken over.
        """
        opened = self._opened

        def heard(recording_id: str) -> tuple[Source, tuple[str, ...]] | None:
            source = source_of(recording_id)
            return None if source is None else (source, opened.media[recording_id].channel_names)

        return sound_of(programme, heard, opened.cache, opened.analyses, self._name_of, previous)

    def _name_of(self, recording_id: str) -> str:
        recordings = self._opened.project.recordings
        return next((r.name for r in recordings if r.id == recording_id), tr("a removed recording"))

    def forget(self) -> None:
        """Another project."""
        self._made.clear()
