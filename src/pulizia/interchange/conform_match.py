# SPDX-License-Identifier: GPL-3.0-or-later
"""Clips of a programme found again in a new cut: by the recording that the list names and what of it is played."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass, field, replace

from pulizia.audio.spans import Span
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.handles import ends_of
from pulizia.project.model import Recording
from pulizia.project.received import Laid

NUDGED_S = 0.5  # a clip that lies so near where the list wanted it was put into sync by hand


@dataclass(slots=True, eq=False)
class Known:
    """A clip of the old programme: what it plays as the list calls it, over how many frames it comes and goes, what is used."""

    lane: Lane
    clip: Clip
    inner: int
    soft_in: int
    soft_out: int
    used: list[Span] = field(default_factory=list)

    @property
    def stop(self) -> int:
        """The frame of the list's recording after the last that is played."""
        return self.inner + self.clip.frames

    def is_whole(self, first: int, last: int) -> bool:
        """Whether [first, last) is all of it but for what passes into its neighbours."""
        return first <= self.inner + self.soft_in and last >= self.stop - self.soft_out

    @property
    def lead(self) -> int:
        """What a frame of the list's recording wants added to be a frame of the old programme."""
        return self.clip.start - self.inner


@dataclass(frozen=True, slots=True)
class Use:
    """Frames [first, last) of a recording in the new cut; ``lead`` as they were in the old programme, ``now`` as they are.

    ``before`` and ``behind`` are heard as well, but were not in the old programme.
    """

    first: int
    last: int
    lead: int
    now: int
    lane_id: str
    before: int = 0
    behind: int = 0


def joined(uses: Iterable[Use]) -> list[Use]:
    """By what they play, those that go on as one in one."""
    made: list[Use] = []
    for use in sorted(uses, key=lambda u: (u.lane_id, u.lead, u.now, u.first)):
        last = made[-1] if made else None
        if last is not None and (last.lane_id, last.lead, last.now, last.last) == (
            use.lane_id,
            use.lead,
            use.now,
            use.first,
        ):
            made[-1] = replace(last, last=use.last, behind=use.behind)
        else:
            made.append(use)
    return sorted(made, key=lambda u: u.first)


def known_clips(old: Programme) -> dict[str, list[Known]]:
    """All clips but room tone by the recording that the list names, in the order of what they play."""
    known: dict[str, list[Known]] = {}
    for lane in old.lanes:
        for n, clip in enumerate(lane.clips):
            if not clip.tone:
                recording, inner = clip.in_list
                before = max(0, lane.clips[n - 1].stop - clip.start) if n else 0
                behind = max(0, clip.stop - lane.clips[n + 1].start) if n + 1 < len(lane.clips) else 0
                soft = max(clip.fade_in.frames, before), max(clip.fade_out.frames, behind)
                known.setdefault(recording, []).append(Known(lane, clip, inner, *soft))
    for row in known.values():
        row.sort(key=lambda o: o.inner)
    return known


def near(row: Sequence[Known], first: int, last: int, longest: int) -> Sequence[Known]:
    """Those of a row that may play something of [first, last)."""
    return row[bisect_left(row, first - longest, key=lambda o: o.inner) : bisect_left(row, last, key=lambda o: o.inner)]


def in_preference(clip: Clip, home: str, lanes: Collection[str], row: Iterable[Known]) -> list[Known]:
    """Those that may stand for a clip of the new cut that belongs on the lane ``home``, the likeliest first.

    One recording may lie on several lanes, a channel on each: the same channel and lane, then ``lanes`` that the list
    names before those of further microphones, and what is not used yet, come first.
    """

    def is_other(old: Known) -> bool:
        return old.clip.channel != clip.channel

    fitting = [o for o in row if o.lane.id == home or not is_other(o) or None in (o.clip.channel, clip.channel)]
    most = max((_overlap(o, clip) for o in fitting), default=0)
    return sorted(
        fitting,
        key=lambda o: (
            is_other(o),
            o.lane.id != home,
            2 * _overlap(o, clip) < most,
            o.lane.id not in lanes,
            bool(o.used),
            -_overlap(o, clip),
        ),
    )


def _overlap(old: Known, new: Clip) -> int:
    return min(old.stop, new.inner + new.frames) - max(old.inner, new.inner)


