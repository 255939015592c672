# SPDX-License-Identifier: GPL-3.0-or-later
"""Edits of the programme that is assembled. No Qt."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import replace
from typing import Any

from pulizia.audio.fades import Law
from pulizia.audio.markers import Marker
from pulizia.audio.spans import Span
from pulizia.audio.timeline import Edge
from pulizia.errors import PuliziaError
from pulizia.measure.loudness import measure
from pulizia.project import programme_edits as edits
from pulizia.project.clips import Clip, Lane, LaneKind, Programme
from pulizia.project.model import Recording
from pulizia.session.assembly_subject import AssemblySubject
from pulizia.session.jobs import Job
from pulizia.units import format_number, seconds_to_frames
from pulizia.words import plural, tr

CUT_FADE_S = 0.01
CROSS_S = 0.04


class AssemblyDesk(AssemblySubject):
    """What is done to the programme.

    All methods are called on the interface's thread. Edits that cannot be made are said in a sentence and change nothing.
    """

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
        if self.is_heard:
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
        """Lift the selected clips, or the marked section of all lanes; silence stays where they were."""
        chosen, span = self.clip_ids, self.span
        if chosen:
            self._do(lambda p: edits.remove(p, chosen), tr("Remove clips"))
        elif span is not None:
            self._do(lambda p: edits.lift(p, span.start, span.stop), tr("Remove the section"))

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

    def go_to_cut(self, direction: int) -> None:
        """Put the playhead at the next (1) or previous (-1) beginning or end of a clip."""
        programme, here = self.programme, self._room.transport.position
        if programme is None:
            return
        places = [f for f in edits.cuts(programme) if (f > here if direction > 0 else f < here)]
        if places:
            self._room.seek(places[0] if direction > 0 else places[-1])

    def match_loudness(self) -> None:
        """Give the selected clips gains with which all are as loud as the middle one of them (BS.1770, each by itself)."""
        sound, clips = self.sound, [c for c in self.clips if c.enabled and not c.tone]
        if sound is None or len(clips) < 2:
            self._room.say(tr("Select two clips or more first."), bad=True)
            return

        def work(job: Job) -> list[float | None]:
            found: list[float | None] = []
            for n, clip in enumerate(clips):
                alone = sound.clip_alone(clip)
                found.append(None if alone is None else measure(alone, workers=1).integrated_lufs)
                job.progress((n + 1) / len(clips))
            return found

        def done(found: list[float | None]) -> None:
            known = [(c.id, lufs) for c, lufs in zip(clips, found, strict=True) if lufs is not None]
            if len(known) < 2:
                self._room.say(tr("The selected clips are too short or too quiet to measure."), bad=True)
                return
            middle = sorted(lufs for _, lufs in known)[len(known) // 2]

            def matched(programme: Programme) -> Programme:
                for clip_id, lufs in known:
                    programme = programme.with_changed(
                        clip_id,
                        lambda c, by=middle - lufs: replace(c, gain_db=round(c.gain_db + by, 1)),  # type: ignore[misc]
                    )
                return programme

            if self._do(matched, tr("Match the loudness of clips")):
                self._room.say(tr("All selected clips are at {lufs} LUFS.", lufs=format_number(middle)))

        self._room.job(work, tr("Measuring clips"), done)

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

    # -- steps of what is shown

    def switch_step(self) -> None:
        """Switch the selected step on or off."""
        owner, step = self.owner, self._room.step
        if owner is not None and step is not None:
            self._room.document.set_enabled(owner.id, step.id, enabled=not step.enabled)

    def move_step(self, by: int) -> None:
        """Move the selected step up (-1) or down (1)."""
        owner, step = self.owner, self._room.step
        if owner is not None and step is not None:
            self._room.document.move_step(owner.id, step.id, [s.id for s in owner.steps].index(step.id) + by)

    def remove_step(self) -> None:
        """Take the selected step away."""
        owner, step = self.owner, self._room.step
        if owner is not None and step is not None:
            self._room.document.remove_step(owner.id, step.id)

    def paste_step_on_lanes(self) -> None:
        """Add the selected step to every other lane of the chosen one's kind, as one edit."""
        programme, lane, step = self.programme, self.lane, self._room.step
        if programme is None or lane is None or step is None:
            return
        others = [other.id for other in programme.lanes if other.kind == lane.kind and other.id != lane.id]
        if not others:
            self._room.say(tr("There is no other lane of this kind."), bad=True)
            return
        self._room.document.paste_step_on(others, step)

    def restore_original(self) -> None:
        """Give the untouched take back in the section on the chosen lane, or in the selected clips: one edit."""
        programme, span, lane = self.programme, self.span, self.lane
        if programme is None:
            return
        if span is not None and lane is not None:
            under = [c for c in lane.clips if c.start < span.stop and span.start < c.stop]
            places = [(c, Span(max(c.start, span.start), min(c.stop, span.stop))) for c in under]
        else:
            places = [(c, c.span) for c in self.clips]
        owners: list[tuple[str, Span]] = []
        for clip, part in places:
            recording = self.recording_of(clip)
            if recording is not None and not clip.tone:
                scale = recording.rate / programme.rate
                first, last = (round((f - clip.start + clip.inner) * scale) for f in (part.start, part.stop))
                owners.append((recording.id, Span(max(0, first), min(recording.frames, last))))
        if not owners:
            self._room.say(tr("Select clips, or a section of a lane, first."), bad=True)
        elif not self._room.document.give_back_in(owners):
            self._room.say(tr("No step applies to the selection: it is already the original."))

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
