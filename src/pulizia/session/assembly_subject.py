# SPDX-License-Identifier: GPL-3.0-or-later
"""The programme that is assembled as something to hear and to select in. No Qt."""

from __future__ import annotations

from collections.abc import Iterable

from pulizia.audio.layouts import channel_names
from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.measure.loudness import Measures, measure
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.model import Project, Recording
from pulizia.project.programme_sound import ProgrammeSound, sound_of
from pulizia.score.chain import Chain
from pulizia.session.jobs import LATER, Job
from pulizia.session.room import Room
from pulizia.session.transport import Listening
from pulizia.words import tr

SETTLE_S = 0.4  # after an edit, before measuring begins


class AssemblySubject:
    """One programme of the project: what is selected in it, how it sounds and measures, and whether it is heard."""

    def __init__(self, room: Room) -> None:
        self._room = room
        self.programme_id: str | None = None
        self.lane_id: str | None = None
        self.clip_ids: frozenset[str] = frozenset()
        self.span: Span | None = None
        self._place = 0
        self._bench_place = 0
        self._known: tuple[Programme, tuple[Chain | None, ...], ProgrammeSound | None] | None = None
        self._looked: tuple[Project, int] | None = None  # the project and how many files were open at the last look
        self._measured: tuple[ProgrammeSound, Measures] | None = None
        self._copied: tuple[tuple[int, Clip], ...] = ()  # lane number and clip
        room.on("document", self._document_changed)
        room.on("current", self._current_changed)

    # -- what is

    @property
    def programme(self) -> Programme | None:
        """The programme in the place; None when the project has none."""
        programmes = self._room.document.project.programmes
        return next((p for p in programmes if p.id == self.programme_id), programmes[0] if programmes else None)

    @property
    def lane(self) -> Lane | None:
        """The lane that new clips go to."""
        programme = self.programme
        if programme is None or not programme.lanes:
            return None
        return next((lane for lane in programme.lanes if lane.id == self.lane_id), programme.lanes[0])

    @property
    def clips(self) -> tuple[Clip, ...]:
        """The selected clips by place."""
        programme = self.programme
        if programme is None:
            return ()
        found = [c for lane in programme.lanes for c in lane.clips if c.id in self.clip_ids]
        return tuple(sorted(found, key=lambda c: c.start))

    def recording_of(self, clip: Clip) -> Recording | None:
        """The recording of a clip; None when it is no longer part of the project."""
        recordings = self._room.document.project.recordings
        return next((r for r in recordings if r.id == clip.recording_id), None)

    @property
    def names(self) -> tuple[str, ...]:
        """Names of the programme's channels."""
        programme = self.programme
        return channel_names(programme.channels) if programme is not None else ()

    @property
    def sound(self) -> ProgrammeSound | None:
        """The programme's sound; None while it holds no clips. Made anew only when something of it has changed."""
        programme = self.programme
        if programme is None or not programme.frames:
            return None
        document = self._room.document
        # asked for at every turn of the gauges: while nothing has changed, hundreds of recordings are not gone through
        looked, now, known = self._looked, (document.project, len(document.media)), self._known
        same = looked is not None and looked[0] is now[0] and looked[1] == now[1]
        if same and known is not None and known[0] is programme:
            return known[2]
        self._looked = now
        there = {r.id for r in document.project.recordings}
        chains = {i: document.chain(i) if i in there else None for i in programme.recordings}
        if known is not None and known[0] is programme and known[1] == tuple(chains.values()):
            return known[2]

        def heard(recording_id: str) -> tuple[Source, tuple[str, ...]] | None:
            chain = chains[recording_id]
            return None if chain is None else (chain.after, document.media[recording_id].channel_names)

        made = sound_of(programme, heard, document.cache, document.analyses, self._name_of)
        self._known = (programme, tuple(chains.values()), made)
        return made

    def _name_of(self, recording_id: str) -> str:
        recordings = self._room.document.project.recordings
        return next((r.name for r in recordings if r.id == recording_id), tr("a removed recording"))

    @property
    def source(self) -> Source | None:
        """What is heard: the programme after its steps, before them, or what they remove."""
        sound = self.sound
        if sound is None:
            return None
        if self._room.listening is Listening.BEFORE:
            return sound.chain.before
        return sound.chain.removed if self._room.listening.is_removed else sound.after

    @property
    def measures(self) -> Measures | None:
        """Measures of the programme after its steps, when they are known and current."""
        measured = self._measured
        return measured[1] if measured is not None and measured[0] is self.sound else None

    def want_measures(self) -> None:
        """Measure the programme in the background, unless its measures are known."""
        sound = self.sound
        if sound is None or self.measures is not None:
            return
        names, segments = self.names, self._room.document.segments

        def work(job: Job) -> Measures:
            if job.cancelled_within(SETTLE_S):
                job.progress(0.0)
            sound.prepare(lambda share: job.progress(0.3 * share))
            return measure(sound.after, segments, lambda share: job.progress(0.3 + 0.7 * share), names=names, workers=1)

        def done(measures: Measures) -> None:
            self._measured = (sound, measures)
            self._room.emit("measures")

        self._room.pool.submit(
            work, title=tr("Measuring"), priority=LATER, slot="measure:programme", on_done=done,
            on_error=lambda text: self._room.say(text, bad=True),
        )  # fmt: skip

    # -- the place

    @property
    def is_open(self) -> bool:
        """Whether the programme is heard instead of the recording on the bench."""
        return self._room.other is self

    def enter(self) -> None:
        """The place is shown: the programme is heard."""
        if not self.is_open:
            self._bench_place = self._room.transport.position
            self._change_subject(self, self._place)
            self.want_measures()

    def leave(self) -> None:
        """Another place is shown: the recording on the bench is heard again."""
        if self.is_open:
            self._place = self._room.transport.position
            self._change_subject(None, self._bench_place)

    def _change_subject(self, other: AssemblySubject | None, place: int) -> None:
        room = self._room
        room.transport.stop()
        room.transport.loop = None
        room.other = other
        room.sync(same_place=False)
        source = room.heard_source
        if source is not None:
            room.seek(min(place, source.frames))
        room.emit("listening")
        room.emit("playing")

    # -- selecting

    def select(self, clip_ids: Iterable[str]) -> None:
        """Select these clips and no others; the lane of the first becomes the one that new clips go to."""
        self.clip_ids = frozenset(clip_ids)
        programme = self.programme
        if programme is not None and self.clip_ids:
            self.lane_id = programme.lane_of(next(iter(self.clip_ids))).id
        self.span = None
        self._told()

    def toggle(self, clip_id: str) -> None:
        """Add a clip to the selection, or take it out."""
        self.select(self.clip_ids ^ {clip_id})

    def select_span(self, start: int, stop: int) -> None:
        """Mark a stretch of the programme (frames in any order); an empty one clears the mark."""
        first, last = sorted((max(0, start), max(0, stop)))
        self.span = Span(first, last) if last > first else None
        self.clip_ids = frozenset()
        if self._room.transport.loop is not None:
            self._room.transport.loop = self.span
        self._told()

    def select_behind(self) -> None:
        """Select all clips that begin at or behind the playhead."""
        programme, here = self.programme, self._room.transport.position
        if programme is not None:
            self.select(c.id for lane in programme.lanes for c in lane.clips if c.start >= here)

    def select_all(self) -> None:
        """Select every clip."""
        programme = self.programme
        if programme is not None:
            self.select(c.id for lane in programme.lanes for c in lane.clips)

    def choose_lane(self, lane_id: str) -> None:
        """Let new clips go to a lane."""
        self.lane_id = lane_id
        self._told()

    def _told(self) -> None:
        self._room.emit("selection")

    def _current_changed(self) -> None:
        if self.is_open:
            self._bench_place = 0

    def _document_changed(self) -> None:
        programme = self.programme
        if self.clip_ids:
            there = {c.id for lane in programme.lanes for c in lane.clips} if programme is not None else set()
            self.clip_ids &= there
        if self.is_open:
            self._room.sync()
            self.want_measures()