def extent(old: Known, first: int, last: int) -> tuple[int, int]:
    """[first, last) of what an old clip plays, with its whole fade where an end lies inside that.

    A cross-fade reaches over the end that the list asks for.
    """
    if old.inner <= first <= old.inner + old.soft_in:
        first = old.inner
    if old.stop - old.soft_out <= last <= old.stop:
        last = old.stop
    return first, last


def opened(clip: Clip, before: int, behind: int) -> Clip:
    """The clip with more of its recording in front and behind: its fades are at the new ends, its gain line lies where it lay."""
    return replace(
        clip, start=clip.start - before, inner=clip.inner - before, frames=clip.frames + before + behind,
        gain_line=tuple((frame + before, db) for frame, db in clip.gain_line),
    )  # fmt: skip


def lengths_of(recordings: Iterable[Recording], rate: int) -> dict[str, float]:
    """Of recordings by identity, in frames on a programme's clock."""
    return {r.id: r.frames * rate / r.rate for r in recordings}


def room(clip: Clip, length: float | None) -> tuple[int, int]:
    """How many frames of a recording of ``length`` frames are left before and behind a clip; none where that is not known."""
    if length is None or clip.warp:
        return 0, 0
    first, last = ends_of(clip, length)
    return max(0, clip.start - first), max(0, last - clip.stop)


class Asked:
    """What the old list asked for, by recording."""

    def __init__(self, laid: Sequence[Laid]) -> None:
        self.lanes = {event.lane_id for event in laid}
        self.lane_of = {event.lane: event.lane_id for event in laid}
        self._events: dict[str, list[Laid]] = {}
        for event in laid:
            self._events.setdefault(event.recording_id, []).append(event)
        for row in self._events.values():
            row.sort(key=lambda e: e.inner)
        self._longest = max((event.frames for event in laid), default=0)

    def __bool__(self) -> bool:
        return bool(self._events)

    def knows(self, recording: str) -> bool:
        """Whether the list named a recording."""
        return recording in self._events

    def near(self, recording: str, first: int, last: int) -> list[Laid]:
        """Events that may play something of [first, last) of a recording."""
        row = self._events.get(recording, [])
        a = bisect_left(row, first - self._longest, key=lambda e: e.inner)
        return row[a : bisect_left(row, last, key=lambda e: e.inner)]

    def reaches_beyond(self, recording: str, old: Known) -> bool:
        """Whether the event that a clip was made of asked for more than the clip plays: it was trimmed since."""

        def shared(event: Laid) -> int:
            return min(old.stop, event.inner + event.frames) - max(old.inner, event.inner)

        event = max(self.near(recording, old.inner, old.stop), key=lambda e: (shared(e), -e.frames), default=None)
        return event is not None and (event.inner < old.inner or event.inner + event.frames > old.stop)

    def stretches(self, recording: str, first: int, last: int, channel: int | None) -> list[tuple[int, int, Laid]]:
        """What of [first, last) of a recording the list asked for: (first, last, by which event), none twice."""
        found: list[tuple[int, int, Laid]] = []
        at = first
        for event in self.near(recording, first, last):
            begin, end = max(at, event.inner), min(last, event.inner + event.frames)
            if end > begin and (None in (event.channel, channel) or event.channel == channel):
                found.append((begin, end, event))
                at = end
        return found


def nudges(old: Programme, asked: Asked) -> dict[str, int]:
    """By how many frames clips were moved against the list to bring them into sync, by identity.

    Several clips in a row that moved alike while others did not were moved by an edit before them: that is no sync.
    """
    most, found = round(NUDGED_S * old.rate), dict[str, int]()
    for lane in old.lanes:
        row = [(c.id, _moved(c, lane.id, asked)) for c in lane.clips if not c.tone]
        alike = len({moved for _, moved in row if moved is not None}) == 1
        for n, (clip_id, moved) in enumerate(row):
            beside = [row[k][1] for k in (n - 1, n + 1) if 0 <= k < len(row)]
            if moved and abs(moved) <= most and (alike or moved not in beside):
                found[clip_id] = moved
    return found


def _moved(clip: Clip, lane_id: str, asked: Asked) -> int | None:
    """How much later than the list asks a clip lies; None when the list does not ask for it."""
    recording, inner = clip.in_list
    mine = [e for e in asked.near(recording, inner, inner + clip.frames) if e.inner + e.frames > inner]
    mine = [e for e in mine if e.lane_id == lane_id] or mine
    return min(((clip.start - inner) - (e.start - e.inner) for e in mine), key=abs, default=None)
