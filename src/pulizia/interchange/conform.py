# SPDX-License-Identifier: GPL-3.0-or-later
"""A changed cut: what of a programme is found in the new list moves to its place there, with all that was done to it."""

from __future__ import annotations

import itertools
from bisect import bisect_left, bisect_right, insort
from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace

from pulizia.audio.markers import Marker
from pulizia.audio.spans import Span, without
from pulizia.interchange.conform_lanes import bases, in_a_row, is_bed, with_lanes
from pulizia.interchange.conform_match import (
    NUDGED_S,
    Asked,
    Known,
    Use,
    extent,
    in_preference,
    joined,
    known_clips,
    near,
    nudges,
    opened,
    room,
)
from pulizia.interchange.conform_moves import Moves, fitted, part_at
from pulizia.interchange.conform_rows import Change, Conformed, ConformRow, in_order
from pulizia.project.clips import Clip, Lane, Programme, new_clip_id
from pulizia.project.received import Laid
from pulizia.words import tr

CROSS_S = 0.1  # by so much clips may overlap that are laid beside one another
LEAST_S = 0.02  # shorter pieces of a common take are an edge's rounding


def conform(old: Programme, new: Programme, lengths: Mapping[str, float] | None = None) -> Conformed:
    """Bring a programme into the order of a new cut.

    Clips are compared by the recording that the lists name and by what of it they play, also where another recording was
    put in its place since. A clip of the new cut takes gain, gain line, fades, note, switch, sync and lane of the clip
    that played the same before. What was taken out of the old cut stays out. Everything that no list knows (other
    microphones of the moment, replaced lines, room tone, atmosphere) follows the sound over which it lay; lanes of nothing
    but room tone stay as they are. What is gone is listed, never dropped in silence.

    Parameters
    ----------
    old
        The programme with all that was done.
    new
        The new cut as it was assembled, with the same recordings.
    lengths
        Of recordings, in frames on the programme's clock: so far a clip can be opened where the new cut plays more of it.
    """
    return _Conforming(old, new, lengths or {}).done()


