# SPDX-License-Identifier: GPL-3.0-or-later
"""The programme that is being assembled: what is selected in it, how it sounds, and its edits. No Qt."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable
from dataclasses import replace
from pathlib import Path
from typing import Any

from pulizia.audio.fades import Law
from pulizia.audio.layouts import channel_names
from pulizia.audio.markers import Marker
from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.audio.timeline import Edge
from pulizia.delivery.deliver import Said, check_output, write_source
from pulizia.delivery.deliverable import Deliverable
from pulizia.errors import PuliziaError
from pulizia.measure.loudness import Measures, measure
from pulizia.media.broadcast import Broadcast, Loudness
from pulizia.project import programme_edits as edits
from pulizia.project.clips import Clip, Lane, LaneKind, Programme
from pulizia.project.model import Recording
from pulizia.project.programme_sound import ProgrammeSound, sound_of
from pulizia.score.chain import Chain
from pulizia.session.jobs import LATER, Job
from pulizia.session.room import Room
from pulizia.session.transport import Listening
from pulizia.units import seconds_to_frames
from pulizia.words import plural, tr

CUT_FADE_S = 0.01
SETTLE_S = 0.4  # after an edit, before measuring begins
CROSS_S = 0.04


class AssemblyDesk:
    """One programme of the project: its selection, its sound and what is done to it.

    All methods are called on the interface's thread. Edits that cannot be made are said in a sentence and change nothing.
    """

    def __init__(self, room: Room) -> None:
        self._room = room
        self.programme_id: str | None = None
        self.lane_id: str | None = None
        self.clip_ids: frozenset[str] = frozenset()
        self.span: Span | None = None
        self._place = 0
        self._bench_place = 0
        self._known: tuple[Programme, tuple[Chain | None, ...], ProgrammeSound | None] | None = None
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
        there = {r.id for r in document.project.recordings}
        chains = {i: document.chain(i) if i in there else None for i in programme.recordings}
        known = self._known
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

    def _change_subject(self, other: AssemblyDesk | None, place: int) -> None:
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

    # -- edits

    def _do(self, change: Callable[[Programme], Programme], what: str, merge_key: str | None = None) -> bool:
        programme = self.programme
        if programme is None:
            return False
        try:
            changed = change(programme)
        except PuliziaError as error:
            self._room.say(str(error), bad=True)
            return False
        if changed != programme:
            self._room.document.edit_programme(changed, what, merge_key)
        return True

    def new_programme(self, name: str = "") -> None:
        """Begin a programme with a lane for voices and one for atmosphere, at the rate of the recording on the bench."""
        project = self._room.document.project
        rates = [r.rate for r in project.recordings]
        recording = self._room.recording
        rate = recording.rate if recording is not None else max(rates, key=rates.count, default=48_000)
        number = len(project.programmes) + 1
        made = Programme(
            name=name or tr("Programme {number}", number=number), rate=rate,
            lanes=(Lane(name=tr("Voice")), Lane(name=tr("Atmosphere"), kind="atmosphere")),
        )  # fmt: skip
        self.programme_id, self.lane_id, self.clip_ids, self.span = made.id, made.lanes[0].id, frozenset(), None
        self._room.document.edit_programme(made, tr("New programme"))

    def choose_programme(self, programme_id: str) -> None:
        """Put another programme of the project into the place."""
        if programme_id == self.programme_id:
            return
        self.programme_id, self.lane_id, self.clip_ids, self.span = programme_id, None, frozenset(), None
        if self.is_open:
            self._room.transport.stop()
            self._room.transport.loop = None
            self._room.sync(same_place=False)
            self.want_measures()
        self._room.emit("document")

    def add_marker(self) -> None:
        """Set a marker at the playhead."""
        here = self._room.transport.position
        name = tr("Marker {number}", number=len(self.programme.markers) + 1 if self.programme is not None else 1)
        self._do(lambda p: replace(p, markers=tuple(sorted((*p.markers, Marker(here, name))))), tr("Set a marker"))

    def rename(self, name: str) -> None:
        """Give the programme another name."""
        if name.strip():
            self._do(lambda p: replace(p, name=name.strip()), tr("Rename the programme"))

    def add_lane(self, kind: LaneKind = "voice", name: str = "") -> None:
        """Add a lane below the others."""
        programme = self.programme
        if programme is None:
            self.new_programme()
            return
        lane = Lane(name=name or tr("Lane {number}", number=len(programme.lanes) + 1), kind=kind)
        if self._do(lambda p: p.with_lane(lane), tr("Add a lane")):
            self.choose_lane(lane.id)

    def remove_lane(self, lane_id: str) -> None:
        """Take a lane with its clips out of the programme."""
        self._do(lambda p: replace(p, lanes=tuple(la for la in p.lanes if la.id != lane_id)), tr("Remove the lane"))

    def change_lane(self, lane_id: str, what: str, **changes: Any) -> None:  # noqa: ANN401
        """Change fields of a lane: name, kind, gain_db, muted, soloed, placement, stem."""
        self._do(lambda p: p.with_lane(replace(p.lane(lane_id), **changes)), what)

    def add_recording(self, recording: Recording, span: Span | None = None, at: int | None = None) -> None:
        """Lay a recording, or a stretch of it, onto the chosen lane at a frame, or behind its last clip."""
        if self.programme is None:
            self.new_programme()
        programme, lane = self.programme, self.lane
        if programme is None:
            return
        if lane is None:
            self.add_lane()
            programme, lane = self.programme, self.lane
        if programme is None or lane is None:
            return
        kept = span or recording.kept
        scale = programme.rate / recording.rate
        inner, frames = round(kept.start * scale), max(1, round(kept.stop * scale) - round(kept.start * scale))
        start = lane.frames if at is None else max(0, at)
        fade = Edge(min(seconds_to_frames(CUT_FADE_S, programme.rate), frames // 4))
        clip = Clip(
            recording_id=recording.id, start=start, inner=inner, frames=frames, name=recording.name,
            fade_in=fade, fade_out=fade,
        )  # fmt: skip
        target = lane.id
        if self._do(lambda p: edits.put(p, target, [clip]), tr("Add {name}", name=recording.name)):
            self.select([clip.id])

    def split(self) -> None:
        """Part the clips under the playhead: the selected ones, or all."""
        here = self._room.transport.position
        programme = self.programme
        if programme is None:
            return
        lanes = {programme.lane_of(i).id for i in self.clip_ids} or None
        self._do(lambda p: edits.split(p, here, lanes), tr("Split"))

    def remove(self) -> None:
        """Lift the selected clips; silence stays where they were."""
        chosen = self.clip_ids
        if chosen:
            self._do(lambda p: edits.remove(p, chosen), tr("Remove clips"))

    def ripple_delete(self) -> None:
        """Take the marked stretch, or the one of the selected clips, out of all lanes and close the gap."""
        clips, span = self.clips, self.span
        if span is None and clips:
            span = Span(clips[0].start, max(c.stop for c in clips))
        if span is None:
            self._room.say(tr("Select clips or a section first."), bad=True)
            return
        first, last = span.start, span.stop
        if self._do(lambda p: edits.ripple_delete(p, first, last), tr("Delete and close the gap")):
            self.select_span(0, 0)
            self._room.seek(first)

    def close_gap(self) -> None:
        """Move everything behind the gap under the playhead up to it."""
        programme, here = self.programme, self._room.transport.position
        if programme is None:
            return
        stops = [c.stop for lane in programme.lanes for c in lane.clips if c.stop <= here]
        starts = [c.start for lane in programme.lanes for c in lane.clips if c.start >= here]
        under = any(c.start < here < c.stop for lane in programme.lanes for c in lane.clips)
        if under or not starts or min(starts) == max(stops, default=0):
            self._room.say(tr("There is no gap at the playhead."), bad=True)
            return
        first, last = max(stops, default=0), min(starts)
        self._do(lambda p: edits.ripple_delete(p, first, last), tr("Close the gap"))

    def trim_to_head(self, side: str) -> None:
        """Let the selected clips begin ("start") or end ("stop") at the playhead."""
        here = self._room.transport.position
        chosen = [c for c in self.clips if c.start < here < c.stop]
        if not chosen:
            self._room.say(tr("Select a clip that lies under the playhead first."), bad=True)
            return

        def trimmed(programme: Programme) -> Programme:
            for clip in chosen:
                ends = {"start": here} if side == "start" else {"stop": here}
                programme = edits.trim(programme, clip.id, **ends)
            return programme

        self._do(trimmed, tr("Trim to playhead"))

    def trim(self, clip_id: str, *, start: int | None = None, stop: int | None = None) -> bool:
        """Move an edge of a clip; drags of one edge are one entry of history."""
        key = f"trim:{clip_id}:{'start' if start is not None else 'stop'}"
        return self._do(lambda p: edits.trim(p, clip_id, start=start, stop=stop), tr("Trim a clip"), key)

    def move(self, frames: int, lane_id: str | None = None) -> bool:
        """Move the selected clips by frames, and to another lane."""
        chosen = self.clip_ids
        return bool(chosen) and self._do(lambda p: edits.move(p, chosen, frames, lane_id), tr("Move clips"))

    def nudge(self, frames: int) -> None:
        """Move the selected clips by a little; nudges in a row are one entry of history."""
        chosen = self.clip_ids
        if chosen:
            self._do(lambda p: edits.move(p, chosen, frames), tr("Move clips"), f"nudge:{sorted(chosen)}")

    def slip(self, frames: int) -> None:
        """Let the selected clips play another stretch of their recordings."""
        chosen = self.clip_ids
        if chosen:
            self._do(lambda p: edits.slip(p, chosen, frames), tr("Slip clips"), f"slip:{sorted(chosen)}")

    def set_gain(self, gain_db: float) -> None:
        """Set the gain of the selected clips."""
        chosen = self.clip_ids
        self._do(lambda p: edits.set_gain(p, chosen, gain_db), tr("Change the gain of clips"), f"gain:{sorted(chosen)}")

    def add_gain(self, change_db: float) -> None:
        """Make the selected clips louder or quieter."""
        chosen = self.clip_ids

        def changed(programme: Programme) -> Programme:
            for clip in self.clips:
                programme = edits.set_gain(programme, {clip.id}, clip.gain_db + change_db)
            return programme

        self._do(changed, tr("Change the gain of clips"), f"gain:{sorted(chosen)}")

    def set_fade(self, side: str, frames: int, law: Law | None = None, clip_ids: Collection[str] | None = None) -> None:
        """Set the fade at a side of the selected clips, or of others."""
        chosen = self.clip_ids if clip_ids is None else frozenset(clip_ids)
        self._do(
            lambda p: edits.fade(p, chosen, side=side, frames=frames, law=law), tr("Change a fade"),
            f"fade:{side}:{sorted(chosen)}",
        )  # fmt: skip

    def cross_fade(self) -> None:
        """Let each selected clip and the one it follows pass into each other around their cut."""
        programme = self.programme
        if programme is None or not self.clips:
            self._room.say(tr("Select the clip behind the cut first."), bad=True)
            return
        frames = seconds_to_frames(CROSS_S, programme.rate)

        def faded(made: Programme) -> Programme:
            for clip in self.clips:
                made = edits.cross_fade(made, clip.id, frames)
            return made

        self._do(faded, tr("Cross-fade"))

    def fill_gaps(self) -> None:
        """Lay room tone into the gaps of the chosen lane, from the recording of its first clip."""
        programme, lane = self.programme, self.lane
        voices = [c for c in lane.clips if not c.tone] if lane is not None else []
        if programme is None or lane is None or not voices:
            self._room.say(tr("Choose a lane with clips first."), bad=True)
            return
        wanted, recording, cross = lane.id, voices[0].recording_id, seconds_to_frames(CROSS_S, programme.rate)
        count = len(edits.gaps(lane, lane.frames))
        if self._do(lambda p: edits.fill_gaps(p, wanted, recording, cross=cross), tr("Fill gaps with room tone")):
            self._room.say(
                plural("1 gap filled with room tone.", "{n} gaps filled with room tone.", count)
                if count
                else tr("This lane has no gaps.")
            )

    def set_enabled(self) -> None:
        """Switch the selected clips off, or on again when all are off."""
        clips = self.clips
        on = not any(c.enabled for c in clips)
        ids = {c.id for c in clips}

        def switched(programme: Programme) -> Programme:
            for i in ids:
                programme = programme.with_changed(i, lambda c: replace(c, enabled=on))
            return programme

        self._do(switched, tr("Switch clips on") if on else tr("Switch clips off"))

    def copy(self) -> None:
        """Keep the selected clips for pasting."""
        programme = self.programme
        if programme is not None and self.clips:
            numbers = {c.id: n for n, lane in enumerate(programme.lanes) for c in lane.clips}
            self._copied = tuple((numbers[c.id], c) for c in self.clips)

    def paste(self) -> None:
        """Lay the copied clips at the playhead, on their lanes."""
        programme, here = self.programme, self._room.transport.position
        if programme is None or not self._copied:
            return
        shift = here - self._copied[0][1].start
        new = [(n, edits.copied(c, c.start + shift)) for n, c in self._copied]

        def pasted(made: Programme) -> Programme:
            for number in sorted({n for n, _ in new}):
                lane = made.lanes[min(number, len(made.lanes) - 1)]
                made = edits.put(made, lane.id, [c for n, c in new if n == number])
            return made

        if self._do(pasted, tr("Paste clips")):
            self.select(c.id for _, c in new)

    def settle(self) -> None:
        """A drag has ended: the next one is an entry of its own."""
        self._room.document.history.settle()

    def _current_changed(self) -> None:
        if self.is_open:
            self._bench_place = 0

    # -- out

    def render(self, path: Path) -> None:
        """Write the programme as a 24-bit WAV with its markers and start time, in the background."""
        programme, sound = self.programme, self.sound
        if programme is None or sound is None:
            return
        inputs = [r.path for r in self._room.document.project.recordings]
        source, said = sound.after, said_of(programme)

        def work(job: Job) -> None:
            check_output(path, inputs=inputs, overwrite=True)
            sound.prepare(lambda share: job.progress(0.3 * share))
            wanted = Deliverable(sample_format="int24")

            def told(share: float, _words: str = "") -> None:
                job.progress(0.3 + 0.7 * share)

            write_source(
                source,
                path,
                wanted,
                told,
                said=said,
                loudness=Loudness(),
            )

        missing = ", ".join(sound.silent)
        sentence = tr("Rendered to {name}.", name=path.name)
        if missing:
            sentence += " " + tr("Silent, because their files are missing: {names}.", names=missing)
        self._room.job(work, tr("Rendering {name}", name=programme.name), lambda _done: self._room.say(sentence))

    def _document_changed(self) -> None:
        programme = self.programme
        there = {c.id for lane in programme.lanes for c in lane.clips} if programme is not None else set()
        self.clip_ids &= there
        if self.is_open:
            self._room.sync()
            self.want_measures()


def said_of(programme: Programme) -> Said:
    """What travels in a programme's files: its name, its markers and its start time."""
    seconds = programme.start_frame / programme.picture_rate
    start = Broadcast(description=programme.name, frames_since_midnight=round(seconds * programme.rate))
    return Said(markers=programme.markers, broadcast=start)
