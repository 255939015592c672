# SPDX-License-Identifier: GPL-3.0-or-later
"""A changed cut: what of a programme is found in the new list moves to its place there, with all that was done to it."""

from __future__ import annotations

from bisect import bisect_left
from dataclasses import dataclass, replace
from typing import Literal

from pulizia.audio.markers import Marker
from pulizia.audio.spans import Span
from pulizia.project.clips import Clip, Lane, Programme, new_clip_id
from pulizia.units import format_time
from pulizia.words import tr

Change = Literal["same", "moved", "trimmed", "new", "gone"]
LEAST_S = 0.02  # shorter pieces of a common take are an edge's rounding


@dataclass(frozen=True, slots=True, kw_only=True)
class ConformRow:
    """What became of a stretch: ``at`` in the new programme, or where it was when it is gone."""

    change: Change
    name: str
    lane: str
    at: int
    frames: int
    was: int | None = None


@dataclass(frozen=True, slots=True)
class Conformed:
    """The programme in the new order, and a row for every stretch that changed."""

    programme: Programme
    rows: tuple[ConformRow, ...]

    def count(self, change: Change) -> int:
        """Of rows of a kind."""
        return sum(row.change == change for row in self.rows)


@dataclass(slots=True)
class _Old:
    """A clip of the old programme and what of it has been used."""

    lane: Lane
    clip: Clip
    used: list[Span]


def conform(old: Programme, new: Programme) -> Conformed:
    """Bring a programme into the order of a new cut.

    Clips are compared by recording and by what of it they play. Where a clip of the new cut plays what a clip of the old
    programme played, it takes that one's gain, gain line, fades, note and switch; lanes keep their kind, gain and steps.
    Room tone and lanes that the new cut does not know (fill, atmosphere) stay where they were. What is gone is listed,
    never dropped in silence.

    Parameters
    ----------
    old
        The programme with all that was done.
    new
        The new cut as it was assembled, with the same recordings.
    """
    least = round(LEAST_S * old.rate)
    known: dict[str, list[_Old]] = {}
    for lane in old.lanes:
        for clip in lane.clips:
            if not clip.tone:
                known.setdefault(clip.recording_id, []).append(_Old(lane, clip, []))
    for candidates in known.values():
        candidates.sort(key=lambda o: o.clip.inner)
    longest = max((o.clip.frames for row in known.values() for o in row), default=0)
    rows: list[ConformRow] = []
    by_name = {lane.name: lane for lane in old.lanes}
    lanes: list[Lane] = []
    for number, lane in enumerate(new.lanes):
        base = by_name.get(lane.name) or (old.lanes[number] if number < len(old.lanes) else None)
        clips: list[Clip] = []
        for clip in lane.clips:
            near = _near(clip, known.get(clip.recording_id, []), longest)
            clips += _taken(clip, lane.name, near, least, rows)
        made = replace(base, name=lane.name) if base is not None else lane
        lanes.append(replace(made, clips=()).with_clips(_in_a_row(clips)))
    kept_ids = {lane.id for lane in lanes}
    for lane in old.lanes:  # what the new cut does not know of: fill, atmosphere
        if lane.id not in kept_ids and all(c.tone for c in lane.clips):
            lanes.append(lane)
            kept_ids.add(lane.id)
    rows += _gone(known, least)
    programme = replace(
        old, lanes=tuple(lanes), start_frame=new.start_frame, picture_rate=new.picture_rate, drop_frame=new.drop_frame,
        received=new.received, markers=_markers(old, new),
    )  # fmt: skip
    order = {"gone": 0, "new": 1, "trimmed": 2, "moved": 3, "same": 4}
    return Conformed(programme, tuple(sorted(rows, key=lambda r: (order[r.change], r.at))))


def _near(clip: Clip, candidates: list[_Old], longest: int) -> list[_Old]:
    """Those of the candidates, sorted by what they play first, that may play something of a clip."""
    first = bisect_left(candidates, clip.inner - longest, key=lambda o: o.clip.inner)
    last = bisect_left(candidates, clip.inner + clip.frames, key=lambda o: o.clip.inner)
    return candidates[first:last]