class _Conforming:
    """The work of one comparison."""

    def __init__(self, old: Programme, new: Programme, lengths: Mapping[str, float]) -> None:
        self.old, self.new, self.lengths = old, new, lengths
        self.least, self.cross = round(LEAST_S * old.rate), round(CROSS_S * old.rate)
        self.asked = Asked(old.received.laid if old.received is not None else ())
        self.known = known_clips(old)
        self.longest = max((o.clip.frames for row in self.known.values() for o in row), default=0)
        self.named = {c.in_list[0] for lane in new.lanes for c in lane.clips if not c.tone}
        self.nudges = nudges(old, self.asked)
        self.bases = bases(old, new, self.asked)
        self.rows: list[ConformRow] = []
        self.moves = Moves()
        self.uses: dict[str, list[Use]] = {}
        self.placed: dict[str, list[Clip]] = {}
        self.seconds: dict[str, Lane] = {}  # by lane, a second one for what finds no room on it

    def done(self) -> Conformed:
        """The programme in the new order."""
        for lane in self.new.lanes:
            for clip in lane.clips:
                self._lay(clip, self.bases[lane.id])
        listed = {base.id for base in self.bases.values()} | self.asked.lanes
        self._lay_beside(listed)
        own = self._rest(listed)
        row_of = {lane_id: in_a_row(clips) for lane_id, clips in self.placed.items()}
        self._follow(own, row_of)
        was_called = self.old.received.title if self.old.received is not None else None
        programme = replace(
            self.old, name=self.new.name if self.old.name == was_called else self.old.name, lanes=self._lanes(row_of), start_frame=self.new.start_frame, picture_rate=self.new.picture_rate,
            drop_frame=self.new.drop_frame, received=with_lanes(self.new.received, self.bases), markers=self._markers(),
        )  # fmt: skip
        return Conformed(programme, in_order(self.rows))

    # -- what the list asks for

    def _lay(self, clip: Clip, base: Lane) -> None:
        """A clip of the new cut in as many parts as clips played it; what none played was taken out, or is new."""
        recording, inner = clip.in_list
        to_new, least = clip.start - inner, min(self.least, clip.frames)
        left, parts = [Span(max(0, inner), max(0, inner) + clip.frames)], list[tuple[int, int, Known]]()
        candidates = near(self.known.get(recording, []), inner, inner + clip.frames, self.longest)
        for old in in_preference(clip, base.id, self.asked.lanes, candidates):
            for span in list(left):
                a, b = max(span.start, old.inner), min(span.stop, old.stop)
                if b - a < least or (old.lane.id != base.id and self._is_beside(old, inner, inner + clip.frames, left)):
                    continue
                parts.append((a, b, old))
                left.remove(span)
                left += [s for s in (Span(span.start, a), Span(b, span.stop)) if s.frames]
        reach = [[0, 0] for _ in parts]  # of each, how much further it is heard before and behind
        for span in sorted(left):
            self._open(span, left, parts, reach, recording, base.id)
        for (a, b, old), more in zip(parts, reach, strict=True):
            ends = (a - more[0] == inner, b + more[1] == inner + clip.frames)
            self._take(old, a, b, to_new, base, ends=ends, more=more)
        for span in sorted(left):
            if span.frames >= self.least or not parts:
                self._unknown(clip, span, to_new, base, parts)

    def _open(
        self,
        span: Span,
        left: list[Span],
        parts: list[tuple[int, int, Known]],
        reach: list[list[int]],
        recording: str,
        home: str,
    ) -> None:
        """Where the new cut plays more of a clip than the old one asked for, the clip is opened, with all that was done to it."""
        asked = self._taken_out(recording, span, None, home)
        if not self.asked or (asked and span.frames >= self.least):
            return  # the editor took it out
        left.remove(span)
        for (a, b, old), more in zip(parts, reach, strict=True):
            before, behind = room(old.clip, self.lengths.get(old.clip.recording_id))
            if asked and self.asked.reaches_beyond(recording, old):
                continue  # a little of what the editor trimmed
            if b == old.stop == span.start:
                more[1] = min(span.frames, behind)
                span = Span(span.start + more[1], span.stop)
            elif a == old.inner == span.stop:
                more[0] = min(span.frames, before)
                span = Span(span.start, span.stop - more[0])
        if span.frames:
            left.append(span)

    def _taken_out(self, recording: str, span: Span, channel: int | None, home: str) -> list[tuple[int, int, Laid]]:
        """What of a stretch the old list asked for, and nobody hears any more; another lane may still play what it was asked for."""
        found: list[tuple[int, int, Laid]] = []
        for first, last, event in self.asked.stretches(recording, span.start, span.stop, channel):
            there = [
                Span(max(0, old.inner), max(0, old.stop))
                for old in near(self.known.get(recording, []), first, last, self.longest)
                if old.lane.id == event.lane_id != home
            ]
            found += [(rest.start, rest.stop, event) for rest in without([Span(first, last)], there)]
        return found

    def _is_beside(self, old: Known, first: int, last: int, left: list[Span]) -> bool:
        """Whether most of what a clip on another lane plays is played already: another microphone, not a missing piece."""
        here = min(last, old.stop) - max(first, old.inner)
        return (
            2 * sum(min(s.stop, old.stop) - max(s.start, old.inner) for s in left if s.overlaps(old.inner, old.stop))
            < here
        )

    def _take(
        self, old: Known, a: int, b: int, to_new: int, base: Lane, *, ends: tuple[bool, bool], more: Sequence[int]
    ) -> None:
        """Let [a, b) of what an old clip plays be heard at its new place, and more before and behind it."""
        home = base if old.lane.id in self.asked.lanes or not self.asked or old.lane.id == base.id else old.lane
        nudge = self.nudges.get(old.clip.id, 0)
        whole = extent(old, a, b)
        first, last = (whole[0] if ends[0] else a), (whole[1] if ends[1] else b)
        if last + to_new + nudge <= 0:
            nudge = 0
        first = max(first, -(to_new + nudge))  # nothing lies before the programme, and the rest stays in sync
        part = part_at(old.clip, first + old.lead, last + old.lead, first + to_new + nudge)
        before, behind = min(more[0], part.start), more[1]
        part = opened(part, before, behind)
        if home is not base and self._finds_another(home.id, part):
            home = base  # two that the editor laid onto one lane are asked for at once
        insort(self.placed.setdefault(home.id, []), part, key=lambda c: c.start)
        old.used.append(Span(first, last))
        was = old.clip.start + first - old.inner
        self.moves.add(old.lane.id, a + old.lead, b + old.lead, to_new + nudge - old.lead)
        self.uses.setdefault(old.clip.in_list[0], []).append(
            Use(a, b, old.lead, to_new + nudge, old.lane.id, before, behind)
        )
        is_whole = old.is_whole(a, b)
        if before or behind:
            self._tell("longer", part, home, was=was)
        elif not is_whole or was != part.start or old.lane.id != home.id:
            self._tell("moved" if is_whole else "trimmed", part, home, was=was)

    def _finds_another(self, lane_id: str, part: Clip) -> bool:
        """Whether another sound than this lies at its place already."""
        row = self.placed.get(lane_id, [])
        at = max(0, bisect_left(row, part.start, key=lambda c: c.start) - 2)  # no more than two sound at once
        for there in itertools.takewhile(lambda c: c.start + self.cross < part.stop, itertools.islice(row, at, None)):
            same = there.recording_id == part.recording_id and there.start - there.inner == part.start - part.inner
            if not same and part.start + self.cross < there.stop:
                return True
        return False

    def _unknown(self, clip: Clip, span: Span, to_new: int, base: Lane, parts: list[tuple[int, int, Known]]) -> None:
        """What no clip of the programme plays: left out where the old cut asked for it, new where it did not."""
        recording = clip.in_list[0]
        out: list[Span] = []
        if self.asked:
            for first, last, event in self._taken_out(recording, span, clip.channel, base.id):
                beside = next((o for a, b, o in parts if last == a or first == b), None)
                lead = beside.lead if beside is not None else event.start - event.inner
                lane_id = beside.lane.id if beside is not None else event.lane_id
                out.append(self._left_out(clip, Span(first, last), lead, to_new, lane_id, base))
        elif (beside := self._around_a_hole(span, parts)) is not None:
            out.append(self._left_out(clip, span, beside.lead, to_new, beside.lane.id, base))
        offset = clip.inner - clip.in_list[1]
        for rest in without([span], out):
            if rest.frames < self.least and (parts or out):
                continue
            part = clip.part_of(rest.start + to_new, rest.stop + to_new)
            self.placed.setdefault(base.id, []).append(replace(part, id=new_clip_id(), inner=rest.start + offset))
            self._tell("new", part, base)

    def _around_a_hole(self, span: Span, parts: list[tuple[int, int, Known]]) -> Known | None:
        """The clip before a hole in one clip where nothing lies: for projects of a version that did not note what lists ask for."""
        before = next((o for _, b, o in parts if b == span.start), None)
        after = next((o for a, _, o in parts if a == span.stop), None)
        if before is None or after is None or before.lead != after.lead or before.lane is not after.lane:
            return None
        begin, end = span.start + before.lead, span.stop + before.lead
        lies = any(c.start + self.least < end and begin < c.stop - self.least and not c.tone for c in before.lane.clips)
        return None if lies else before

    def _left_out(self, clip: Clip, hole: Span, lead: int, to_new: int, lane_id: str, base: Lane) -> Span:
        """Note a stretch that stays out of the programme; shorter ones are an end that was trimmed."""
        if hole.frames >= self.cross:
            self.moves.add(lane_id, hole.start + lead, hole.stop + lead, to_new - lead)
            self.uses.setdefault(clip.in_list[0], []).append(Use(hole.start, hole.stop, lead, to_new, lane_id))
            self._tell("left out", clip.part_of(hole.start + to_new, hole.stop + to_new), base)
        return hole

    def _lay_beside(self, listed: Collection[str]) -> None:
        """Other clips of the same moments, as further microphones on lanes that no list knows, at every place of these moments."""
        most = round(NUDGED_S * self.old.rate)
        for recording, found in self.uses.items():
            uses = joined(found)
            longest = max(u.last - u.first for u in uses)
            for old in self.known.get(recording, []):
                if old.used or old.lane.id in listed:
                    continue
                at = bisect_right(uses, old.inner - longest, key=lambda u: u.first)
                for use in itertools.islice(uses, at, None):
                    if use.first >= old.stop:
                        break
                    a, b = max(old.inner, use.first), min(old.stop, use.last)
                    apart = old.lead - use.lead
                    if b - a < self.least or use.lane_id == old.lane.id or abs(apart) > most:
                        continue
                    first, last = extent(old, a, b)
                    first = max(first, -(use.now + apart))
                    if last - first < self.least:
                        continue
                    part = part_at(old.clip, first + old.lead, last + old.lead, first + use.now + apart)
                    part = self._as_long(part, old, use)
                    old.used.append(Span(first, last))
                    was = first + old.lead
                    change: Change = (
                        "longer" if part.frames > last - first else "moved" if old.is_whole(a, b) else "trimmed"
                    )
                    self._put_beside(old, part, was, change)

    def _put_beside(self, old: Known, part: Clip, was: int, change: Change) -> None:
        """A clip of a further microphone on its lane, or where another sounds there now, on a second one like it."""
        lane = old.lane
        if self._finds_another(lane.id, part):
            name = tr("{name}, part {number}", name=lane.name, number=2)
            lane = self.seconds.setdefault(lane.id, replace(lane, id=f"{lane.id} 2", name=name, clips=()))
            if self._finds_another(lane.id, part):
                self._tell("gone", replace(part, start=was), old.lane)
                return
        insort(self.placed.setdefault(lane.id, []), part, key=lambda c: c.start)
        if change == "longer" or part.start != was or part.frames != old.clip.frames:
            self._tell(change, part, lane, was=was)

    def _as_long(self, part: Clip, old: Known, use: Use) -> Clip:
        """A part of another microphone of a moment that the new cut plays more of, opened as far where it ended there as well."""
        before, behind = room(old.clip, self.lengths.get(old.clip.recording_id))
        at_start, at_end = abs(old.inner - use.first) < self.least, abs(old.stop - use.last) < self.least
        return opened(
            part,
            min(before, part.start, max(0, use.before + old.inner - use.first)) if at_start and use.before else 0,
            min(behind, max(0, use.behind + use.last - old.stop)) if at_end and use.behind else 0,
        )

    # -- what is left

    def _rest(self, listed: Collection[str]) -> list[tuple[Lane, Clip]]:
        """Tell what of the lists' clips is gone; returns the clips that no list knows."""
        own: list[tuple[Lane, Clip]] = []
        for recording, row in self.known.items():
            for old in row:
                if not old.used and self._is_own(recording, old.lane, listed):
                    own.append((old.lane, old.clip))
                    continue
                for span in without([Span(max(0, old.inner), max(0, old.inner) + old.clip.frames)], old.used):
                    in_a_fade = span.stop <= old.inner + old.soft_in or span.start >= old.stop - old.soft_out
                    if span.frames >= self.least and not in_a_fade:
                        at = span.start + old.lead
                        self.moves.add(old.lane.id, at, at + span.frames, None)
                        self._tell("gone", replace(old.clip.part_of(at, at + span.frames)), old.lane)
        for lane in self.old.lanes:
            if lane.id in listed or not is_bed(lane):
                own += [(lane, clip) for clip in lane.clips if clip.tone]
        return sorted(own, key=lambda pair: pair[1].start)

    def _is_own(self, recording: str, lane: Lane, listed: Collection[str]) -> bool:
        """Whether a clip was laid by the editor and not by a list."""
        if self.asked:
            return not self.asked.knows(recording)
        return lane.id not in listed and recording not in self.named

    def _follow(self, own: Sequence[tuple[Lane, Clip]], row_of: dict[str, list[Clip]]) -> None:
        others = [lane.id for lane in self.old.lanes]
        for lane, clip in own:
            there, gone = self.moves.followed(clip, lane.id, others)
            row = row_of.setdefault(lane.id, [])
            ids = {c.id for c in row}
            for begin, end, shift in there:
                if end - begin < self.least and (begin, end) != (clip.start, clip.stop):
                    continue
                cut = max(0, -(begin + shift))
                if cut:
                    gone.append((begin, min(end, begin + cut)))
                    if begin + cut >= end:
                        continue
                part = part_at(clip, begin + cut, end, begin + cut + shift)
                kept, lost = fitted(row, part, self.least, self.cross)
                gone += [(a - shift, b - shift) for a, b in lost]
                for piece in kept:
                    one = replace(piece, id=new_clip_id()) if piece.id in ids else piece
                    ids.add(one.id)
                    row.append(one)
                    if one.start != clip.start or one.frames != clip.frames:
                        is_whole = one.frames == clip.frames
                        self._tell("moved" if is_whole else "trimmed", one, lane, was=one.start - shift)
                row.sort(key=lambda c: (c.start, c.stop))
            for begin, end in gone:
                if end - begin >= self.least:
                    self._tell("gone", clip.part_of(begin, end), lane)

    # -- the programme

    def _lanes(self, row_of: dict[str, list[Clip]]) -> tuple[Lane, ...]:
        made = [replace(base, clips=()).with_clips(in_a_row(row_of.get(base.id, []))) for base in self.bases.values()]
        there = {lane.id for lane in made}
        before, old = "", {lane.id for lane in self.old.lanes}
        beside = [(la, self.seconds[la.id]) if la.id in self.seconds else (la,) for la in self.old.lanes]
        for lane in (one for row in beside for one in row if one is row[0] or one.id not in old):
            if lane.id in there:
                before = lane.id
                continue
            if lane.id in row_of or not is_bed(lane):
                kept = replace(lane, clips=()).with_clips(in_a_row(row_of.get(lane.id, [])))
            else:
                kept = lane
            if kept.clips or lane.steps or (self.asked and lane.id not in self.asked.lanes):
                at = next((n + 1 for n, la in enumerate(made) if la.id == before), len(made))
                made.insert(at, kept)
                there.add(lane.id)
                before = lane.id
        return tuple(made)

    def _markers(self) -> tuple[Marker, ...]:
        """The new list's markers, and the old ones moved with the sound under them; what is gone leaves them at what comes next.

        A marker that both have is the new list's; what somebody has written to one since keeps it.
        """
        own, lanes = {_words_of(m) for m in self.new.markers}, [lane.id for lane in self.old.lanes]
        moved = []
        for marker in self.old.markers:
            if _words_of(marker) not in own:
                place = self.moves.place_of(marker.frame, lanes)
                frame = marker.frame if place is None else place
                moved.append(replace(marker, frame=min(max(0, frame), max(0, self.new.frames))))
        return tuple(sorted([*self.new.markers, *moved]))

    def _tell(self, change: str, clip: Clip, lane: Lane, was: int | None = None) -> None:
        self.rows.append(
            ConformRow(change=change, name=clip.name, lane=lane.name, at=clip.start, frames=clip.frames, was=was)  # type: ignore[arg-type]
        )


def _words_of(marker: Marker) -> tuple[str, ...]:
    return marker.name, marker.kind, marker.note, marker.scene, marker.who
