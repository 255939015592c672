# SPDX-License-Identifier: GPL-3.0-or-later
"""What a programme is made of: clips on lanes, in whole frames of the programme's clock; immutable values."""

from __future__ import annotations

import itertools
import operator
import uuid
from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import dataclass, field, replace
from fractions import Fraction
from typing import Literal

from pulizia.audio.markers import Marker
from pulizia.audio.spans import Span
from pulizia.audio.timeline import Edge
from pulizia.errors import ProjectError
from pulizia.project.received import Received
from pulizia.score.steps import Step
from pulizia.words import tr

LaneKind = Literal["voice", "alternate", "effects", "fill", "atmosphere"]
KINDS: tuple[LaneKind, ...] = ("voice", "alternate", "effects", "fill", "atmosphere")
PICTURE_RATES = (
    Fraction(24000, 1001), Fraction(24), Fraction(25), Fraction(30000, 1001), Fraction(30), Fraction(48),
    Fraction(50), Fraction(60000, 1001), Fraction(60),
)  # fmt: skip
MOST_CLIPS, MOST_LANES, MOST_CHANNELS = 100_000, 200, 64
LOWEST_DB, HIGHEST_DB = -120.0, 40.0
FLATTEST, TALLEST = 0.3, 4.0  # of a lane, relative to the others


def new_clip_id() -> str:
    """A fresh identity of a clip, lane or programme."""
    return uuid.uuid4().hex[:12]


@dataclass(frozen=True, slots=True, kw_only=True)
class Clip:
    """A stretch of a recording, or of its room tone, at a place of a lane.

    Attributes
    ----------
    recording_id : the recording that is heard, or whose room tone it is
    tone : room tone made from the quiet passages of the recording, instead of the recording itself
    start : frame of the programme at which it begins
    inner : frame of the recording, on the programme's clock, that is heard there
    frames : length
    channel : the one channel of the recording that is heard, counted from 0; None is all
    gain_line : (frame from the start, dB), straight in dB between them, added to ``gain_db``
    drift_ppm, shift : of a clip that was lined up: its frame m is heard at m x (1 + drift_ppm / 1e6) + shift of the recording
    listed : the recording that an edit list names where this one was put in its place, and what to add to a frame of this
        one, on the programme's clock, to get that one's; None: the list names this one, or knows nothing of the clip
    warp : of a clip that was fitted: (frame m, frame that is heard there), straight between them, before drift and shift
    """

    recording_id: str
    start: int
    inner: int
    frames: int
    tone: bool = False
    channel: int | None = None
    gain_db: float = 0.0
    gain_line: tuple[tuple[int, float], ...] = ()
    fade_in: Edge = field(default_factory=Edge)
    fade_out: Edge = field(default_factory=Edge)
    enabled: bool = True
    inverted: bool = False
    drift_ppm: float = 0.0
    shift: float = 0.0
    warp: tuple[tuple[int, int], ...] = ()
    listed: tuple[str, int] | None = None
    name: str = ""
    note: str = ""
    id: str = field(default_factory=new_clip_id)

    def __post_init__(self) -> None:
        if self.start < 0 or self.frames <= 0:
            message = tr("A clip must begin at or after the start of the programme and be longer than nothing.")
            raise ProjectError(message)
        if not LOWEST_DB <= self.gain_db <= HIGHEST_DB:
            message = tr(
                "The gain of a clip is {gain_db:g} dB; it must be between {low:g} and {high:g} dB.",
                gain_db=self.gain_db, low=LOWEST_DB, high=HIGHEST_DB,
            )  # fmt: skip
            raise ProjectError(message)

    @property
    def stop(self) -> int:
        """The frame of the programme after its last."""
        return self.start + self.frames

    @property
    def span(self) -> Span:
        """Where it lies in the programme."""
        return Span(self.start, self.stop)

    @property
    def in_list(self) -> tuple[str, int]:
        """The recording that an edit list names for it, and the first frame of that one that is played."""
        return (self.recording_id, self.inner) if self.listed is None else (self.listed[0], self.inner + self.listed[1])

    def heard_at(self, frame: float) -> float:
        """The frame of the recording, on the programme's clock, that is heard at a frame of the programme."""
        inner = _through(self.warp, frame - self.start + self.inner)
        return inner * (1.0 + 1e-6 * self.drift_ppm) + self.shift

    def place_of(self, frame: float) -> float:
        """The frame of the programme at which a frame of the recording, on the programme's clock, is heard."""
        inner = (frame - self.shift) / (1.0 + 1e-6 * self.drift_ppm)
        return _through([(b, a) for a, b in self.warp], inner) - self.inner + self.start

    def moved(self, frames: int) -> Clip:
        """The same clip later by frames. Made field by field: an edit at the start of a programme moves thousands."""
        made = object.__new__(Clip)
        for get, put in _FIELDS:
            put(made, get(self))
        _put_start(made, self.start + frames)
        if made.start < 0:
            message = tr("A clip must begin at or after the start of the programme and be longer than nothing.")
            raise ProjectError(message)
        return made

    def part_of(self, begin: int, end: int) -> Clip:
        """The stretch [begin, end) of the programme as a clip of its own, heard where it was, without fades at new edges."""
        begin, end = max(begin, self.start), min(end, self.stop)
        shift = begin - self.start
        return replace(
            self, start=begin, inner=self.inner + shift, frames=end - begin, gain_line=_line_part(self.gain_line, shift, end - begin),
            fade_in=_shortened(self.fade_in, end - begin) if begin == self.start else replace(self.fade_in, frames=0),
            fade_out=_shortened(self.fade_out, end - begin) if end == self.stop else replace(self.fade_out, frames=0),
        )  # fmt: skip


