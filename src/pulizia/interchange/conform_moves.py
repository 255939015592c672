# SPDX-License-Identifier: GPL-3.0-or-later
"""Where the time of a programme went in a new cut, and what an editor laid over that time following it there."""

from __future__ import annotations

import itertools
from bisect import bisect_left, bisect_right, insort
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace

from pulizia.project.clips import Clip, new_clip_id


@dataclass(frozen=True, slots=True, order=True)
class Move:
    """A stretch of the old programme's time, and by how many frames it lies later in the new; None: it is gone."""

    begin: int
    end: int
    shift: int | None


class Moves:
    """The moves of all lanes. Time that the new cut uses twice has two."""

    def __init__(self) -> None:
        self._layers: dict[str, list[list[Move]]] = {}  # of each lane; within a layer none overlaps another

    def add(self, lane_id: str, begin: int, end: int, shift: int | None) -> None:
        """One more; a stretch that is gone counts only where nothing else is known of it."""
        layers, move = self._layers.setdefault(lane_id, []), Move(begin, end, shift)
        for layer in layers:
            if not any(_inside(layer, begin, end)):
                insort(layer, move)
                return
        if shift is not None or not layers:
            layers.append([move])

    def followed(
        self, clip: Clip, lane_id: str, others: Sequence[str]
    ) -> tuple[list[tuple[int, int, int]], list[tuple[int, int]]]:
        """Where the stretches of a clip go that lies over the programme's time.

        Parameters
        ----------
        clip, lane_id
            A clip of the old programme and its lane: what happened on that lane counts first.
        others
            The other lanes, in the order in which they count.

        Returns
        -------
        (begin, end, shift) of each stretch that is somewhere, a stretch that is used twice twice; and those that are gone.
        """  # fmt: skip
        order = [lane for lane in dict.fromkeys((lane_id, *others)) if lane in self._layers]
        known: list[Move] = []
        rest = [(clip.start, clip.stop)]
        for lane in order:
            rest_now, rest = rest, []
            for begin, end in rest_now:
                at = begin
                for move in _inside(self._layers[lane][0], begin, end):
                    if move.begin > at:
                        rest.append((at, move.begin))
                    known.append(Move(max(at, move.begin), min(end, move.end), move.shift))
                    at = min(end, move.end)
                if at < end:
                    rest.append((at, end))
        known += [self._beside(begin, end, known, order) for begin, end in rest]
        known.sort(key=lambda m: m.begin)
        again = [
            (max(move.begin, clip.start), min(move.end, clip.stop), move.shift)
            for lane in order[:1]
            for layer in self._layers[lane][1:]
            for move in _inside(layer, clip.start, clip.stop)
            if move.shift is not None
        ]
        kept = [(m.begin, m.end, m.shift) for m in known if m.shift is not None]
        return [*_joined(kept), *again], [(m.begin, m.end) for m in known if m.shift is None]

    def place_of(self, frame: int, lanes: Iterable[str]) -> int | None:
        """Where a frame of the old programme is heard; where it is gone, the start of what comes next; None: nothing does."""
        following: list[Move] = []
        for lane in lanes:
            if lane not in self._layers:
                continue
            layer = self._layers[lane][0]
            here = next((m for m in _inside(layer, frame, frame + 1) if m.shift is not None), None)
            if here is not None and here.shift is not None:
                return frame + here.shift
            after = layer[bisect_right(layer, frame, key=lambda m: m.begin) :]
            following += [m for m in itertools.islice(after, 50) if m.shift is not None][:1]
        first = min(following, default=None)
        return None if first is None or first.shift is None else first.begin + first.shift

    def _beside(self, begin: int, end: int, known: Sequence[Move], order: Sequence[str]) -> Move:
        """Where nothing of the cut lay: it goes with what it touches, else with what comes before it, else with what comes after."""
        before = next((m for m in known if m.end == begin and m.shift is not None), None)
        after = next((m for m in known if m.begin == end and m.shift is not None), None)
        if before is None and after is None:
            rows = [self._layers[lane][0] for lane in order]
            earlier = [row[at - 1] for row in rows if (at := bisect_left(row, begin, key=lambda m: m.begin))]
            later = [row[at] for row in rows if (at := bisect_left(row, end, key=lambda m: m.begin)) < len(row)]
            before = max((m for m in earlier if m.shift is not None), key=lambda m: m.end, default=None)
            after = min((m for m in later if m.shift is not None), key=lambda m: m.begin, default=None)
        beside = before or after
        return Move(begin, end, None if beside is None else beside.shift)


def _inside(layer: list[Move], begin: int, end: int) -> Iterator[Move]:
    """Those of a layer that overlap a stretch, in order."""
    for move in itertools.islice(layer, max(0, bisect_right(layer, begin, key=lambda m: m.begin) - 1), None):
        if move.begin >= end:
            return
        if move.end > begin:
            yield move


def _joined(stretches: list[tuple[int, int, int]]) -> list[tuple[int, int, int]]:
    made: list[tuple[int, int, int]] = []
    for begin, end, shift in stretches:
        if made and made[-1][1] == begin and made[-1][2] == shift:
            made[-1] = (made[-1][0], end, shift)
        else:
            made.append((begin, end, shift))
    return made


def part_at(clip: Clip, begin: int, end: int, start: int) -> Clip:
    """The stretch [begin, end) of the programme of a clip, at another place, with all that was done to it."""
    part = clip.part_of(begin, end)
    return replace(part.moved(start - part.start), id=clip.id if begin == clip.start else new_clip_id())


def fitted(row: list[Clip], part: Clip, least: int, cross: int) -> tuple[list[Clip], list[tuple[int, int]]]:
    """What of a part finds room on a lane beside the clips of its row, overlapping them by fades or ``cross``, and what does not."""
    at = max(0, bisect_left(row, part.start, key=lambda c: c.start) - 2)
    free, lost = [(part.start, part.stop)], []
    for clip in itertools.islice(row, at, None):
        if clip.start >= part.stop:
            break
        soft_in = max(clip.fade_in.frames, part.fade_out.frames, cross)
        soft_out = max(clip.fade_out.frames, part.fade_in.frames, cross)
        first = clip.start + (min(soft_in, clip.frames // 2) if clip.start > part.start else 0)
        last = clip.stop - (min(soft_out, clip.frames // 2) if clip.stop < part.stop else 0)
        now, free = free, []
        for begin, end in now:
            if last <= begin or first >= end:
                free.append((begin, end))
                continue
            lost.append((max(begin, first), min(end, last)))
            free += [(a, b) for a, b in ((begin, first), (last, end)) if b > a]
    made = [
        part if (a, b) == (part.start, part.stop) else replace(part.part_of(a, b), id=part.id if a == part.start else new_clip_id())
        for a, b in free
        if b - a >= least or (a, b) == (part.start, part.stop)
    ]  # fmt: skip
    return made, [(a, b) for a, b in lost if b - a >= least]
