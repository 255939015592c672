# SPDX-License-Identifier: GPL-3.0-or-later
"""The programme that is assembled as something to hear and to select in. No Qt."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace
from typing import Literal

import numpy as np

from pulizia.audio.layouts import channel_names
from pulizia.audio.source import Source, read_padded
from pulizia.audio.spans import Span
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.model import Recording
from pulizia.project.programme_sound import ProgrammeSound
from pulizia.project.step_owner import StepOwner
from pulizia.score.chain import Chain
from pulizia.session.core import SessionCore
from pulizia.session.heard import Listening
from pulizia.session.heard_subject import OtherSubject, Selection
from pulizia.words import tr

Scope = Literal["recording", "lane", "programme"]


class AssemblySubject:
    """One programme of the project: what is selected in it, how it sounds and measures, and whether it is heard."""

    def __init__(self, session: SessionCore) -> None:
        self._session = session
        self.programme_id: str | None = None
        self.lane_id: str | None = None
        self.clip_ids: frozenset[str] = frozenset()
        self._taken: frozenset[str] = frozenset()  # selected clips that an edit took away: selected again with its undo
        self.span: Span | None = None
        # the programme before and after a section was removed, and the section: marked again with the undo likewise
        self._cut_out: tuple[Programme, Programme, Span] | None = None
        self.scope: Scope = (
            "programme"  # whose steps are shown: of the selected clip's recording, the lane, the programme
        )
        self._bench_step: str | None = None
        self._chosen: tuple[Programme, frozenset[str], tuple[Clip, ...]] | None = None
        self._varied: tuple[object, Source | None] | None = None
        self.instead: Source | None = (
            None  # heard in the place of the programme as it is: before an edit, or with one on trial
        )
        self._shown = False
        self._place = 0
        self._bench_place = 0
        self._copied: tuple[tuple[int, Clip], ...] = ()  # lane number and clip
        session.events.document.connect(self._document_changed)
        session.events.current.connect(self._current_changed)

    # -- what is

    @property
    def programme(self) -> Programme | None:
        """The programme in the place; None when the project has none."""
        programmes = self._session.document.project.programmes
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
        if programme is None or not self.clip_ids:
            return ()
        known = self._chosen
        if known is None or known[0] is not programme or known[1] != self.clip_ids:
            found = [c for lane in programme.lanes for c in lane.clips if c.id in self.clip_ids]
            known = self._chosen = programme, self.clip_ids, tuple(sorted(found, key=lambda c: c.start))
        return known[2]

    def recording_of(self, clip: Clip) -> Recording | None:
        """The recording of a clip; None when it is no longer part of the project."""
        recordings = self._session.document.project.recordings
        return next((r for r in recordings if r.id == clip.recording_id), None)

    @property
    def names(self) -> tuple[str, ...]:
        """Names of the programme's channels."""
        programme = self.programme
        return channel_names(programme.channels) if programme is not None else ()

    @property
    def sound(self) -> ProgrammeSound | None:
        """The programme's sound; None while it holds no clips."""
        programme = self.programme
        return self._session.document.sounds.of(programme) if programme is not None else None

    @property
    def subject_id(self) -> str | None:
        """Identity of the programme."""
        programme = self.programme
        return programme.id if programme is not None else None

    @property
    def source(self) -> Source | None:
        """What is heard: the programme as it is, or what the steps in view change of it."""
        sound = self.sound
        listening = self._session.listening
        if sound is None or listening is Listening.AFTER:
            return self.instead if self.instead is not None else sound.after if sound is not None else None
        owner = self.owner
        step_id = self._session.step_id if listening is Listening.STEP else None
        key = (sound, listening, owner, step_id)
        if self._varied is None or self._varied[0] != key:
            self._varied = key, self._variant(sound, owner, step_id)
        return self._varied[1]

    def _variant(self, sound: ProgrammeSound, owner: StepOwner | None, step_id: str | None) -> Source:
        """The programme without the steps in view, or what they, or one of them, remove."""
        removed = self._session.listening.is_removed

        def taken(chain: Chain) -> Source:
            return chain.removed_by(step_id) if self._session.listening is Listening.STEP else chain.removed

        if owner is None or owner.kind == "programme":
            return taken(sound.chain) if removed else sound.chain.before
        if owner.kind == "lane":
            if removed:
                return next(taken(lane.chain) for lane in sound.lanes if lane.lane.id == owner.id)
            return self._sound_with(sound.programme.with_lane(replace(sound.programme.lane(owner.id), steps=()))).after

        def other(recording_id: str, chain: Chain) -> Source | None:
            if removed:
                return taken(chain) if recording_id == owner.id else None
            return chain.before if recording_id == owner.id else chain.after

        programme = sound.programme
        if removed:  # what comes behind it would change what was removed
            lanes = tuple(replace(lane, steps=()) for lane in programme.lanes)
            programme = replace(programme, lanes=lanes, steps=())
        return self._sound_with(programme, other).after

    def _sound_with(
        self, programme: Programme, source_of: Callable[[str, Chain], Source | None] = lambda _id, chain: chain.after
    ) -> ProgrammeSound:
        document = self._session.document
        there = {r.id for r in document.project.recordings}

        def source(recording_id: str) -> Source | None:
            chain = document.chain(recording_id) if recording_id in there else None
            return source_of(recording_id, chain) if chain is not None else None

        return document.sounds.put_together(programme, source)

    # -- whose steps are shown

    @property
    def owner_clip(self) -> Clip | None:
        """The clip whose recording's steps can be shown: the first selected one, or that of the lane under the section."""
        clips, span, lane = self.clips, self.span, self.lane
        if clips:
            return clips[0]
        if span is None or lane is None:
            return None
        return next((c for c in lane.clips if c.start < span.stop and span.start < c.stop and not c.tone), None)

    @property
    def owner(self) -> StepOwner | None:
        """Whose steps are shown and changed."""
        programme = self.programme
        if programme is None:
            return None
        clip, lane = self.owner_clip, self.lane
        if self.scope == "recording" and clip is not None and (recording := self.recording_of(clip)) is not None:
            return StepOwner.of_recording(recording)
        if self.scope == "lane" and lane is not None:
            return StepOwner.of_lane(lane, programme)
        return StepOwner.of_programme(programme)

    @property
    def owner_chain(self) -> Chain | None:
        """Its sound before and after its steps; None while there is none."""
        owner = self.owner
        if owner is None:
            return None
        if owner.kind == "recording":
            return self._session.document.chain(owner.id)
        sound = self.sound
        if sound is None:
            return None
        if owner.kind == "programme":
            return sound.chain
        return next((lane.chain for lane in sound.lanes if lane.lane.id == owner.id), None)

    @property
    def owner_selection(self) -> Selection | None:
        """The selected section on the clock of what has the steps; of a recording, what of it is heard there."""
        owner, span, clip = self.owner, self.span, self.owner_clip
        if owner is None or span is None:
            return None
        if owner.kind == "recording" and clip is not None:
            span = Span(max(span.start, clip.start), min(span.stop, clip.stop))
        first, last = (min(max(0, self.to_owner(f)), owner.frames) for f in (span.start, span.stop))
        return Selection(Span(first, last)) if last > first else None

    def to_owner(self, frame: int) -> int:
        """A frame of the programme on the clock of what has the steps."""
        owner, clip, programme = self.owner, self.owner_clip, self.programme
        if owner is None or owner.kind != "recording" or clip is None or programme is None:
            return frame
        return round(clip.heard_at(frame) * owner.rate / programme.rate)

    def from_owner(self, frame: int) -> int:
        """A frame of what has the steps on the clock of the programme."""
        owner, clip, programme = self.owner, self.owner_clip, self.programme
        if owner is None or owner.kind != "recording" or clip is None or programme is None:
            return frame
        return max(0, round(clip.place_of(frame * programme.rate / owner.rate)))

    def zero_crossing(self, frame: int, reach: int) -> int:
        """Where the sound of the clip there, before its steps, passes through zero nearest to a frame; the frame itself when too far.

        Looked for only when ``reach`` is a few milliseconds: farther out one frame is as good as another.
        """
        programme = self.programme
        if programme is None or not 0 < reach <= programme.rate // 200:
            return frame
        clip = next((c for la in programme.lanes for c in la.clips if c.start <= frame <= c.stop and not c.tone), None)
        media = self._session.document.media.get(clip.recording_id) if clip is not None else None
        if clip is None or media is None:
            return frame
        scale = media.source.rate / programme.rate
        first, last = (round(clip.heard_at(f) * scale) for f in (frame - reach, frame + reach))
        sound = read_padded(media.source, first, last + 1).sum(axis=0)
        crossed = np.flatnonzero(np.signbit(sound[1:]) != np.signbit(sound[:-1])) + 1
        if not len(crossed):
            return frame
        at = first + int(crossed[np.abs(crossed + first - (first + last) / 2).argmin()])
        return round(clip.place_of(at / scale))

    def choose_scope(self, scope: Scope) -> None:
        """Show the steps of the selected clip's recording, of the chosen lane, or of the programme."""
        if scope == "recording" and self.owner_clip is None:
            self._session.say(tr("Select a clip first: its recording's steps are shown then."), bad=True)
            return
        self.scope = scope
        self._told()

    def want_measures(self) -> None:
        """Measure the programme in the background, unless its measures are known."""
        if (wanted := self.subject_id) is not None:
            self._session.want_measures(wanted)

    # -- the place

    @property
    def is_heard(self) -> bool:
        """Whether the programme is heard instead of the recording on the bench."""
        return self._session.other is not None

    @property
    def is_open(self) -> bool:
        """Whether its place is shown, where its clips can be selected and changed."""
        return self.is_heard and self._shown

    @property
    def positions(self) -> tuple[int, int]:
        """Where the playhead is in the recording on the bench, and in the programme: of one of both it is where it was."""
        here = self._session.transport.position
        return (self._bench_place, here) if self.is_heard else (here, self._place)

    @property
    def bench_step_id(self) -> str | None:
        """The step that is selected on the bench, or was when its recording was heard last."""
        return self._bench_step if self.is_heard else self._session.step_id

    def begin_with(self, programme_id: str, place: int) -> None:
        """The programme and the frame at which the place opens."""
        self.programme_id, self._place = programme_id, place

    def enter(self, *, shown: bool = True) -> None:
        """The programme is heard; its place is ``shown``, or another one that is about it."""
        self._shown = shown
        if not self.is_heard:
            self._bench_place, self._bench_step = self._session.transport.position, self._session.step_id
            self._change_subject(self, self._place)
            self.want_measures()

    def leave(self) -> None:
        """The recording on the bench is heard again."""
        self._shown = False
        if self.is_heard:
            self._place = self._session.transport.position
            self._change_subject(None, self._bench_place)
            self._session.step_id = self._bench_step
            self._session.first_step()
            self._session.events.selection.emit()

    def _change_subject(self, other: OtherSubject | None, place: int) -> None:
        session = self._session
        session.transport.stop()
        session.transport.loop = None
        session.other = other
        session.first_step()
        session.sync(same_place=False)
        source = session.heard_source
        if source is not None:
            session.seek(min(place, source.frames))
        session.events.listening.emit()
        session.events.playing.emit()

    # -- selecting

    def select(self, clip_ids: Iterable[str]) -> None:
        """Select these clips and no others; the lane of the first becomes the one that new clips go to."""
        in_order = list(clip_ids)
        self.clip_ids, self._taken = frozenset(in_order), frozenset()
        programme = self.programme
        if programme is not None and in_order:
            self.lane_id = programme.lane_of(in_order[0]).id
            self.scope = "recording"
        elif self.scope == "recording":
            self.scope = "programme"
        self.span = self._cut_out = None
        self._told()

    def toggle(self, clip_id: str) -> None:
        """Add a clip to the selection, or take it out."""
        others = [c.id for c in self.clips if c.id != clip_id]
        self.select(others if clip_id in self.clip_ids else [clip_id, *others])

    def select_span(self, start: int, stop: int) -> None:
        """Mark a stretch of the programme (frames in any order); an empty one clears the mark."""
        first, last = sorted((max(0, start), max(0, stop)))
        self.span = Span(first, last) if last > first else None
        self.clip_ids, self._taken, self._cut_out = frozenset(), frozenset(), None
        if self.scope == "recording":
            self.scope = "lane" if self.span is not None else "programme"
        if self._session.transport.loop is not None:
            self._session.transport.loop = self.span
        self._told()

    def select_behind(self) -> None:
        """Select all clips that begin at or behind the playhead."""
        programme, here = self.programme, self._session.transport.position
        if programme is not None:
            self.select(c.id for lane in programme.lanes for c in lane.clips if c.start >= here)

    def select_lane(self) -> None:
        """Select every clip of the chosen lane."""
        lane = self.lane
        if lane is not None:
            self.select(c.id for c in lane.clips)

    def select_all(self) -> None:
        """Select every clip."""
        programme = self.programme
        if programme is not None:
            self.select(c.id for lane in programme.lanes for c in lane.clips)

    def choose_lane(self, lane_id: str) -> None:
        """Let new clips go to a lane, and show its steps."""
        self.lane_id, self.scope = lane_id, "lane"
        self._told()

    def _told(self) -> None:
        if self.is_heard:
            self._session.first_step()
            if self._session.listening is not Listening.AFTER:
                self._session.sync()
        self._session.events.selection.emit()

    def _current_changed(self) -> None:
        if self.is_heard:
            self._bench_place = 0

    def _document_changed(self) -> None:
        self.instead = None
        programme = self.programme
        if self.clip_ids or self._taken:
            there = {c.id for lane in programme.lanes for c in lane.clips} if programme is not None else set()
            self._taken |= self.clip_ids - there
            self.clip_ids = (self.clip_ids | self._taken) & there
        if self._cut_out is not None:
            before, after, span = self._cut_out
            if programme is before:
                self.span = span
            elif programme is after and self.span == span:
                self.span = None
        if self.is_heard:
            self._session.sync()
            self.want_measures()