def _taken(clip: Clip, lane: str, candidates: list[_Old], least: int, rows: list[ConformRow]) -> list[Clip]:
    """The clip of the new cut in as many parts as old clips played it; what none played is new."""
    left, made = [Span(max(0, clip.inner), max(0, clip.inner) + clip.frames)], []
    shift = clip.start - clip.inner
    # one recording may lie on several lanes, a channel on each: the same channel and lane, and what is not used yet, come first
    fitting = [
        o
        for o in candidates
        if o.lane.name == lane or o.clip.channel == clip.channel or None in (o.clip.channel, clip.channel)
    ]
    overlaps = sorted(
        fitting,
        key=lambda o: (o.clip.channel != clip.channel, o.lane.name != lane, bool(o.used), -_overlap(o.clip, clip)),
    )
    for old in overlaps:
        for span in list(left):
            a, b = max(span.start, old.clip.inner), min(span.stop, old.clip.inner + old.clip.frames)
            if b - a < least:
                continue
            part = _with_work(old.clip, a, b, a + shift)
            made.append(part)
            old.used.append(Span(a, b))
            was = old.clip.start + a - old.clip.inner
            whole = (a, b) == (old.clip.inner, old.clip.inner + old.clip.frames)
            change: Change = "same" if whole and was == part.start else "moved" if whole else "trimmed"
            if change != "same" or old.lane.name != lane:
                rows.append(
                    ConformRow(change=change, name=part.name, lane=lane, at=part.start, frames=part.frames, was=was)
                )
            left.remove(span)
            left += [s for s in (Span(span.start, a), Span(b, span.stop)) if s.frames]
    for span in left:
        if span.frames < least and made:
            continue
        part = replace(clip.part_of(span.start + shift, span.stop + shift), id=new_clip_id())
        made.append(part)
        rows.append(ConformRow(change="new", name=part.name, lane=lane, at=part.start, frames=part.frames))
    return made


def _overlap(old: Clip, new: Clip) -> int:
    return min(old.inner + old.frames, new.inner + new.frames) - max(old.inner, new.inner)


def _with_work(old: Clip, first: int, last: int, start: int) -> Clip:
    """What of an old clip plays [first, last) of its recording, at another place, with all that was done to it."""
    part = old.part_of(old.start + first - old.inner, old.start + last - old.inner)
    return replace(part.moved(start - part.start), id=old.id if first == old.inner else new_clip_id())


def _in_a_row(clips: list[Clip]) -> list[Clip]:
    """Parts of one clip that touch: no fade between them; none lies inside another."""
    row = sorted(clips, key=lambda c: (c.start, c.stop))
    made: list[Clip] = []
    for clip in row:
        before = made[-1] if made else None
        if before is not None and clip.stop <= before.stop:
            continue  # twice the same stretch
        if before is not None and len(made) > 1 and made[-2].stop > clip.start:
            clip = clip.part_of(made[-2].stop, clip.stop)  # noqa: PLW2901 - three would sound at once
        made.append(clip)
    ids: set[str] = set()
    for n, clip in enumerate(made):
        if clip.id in ids:
            made[n] = replace(clip, id=new_clip_id())
        ids.add(made[n].id)
    return made


def _gone(known: dict[str, list[_Old]], least: int) -> list[ConformRow]:
    rows = []
    for olds in known.values():
        for old in olds:
            span = Span(max(0, old.clip.inner), max(0, old.clip.inner) + old.clip.frames)
            rest = [span]
            for used in old.used:
                rest = [
                    s
                    for r in rest
                    for s in (
                        Span(r.start, max(r.start, min(used.start, r.stop))),
                        Span(min(r.stop, max(used.stop, r.start)), r.stop),
                    )
                    if s.frames
                ]
            rows += [
                ConformRow(
                    change="gone",
                    name=old.clip.name,
                    lane=old.lane.name,
                    at=old.clip.start + s.start - span.start,
                    frames=s.frames,
                )
                for s in rest
                if s.frames >= least
            ]
    return rows


def _markers(old: Programme, new: Programme) -> tuple[Marker, ...]:
    """The new list's markers, and the old ones moved with the clip under them; one whose clip is gone is put at the start of what follows."""
    own = {m.name for m in new.markers}
    moved = []
    for marker in old.markers:
        if marker.name in own:
            continue
        under = next(
            (c for lane in old.lanes for c in lane.clips if c.start <= marker.frame < c.stop and not c.tone), None
        )
        frame = marker.frame
        if under is not None:
            inner = under.inner + marker.frame - under.start
            here = next(
                (
                    c
                    for lane in new.lanes
                    for c in lane.clips
                    if c.recording_id == under.recording_id and c.inner <= inner < c.inner + c.frames
                ),
                None,
            )
            if here is not None:
                frame = here.start + inner - here.inner
        moved.append(replace(marker, frame=min(frame, max(0, new.frames))))
    return tuple(sorted([*new.markers, *moved]))


def row_words(row: ConformRow, rate: int) -> str:
    """A row as a sentence."""
    at, length = format_time(row.at / rate, 2), format_time(row.frames / rate, 2)
    name = row.name or row.lane
    if row.change == "new":
        return tr("New at {at}: {name}, {length}.", at=at, name=name, length=length)
    if row.change == "gone":
        return tr("Gone: {name}, {length}, was at {at}.", at=at, name=name, length=length)
    was = format_time((row.was or 0) / rate, 2)
    if row.change == "trimmed":
        return tr("Part of {name}, {length}, now at {at}, was at {was}.", at=at, name=name, length=length, was=was)
    return tr("Moved: {name}, now at {at}, was at {was}.", at=at, name=name, was=was)