_FIELDS = tuple((vars(Clip)[name].__get__, vars(Clip)[name].__set__) for name in Clip.__slots__ if name != "start")
_put_start = vars(Clip)["start"].__set__


def _through(pairs: Sequence[tuple[int, int]], at: float) -> float:
    """Straight between pairs; before the first and behind the last as far away as from it."""
    if not pairs:
        return at
    if at <= pairs[0][0]:
        return at - pairs[0][0] + pairs[0][1]
    for (a, low), (b, high) in itertools.pairwise(pairs):
        if at <= b:
            return low + (high - low) * (at - a) / (b - a)
    return at - pairs[-1][0] + pairs[-1][1]


def _shortened(edge: Edge, frames: int) -> Edge:
    return edge if edge.frames <= frames else replace(edge, frames=frames)


def level_at(line: tuple[tuple[int, float], ...], frame: int) -> float:
    """Gain of a line in dB at a frame; flat before its first and after its last point."""
    if not line:
        return 0.0
    if frame <= line[0][0]:
        return line[0][1]
    for (a, low), (b, high) in itertools.pairwise(line):
        if frame <= b:
            return low + (high - low) * (frame - a) / max(1, b - a)
    return line[-1][1]


def _line_part(line: tuple[tuple[int, float], ...], shift: int, frames: int) -> tuple[tuple[int, float], ...]:
    if not line or (shift == 0 and line[-1][0] <= frames):
        return line
    inside = [(at - shift, db) for at, db in line if shift < at < shift + frames]
    return ((0, level_at(line, shift)), *inside, (frames, level_at(line, shift + frames)))


@dataclass(frozen=True, slots=True, kw_only=True)
class Lane:
    """Clips of one kind in a row: at most two sound at once, where one passes into the next.

    Attributes
    ----------
    placement : the loudspeaker that mono clips go to, by name; "" spreads them over left and right with equal power
    stem : name of the stem that it is delivered in; "" is that of its group, or of its kind
    group : lanes of one group are muted, soloed and turned up together; "" is none
    height : how tall it is drawn, relative to the others
    locked : its clips are neither changed nor moved; where others make room or close up, they stay
    """

    name: str
    kind: LaneKind = "voice"
    clips: tuple[Clip, ...] = ()
    steps: tuple[Step, ...] = ()
    gain_db: float = 0.0
    muted: bool = False
    soloed: bool = False
    placement: str = ""
    stem: str = ""
    group: str = ""
    height: float = 1.0
    locked: bool = False
    id: str = field(default_factory=new_clip_id)

    @property
    def frames(self) -> int:
        """Where its last clip ends: no clip lies inside another."""
        return self.clips[-1].stop if self.clips else 0

    def clip(self, clip_id: str) -> Clip:
        """The clip with this identity; KeyError when there is none."""
        for clip in self.clips:
            if clip.id == clip_id:
                return clip
        raise KeyError(clip_id)

    def with_clips(self, clips: Iterable[Clip]) -> Lane:
        """With these clips by place.

        Raises
        ------
        ProjectError
            When one lies inside another, or three would sound at once.
        """
        row = tuple(clips)
        if len(row) == len(self.clips) and all(map(operator.is_, row, self.clips)):
            return self  # an edit elsewhere: what hangs on this lane stays as well
        starts = [c.start for c in row]
        if any(map(operator.gt, starts, starts[1:])):  # seldom, and these may be thousands
            row = tuple(sorted(row, key=lambda c: (c.start, c.stop)))
            starts = [c.start for c in row]
        stops = [start + c.frames for start, c in zip(starts, row, strict=True)]
        if any(map(operator.gt, stops, stops[1:])) or any(map(operator.eq, starts, starts[1:])):
            message = tr("A clip would lie inside another on {name}. Move it to another lane.", name=self.name)
            raise ProjectError(message)
        if any(map(operator.gt, stops, starts[2:])):
            message = tr("Three clips would sound at once on {name}. Move one to another lane.", name=self.name)
            raise ProjectError(message)
        return replace(self, clips=row)


