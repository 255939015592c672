# SPDX-License-Identifier: GPL-3.0-or-later
"""Edits of the programme that is assembled. No Qt."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace
from fractions import Fraction
from typing import Any

from pulizia.audio.fades import Law
from pulizia.audio.spans import Span
from pulizia.audio.timeline import Edge
from pulizia.errors import MediaError
from pulizia.media.facts import media_facts
from pulizia.project import programme_edits as edits
from pulizia.project import time_edits
from pulizia.project.clips import Clip, Programme
from pulizia.project.cross_fades import cross_fade, cross_fades
from pulizia.project.handles import Handles
from pulizia.project.model import Recording
from pulizia.session.assembly_lanes import AssemblyLanes
from pulizia.units import seconds_to_frames
from pulizia.words import plural, tr

CUT_FADE_S = 0.01
CROSS_S = 0.04


def clip_of(recording: Recording, rate: int, start: int, span: Span | None = None) -> Clip:
    """A clip of what is kept of a recording, or of a stretch of it, at a frame of a programme of this rate."""
    kept = span or recording.kept
    scale = rate / recording.rate
    inner, frames = round(kept.start * scale), max(1, round(kept.stop * scale) - round(kept.start * scale))
    fade = Edge(min(seconds_to_frames(CUT_FADE_S, rate), frames // 4))
    return Clip(
        recording_id=recording.id, start=start, inner=inner, frames=frames, name=recording.name, fade_in=fade, fade_out=fade,
    )  # fmt: skip


class AssemblyService(AssemblyLanes):
    """What is done to the programme.

    All methods are called on the interface's thread. Edits that cannot be made are said in a sentence and change nothing.
    """

    # -- edits

    def choose_programme(self, programme_id: str) -> None:
        """Put another programme of the project into the place."""
        if programme_id == self.programme_id:
            return
        self.programme_id, self.lane_id, self.clip_ids, self.span = programme_id, None, frozenset(), None
        if self.is_heard:
            self._session.transport.stop()
            self._session.transport.loop = None
            self._session.sync(same_place=False)
            self.want_measures()
        self._session.events.document.emit()

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
        clip = clip_of(recording, programme.rate, lane.frames if at is None else max(0, at), span)
        target = lane.id
        if self.apply(lambda p: edits.put(p, target, [clip]), tr("Add {name}", name=recording.name)):
            self.select([clip.id])

    def add_at_timecode(self, recording: Recording) -> None:
        """Lay a recording where its start time says, on the clock of the programme."""
        if self.programme is None:
            self.new_programme()
        programme, media = self.programme, self._session.document.media.get(recording.id)
        if programme is None or media is None:
            return
        try:
            began = media_facts(media.path).start
        except MediaError as error:
            self._session.say(str(error), bad=True)
            return
        if not began:
            self._session.say(tr("{name} has no start time.", name=recording.name), bad=True)
            return
        start_s = began + Fraction(recording.kept.start, recording.rate)
        at = round((start_s - programme.start_frame / programme.picture_rate) * programme.rate)
        if at < 0:
            self._session.say(
                tr("{name} begins before the programme. Set an earlier start of the programme.", name=recording.name),
                bad=True,
            )
            return
        self.add_recording(recording, at=at)

    def split(self) -> None:
        """Part the clips under the playhead: the selected ones, or all."""
        here = self._session.transport.position
        programme = self.programme
        if programme is None:
            return
        lanes = {lane.id for lane in programme.lanes_with(self.clip_ids)} or None
        if self.apply(lambda p: edits.split(p, here, lanes), tr("Split")) and self.programme == programme:
            self._session.say(tr("No clip to split lies under the playhead."), bad=True)

    def remove(self) -> None:
        """Lift the selected clips, or the marked section of all lanes; silence stays where they were."""
        chosen, span = self.clip_ids, self.span
        if chosen:
            self.apply(lambda p: edits.remove(p, chosen), tr("Remove clips"))
        elif span is not None:
            self.apply(lambda p: edits.lift(p, span.start, span.stop), tr("Remove the section"))

    def ripple_delete(self) -> None:
        """Take the marked stretch, or the one of the selected clips, out of all lanes and close the gap."""
        clips, span = self.clips, self.span
        if span is None and clips:
            span = Span(clips[0].start, max(c.stop for c in clips))
        if span is None:
            self._session.say(tr("Select clips or a section first."), bad=True)
            return
        first, last, before = span.start, span.stop, self.programme
        if self.apply(lambda p: time_edits.ripple_delete(p, first, last), tr("Delete and close the gap")):
            after = self.programme
            if self.span is not None:
                self.select_span(0, 0)
                if before is not None and after is not None and after is not before:
                    self._cut_out = before, after, span
            self._session.seek(first)

    def close_gap(self) -> None:
        """Move everything behind the gap under the playhead up to it."""
        programme, here = self.programme, self._session.transport.position
        if programme is None:
            return
        gap = time_edits.gap_at(programme, here)
        if gap is None:
            self._session.say(tr("There is no gap at the playhead."), bad=True)
            return
        self.apply(lambda p: time_edits.ripple_delete(p, gap.start, gap.stop), tr("Close the gap"))

    def trim_to_head(self, side: str) -> None:
        """Let the selected clips begin ("start") or end ("stop") at the playhead."""
        here = self._session.transport.position
        chosen = [c for c in self.clips if c.start < here < c.stop]
        if not chosen:
            self._session.say(tr("Select a clip that lies under the playhead first."), bad=True)
            return

        def trimmed(programme: Programme) -> Programme:
            for clip in chosen:
                ends = {"start": here} if side == "start" else {"stop": here}
                programme = edits.trim(programme, clip.id, **ends)
            return programme

        self.apply(trimmed, tr("Trim to playhead"))

    def trim(self, clip_id: str, *, start: int | None = None, stop: int | None = None) -> bool:
        """Move an edge of a clip; drags of one edge are one entry of history."""
        key, handles = f"trim:{clip_id}:{'start' if start is not None else 'stop'}", self.handles

        def trimmed(programme: Programme) -> Programme:
            clip = programme.lane_of(clip_id).clip(clip_id)
            first = None if start is None else handles.start(clip, start)
            last = None if stop is None else handles.stop(clip, stop)
            return edits.trim(programme, clip_id, start=first, stop=last)

        return self.apply(trimmed, tr("Trim a clip"), key)

    @property
    def handles(self) -> Handles:
        """How far the clips of the programme can be opened."""
        rate = self.programme.rate if self.programme is not None else 1
        return Handles(self._session.document.project.recordings, rate)

    def move(self, frames: int, lane_id: str | None = None) -> bool:
        """Move the selected clips by frames, and to another lane."""
        chosen = self.clip_ids
        return bool(chosen) and self.apply(lambda p: edits.move(p, chosen, frames, lane_id), tr("Move clips"))

    def move_to_lane(self, by: int) -> None:
        """Move the selected clips to the lane above (-1) or below (1)."""
        programme, clips = self.programme, self.clips
        if programme is None or not clips:
            return
        lanes = [lane.id for lane in programme.lanes]
        at = lanes.index(programme.lane_of(clips[0].id).id) + by
        if 0 <= at < len(lanes) and self.move(0, lanes[at]):
            self.select(c.id for c in clips)

    def change_programme(self, what: str, **changes: Any) -> None:  # noqa: ANN401
        """Change fields of the programme: start_frame, picture_rate, drop_frame, picture_locked, channels, target_id."""
        self.apply(lambda p: replace(p, **changes), what)

    def nudge(self, frames: int) -> None:
        """Move the selected clips by a little; nudges in a row are one entry of history."""
        chosen = self.clip_ids
        if chosen:
            self.apply(lambda p: edits.move(p, chosen, frames), tr("Move clips"), f"nudge:{sorted(chosen)}")

    def slip(self, frames: int) -> None:
        """Let the selected clips play another stretch of their recordings."""
        chosen, by = self.clip_ids, self.handles.slip(self.clips, frames)
        if chosen and frames and not by:
            self._session.say(tr("The recording ends there: a clip that is shorter than it can be slipped."), bad=True)
        elif chosen:
            self.apply(lambda p: edits.slip(p, chosen, by), tr("Slip clips"), f"slip:{sorted(chosen)}")

    def slide(self, clip_id: str, frames: int) -> bool:
        """Move a clip between its neighbours, whose edges follow it; drags are one entry of history."""
        handles = self.handles
        return self.apply(
            lambda p: edits.slide(p, clip_id, frames, handles), tr("Slide a clip"), f"slide:{clip_id}"
        )  # fmt: skip

    def roll(self, clip_id: str, side: str, frame: int) -> bool:
        """Move the cut between a clip and its neighbour; drags are one entry of history."""
        handles = self.handles
        return self.apply(
            lambda p: edits.roll(p, clip_id, side, frame, handles), tr("Move a cut"), f"roll:{clip_id}:{side}"
        )  # fmt: skip

    def duplicate(self) -> None:
        """Lay copies of the selected clips behind them, on their lanes."""
        programme, clips = self.programme, self.clips
        if programme is None or not clips:
            return
        by, chosen = max(c.stop for c in clips) - clips[0].start, self.clip_ids
        known = {c.id for lane in programme.lanes for c in lane.clips}
        if self.apply(lambda p: edits.duplicate(p, chosen, by), tr("Duplicate clips")):
            now = self.programme
            self.select(
                c.id for lane in now.lanes for c in lane.clips if c.id not in known
            ) if now is not None else None

    def insert(self) -> None:
        """Paste the copied clips at the playhead; all behind it moves on to make room."""
        programme, here = self.programme, self._session.transport.position
        if programme is None or not self._copied:
            return
        first = self._copied[0][1].start
        length = max(c.stop for _, c in self._copied) - first
        with self._session.document.history.one_deed(tr("Insert clips")):
            self.apply(lambda p: time_edits.insert_time(p, here, length), tr("Insert clips"))
            self.paste()

    def set_line(self, clip_id: str, points: tuple[tuple[int, float], ...]) -> bool:
        """Give a clip another gain line; drags are one entry of history."""
        line = tuple((at, round(db, 1)) for at, db in sorted(points))
        return self.apply(
            lambda p: p.with_changed(clip_id, lambda c: replace(c, gain_line=line)), tr("Change a gain line"),
            f"line:{clip_id}",
        )  # fmt: skip

    def set_gain(self, gain_db: float) -> None:
        """Set the gain of the selected clips."""
        chosen = self.clip_ids
        self.apply(
            lambda p: edits.set_gain(p, chosen, gain_db), tr("Change the gain of clips"), f"gain:{sorted(chosen)}"
        )

    def set_channel(self, channel: int | None) -> None:
        """Let the selected clips hear one channel of their recordings, or all (None)."""
        chosen = self.clip_ids
        self.apply(
            lambda p: p.with_all_changed(chosen, lambda c: replace(c, channel=channel)),
            tr("Change the channel of clips"),
        )

    def add_gain(self, change_db: float) -> None:
        """Make the selected clips louder or quieter."""
        chosen = self.clip_ids
        self.apply(
            lambda p: p.with_all_changed(chosen, lambda c: replace(c, gain_db=c.gain_db + change_db)),
            tr("Change the gain of clips"), f"gain:{sorted(chosen)}",
        )  # fmt: skip

    def go_to_cut(self, direction: int) -> None:
        """Put the playhead at the next (1) or previous (-1) beginning or end of a clip."""
        programme, here = self.programme, self._session.transport.position
        if programme is None:
            return
        places = [f for f in edits.cuts(programme) if (f > here if direction > 0 else f < here)]
        if places:
            self._session.seek(places[0] if direction > 0 else places[-1])

    def set_fade(
        self, side: str, frames: int | None, law: Law | None = None, clip_ids: Collection[str] | None = None
    ) -> None:
        """Set the fade at a side of the selected clips, or of others; None leaves each its length or its law."""
        chosen = self.clip_ids if clip_ids is None else frozenset(clip_ids)
        self.apply(
            lambda p: edits.fade(p, chosen, side=side, frames=frames, law=law), tr("Change a fade"),
            f"fade:{side}:{sorted(chosen)}",
        )  # fmt: skip

    def cross_fade(self) -> None:
        """Let each selected clip and the one it follows pass into each other around their cut."""
        programme = self.programme
        if programme is None or not self.clips:
            self._session.say(tr("Select the clip behind the cut first."), bad=True)
            return
        frames, handles = seconds_to_frames(CROSS_S, programme.rate), self.handles
        behind_cuts = edits.that_follow(programme, {c.id for c in self.clips})

        if len(behind_cuts) < 2:  # a single one says itself why it cannot be
            only = [*behind_cuts, self.clips[0].id][0]
            self.apply(lambda p: cross_fade(p, only, frames, handles=handles), tr("Cross-fade"))
            return
        chosen, stay = frozenset(behind_cuts), 0

        def faded(made: Programme) -> Programme:
            nonlocal stay
            made, stay = cross_fades(made, chosen, frames, handles)
            return made

        if self.apply(faded, tr("Cross-fade")) and stay:
            self._session.say(
                plural("1 cut lies between clips too short for it and stays.", "{n} cuts lie between clips too short for it and stay.", stay)
            )  # fmt: skip

    def fill_gaps(self) -> None:
        """Lay room tone into the gaps of the chosen lane, of the recordings beside each."""
        programme, lane = self.programme, self.lane
        if programme is None or lane is None or all(c.tone for c in lane.clips):
            self._session.say(
                tr("This lane holds no recording to take room tone from. Choose another lane first."), bad=True
            )
            return
        wanted, cross = lane.id, seconds_to_frames(CROSS_S, programme.rate)
        count = len(edits.gaps(lane, lane.frames))
        if self.apply(lambda p: edits.fill_gaps(p, wanted, cross=cross), tr("Fill gaps with room tone")):
            self._session.say(
                plural("1 gap filled with room tone.", "{n} gaps filled with room tone.", count)
                if count
                else tr("This lane has no gaps.")
            )

    def set_enabled(self) -> None:
        """Switch the selected clips off, or on again when all are off."""
        clips = self.clips
        on = not any(c.enabled for c in clips)
        ids = {c.id for c in clips}
        self.apply(
            lambda p: p.with_all_changed(ids, lambda c: replace(c, enabled=on)),
            tr("Switch clips on") if on else tr("Switch clips off"),
        )

    def copy(self) -> None:
        """Keep the selected clips for pasting."""
        programme = self.programme
        if programme is not None and self.clips:
            numbers = {c.id: n for n, lane in enumerate(programme.lanes) for c in lane.clips}
            self._copied = tuple((numbers[c.id], c) for c in self.clips)
            self._session.events.selection.emit()  # what can be pasted is offered

    @property
    def has_copied(self) -> bool:
        """Whether there are clips to paste."""
        return bool(self._copied)

    def paste(self) -> None:
        """Lay the copied clips at the playhead, on their lanes."""
        programme, here = self.programme, self._session.transport.position
        if programme is None or not self._copied:
            return
        shift = here - self._copied[0][1].start
        new = [(n, edits.copied(c, c.start + shift)) for n, c in self._copied]

        def pasted(made: Programme) -> Programme:
            for number in sorted({n for n, _ in new}):
                lane = made.lanes[min(number, len(made.lanes) - 1)]
                made = edits.put(made, lane.id, [c for n, c in new if n == number])
            return made

        if self.apply(pasted, tr("Paste clips")):
            self.select(c.id for _, c in new)

    def settle(self) -> None:
        """A drag has ended: the next one is an entry of its own."""
        self._session.document.history.settle()