@dataclass(frozen=True, slots=True, kw_only=True)
class Programme:
    """Lanes of clips that are heard together, with steps of their own behind the mix.

    Attributes
    ----------
    start_frame : timecode of the first frame, in frames of the picture since midnight
    picture_rate : frames of the picture a second, exact
    picture_locked : the picture rules: no edit may make the programme longer or shorter behind it
    received : the edit list that it was made of, word for word
    film, film_quarters : path of the video that is looked at with it, and by how many quarters of a picture frame it comes early
    """

    name: str
    rate: int
    channels: int = 2
    lanes: tuple[Lane, ...] = ()
    steps: tuple[Step, ...] = ()
    markers: tuple[Marker, ...] = ()
    target_id: str = ""
    start_frame: int = 0
    picture_rate: Fraction = Fraction(25)
    drop_frame: bool = False
    picture_locked: bool = False
    received: Received | None = None
    film: str = ""
    film_quarters: int = 0
    id: str = field(default_factory=new_clip_id)

    @property
    def frames(self) -> int:
        """Its length: where the last clip ends."""
        return max((lane.frames for lane in self.lanes), default=0)

    def lane(self, lane_id: str) -> Lane:
        """The lane with this identity."""
        for lane in self.lanes:
            if lane.id == lane_id:
                return lane
        message = tr("The lane is no longer part of the programme.")
        raise ProjectError(message)

    def grouped(self, lane_id: str) -> tuple[Lane, ...]:
        """The lane and those that are in one group with it."""
        lane = self.lane(lane_id)
        return tuple(la for la in self.lanes if la.id == lane_id or (lane.group and la.group == lane.group))

    def lane_of(self, clip_id: str) -> Lane:
        """The lane on which a clip lies."""
        for lane in self.lanes:
            if any(c.id == clip_id for c in lane.clips):
                return lane
        message = tr("The clip is no longer part of the programme.")
        raise ProjectError(message)

    def lanes_with(self, clip_ids: Collection[str]) -> tuple[Lane, ...]:
        """The lanes on which any of these clips lies."""
        return tuple(lane for lane in self.lanes if any(c.id in clip_ids for c in lane.clips))

    def with_lane(self, lane: Lane) -> Programme:
        """With one more lane, or one replaced."""
        if any(known.id == lane.id for known in self.lanes):
            return replace(self, lanes=tuple(lane if known.id == lane.id else known for known in self.lanes))
        return replace(self, lanes=(*self.lanes, lane))

    def with_changed(self, clip_id: str, change: Callable[[Clip], Clip]) -> Programme:
        """With one clip changed."""
        lane = self.lane_of(clip_id)
        return self.with_lane(lane.with_clips(change(c) if c.id == clip_id else c for c in lane.clips))

    def with_all_changed(self, clip_ids: Collection[str], change: Callable[[Clip], Clip]) -> Programme:
        """With several clips changed, in one go; clips that are gone are not missed."""
        lanes = (
            lane.with_clips(change(c) if c.id in clip_ids else c for c in lane.clips)
            if any(c.id in clip_ids for c in lane.clips)
            else lane
            for lane in self.lanes
        )
        return replace(self, lanes=tuple(lanes))

    @property
    def recordings(self) -> tuple[str, ...]:
        """Identities of the recordings that are heard, each once, in the order in which they come."""
        clips = sorted((c for lane in self.lanes for c in lane.clips), key=lambda c: c.start)
        return tuple(dict.fromkeys(c.recording_id for c in clips))

    @property
    def sounding(self) -> tuple[Lane, ...]:
        """Lanes that are heard: the soloed ones when there are any, without muted ones."""
        soloed = [lane for lane in self.lanes if lane.soloed]
        return tuple(lane for lane in soloed or self.lanes if not lane.muted)
