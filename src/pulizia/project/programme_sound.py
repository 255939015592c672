# SPDX-License-Identifier: GPL-3.0-or-later
"""The sound of a programme: clips over processed recordings, lanes with their steps, the mix with its own."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.aligned import AlignedSource
from pulizia.audio.layouts import STANDARD_NAMES, are_loudspeakers, channel_names, into_one, into_two
from pulizia.audio.source import Source, content_key
from pulizia.audio.timeline import MixSource, Part, TimelineSource
from pulizia.errors import ProjectError
from pulizia.media.pulled_rate import PulledRateSource
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.cut_edges import CutEdges
from pulizia.project.warped import Anchors, WarpedSource
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.tools import room_tone
from pulizia.units import db_to_gain
from pulizia.words import tr

HALF_POWER = 0.5**0.5


class ToneSource:
    """Room tone of a recording without end: the same for a frame however it is asked for.

    Made by :mod:`pulizia.tools.room_tone` of the recording's quiet passages; learned when it is read first.
    """

    LENGTH_S = 24 * 3600

    def __init__(self, source: Source, store: AnalysisStore) -> None:
        self._source = source
        self.rate, self.channels, self.frames = source.rate, source.channels, self.LENGTH_S * source.rate
        self.key = content_key("tone", room_tone.TOOL.version, source.key)
        self._store = store

    def span_key(self, start: int, stop: int) -> str:
        """Key of a stretch."""
        return content_key(self.key, start, stop)

    def learn(self, progress: Callable[[float], None]) -> room_tone.Room:
        """What the room sounds like."""
        return room_tone.analyse(self._source, (), room_tone.RoomToneSettings(), progress)

    def read(self, start: int, stop: int) -> NDArray[np.float32]:
        """Samples of [start, stop)."""
        return room_tone.tone(self.learned(), start, stop)

    def learned(self, progress: Callable[[float], None] = lambda _: None) -> room_tone.Room:
        """What the room sounds like, learned once."""
        room: room_tone.Room = self._store.get(self.key, self, progress)
        return room


@dataclass(frozen=True, slots=True)
class LaneSound:
    """A lane's clips put together, and what its steps make of them."""

    lane: Lane
    line: TimelineSource
    chain: Chain

    @property
    def gain(self) -> float:
        """Its gain in the mix."""
        return db_to_gain(self.lane.gain_db)


@dataclass(frozen=True, slots=True)
class ProgrammeSound:
    """A programme's sound: each lane, and the mix before and after the programme's own steps.

    Attributes
    ----------
    part : makes what is heard of a clip on its lane
    there, room : the recordings that can be heard by identity, on the programme's clock, and their room tone
    silent : names of recordings that cannot be heard; silence stands in their place
    """

    programme: Programme
    lanes: tuple[LaneSound, ...]
    chain: Chain
    part: Callable[[Clip, Lane], Part]
    there: Mapping[str, Source]
    room: Mapping[str, ToneSource]
    tones: tuple[ToneSource, ...]
    silent: tuple[str, ...]

    @property
    def after(self) -> Source:
        """What is delivered."""
        return self.chain.after

    def prepare(self, progress: Callable[[float], None] = lambda _: None) -> None:
        """Let all steps learn what they need, lanes first."""
        for tone in self.tones:
            tone.learned()
        chains = [sound.chain for sound in self.lanes] + [self.chain]
        for n, chain in enumerate(chains):
            chain.prepare(lambda part, n=n: progress((n + part) / len(chains)))  # type: ignore[misc]

    def part_alone(self, clip: Clip, handles: int = 0) -> Part | None:
        """One clip from frame 0 on with its gain, and up to ``handles`` frames more of its recording at both ends, without fades.

        None when it is off or silent.
        """
        if not clip.enabled or clip.recording_id not in self.there:
            return None
        part = self.part(clip, self.programme.lane_of(clip.id))
        before = min(handles, max(0, part.inner))
        behind = min(handles, max(0, part.source.frames - part.inner - part.frames))
        line = tuple((at + before, db) for at, db in part.gain_line)
        return Part(part.source, 0, part.inner - before, before + part.frames + behind, part.weights, line)

    def clip_alone(self, clip: Clip, handles: int = 0) -> Source | None:
        """The same as a source; None when it is off or silent."""
        alone = self.part_alone(clip, handles)
        if alone is None:
            return None
        return TimelineSource.of_parts(
            [alone], rate=self.programme.rate, channels=self.programme.channels, frames=alone.frames
        )

    def stem(self, lanes: tuple[Lane, ...]) -> Source:
        """Some lanes alone, with their gains, without the programme's steps; as long as the programme."""
        ids = {lane.id for lane in lanes}
        return _mixed(self.programme, [s for s in self.lanes if s.lane.id in ids])


def sound_of(
    programme: Programme, heard: Callable[[str], tuple[Source, tuple[str, ...]] | None], cache: ChunkCache,
    store: AnalysisStore, names: Callable[[str], str] = str, previous: ProgrammeSound | None = None,
) -> ProgrammeSound:  # fmt: skip
    """Put a programme's sound together.

    Parameters
    ----------
    heard
        Gives the processed sound of a recording and its channels' names; None for one that cannot be opened, which is
        silence.
    names
        Gives the name of a recording for people.
    previous
        The sound that this one follows: of lanes on which nothing was moved everything is taken over.

    Raises
    ------
    ProjectError
        When a programme holds no clips.
    """
    if not programme.frames:
        message = tr("The programme {name} holds no clips. Add recordings to it first.", name=programme.name)
        raise ProjectError(message)
    recordings = {i: heard(i) for i in programme.recordings}
    at_rate, tones = _at_rate(programme, recordings, store, previous)
    named = {
        i: channel_names(at_rate[i].channels, (found or (None, ()))[1])
        for i, found in recordings.items()
        if i in at_rate
    }

    aligned: dict[tuple[str, float, float], Source] = {}
    warped: dict[tuple[str, Anchors], Source] = {}

    def part(clip: Clip, lane: Lane) -> Part:
        source = tones[clip.recording_id] if clip.tone else at_rate[clip.recording_id]
        if (clip.drift_ppm or clip.shift) and not clip.tone:
            which = (clip.recording_id, clip.drift_ppm, clip.shift)
            source = aligned.setdefault(which, AlignedSource(source, clip.drift_ppm, clip.shift))
        if clip.warp and not clip.tone:
            source = warped.setdefault((source.key, clip.warp), WarpedSource(source, clip.warp))
        return _part(clip, lane, programme, source, named[clip.recording_id])

    lanes = []
    for lane in programme.lanes:
        was = _same_lane(lane, programme, at_rate, previous)
        if was is not None:
            line = was.line.lasting(programme.frames)
        else:
            clips = [clip for clip in lane.clips if clip.enabled and clip.recording_id in at_rate]
            edges = CutEdges(clips, programme.rate)

            def heard_part(n: int, edges: CutEdges = edges, lane: Lane = lane) -> Part:
                return part(edges.clip(n, lambda i: at_rate[i].frames), lane)

            line = TimelineSource(
                edges.spans, heard_part,
                rate=programme.rate, channels=programme.channels, frames=programme.frames,
            )  # fmt: skip
        chain = Chain(line, lane.steps, cache, store, previous=was.chain if was is not None else None)
        lanes.append(LaneSound(lane, line, chain))
    sounding = {lane.id for lane in programme.sounding}
    mix = _mixed(programme, [s for s in lanes if s.lane.id in sounding])
    toned = {c.recording_id for lane in programme.lanes for c in lane.clips if c.tone and c.enabled}
    used = tuple(tone for i, tone in tones.items() if i in toned)
    missing = tuple(names(i) for i, found in recordings.items() if found is None)
    return ProgrammeSound(
        programme, tuple(lanes), Chain(mix, programme.steps, cache, store), part, at_rate, tones, used, missing
    )


def _at_rate(
    programme: Programme, recordings: Mapping[str, tuple[Source, tuple[str, ...]] | None], store: AnalysisStore,
    previous: ProgrammeSound | None,
) -> tuple[dict[str, Source], dict[str, ToneSource]]:  # fmt: skip
    """Recordings on the programme's clock, and their room tone; those that sound as before are the same."""
    at_rate, tones = dict[str, Source](), dict[str, ToneSource]()
    for i, found in recordings.items():
        if found is None:
            continue
        source, known = found[0], previous.there.get(i) if previous is not None else None
        if previous is not None and known is not None and _is_of(known, source, programme.rate):
            at_rate[i], tones[i] = known, previous.room[i]
            continue
        at_rate[i] = source if source.rate == programme.rate else PulledRateSource(source, programme.rate)
        tones[i] = ToneSource(at_rate[i], store)
    return at_rate, tones


def _is_of(known: Source, source: Source, rate: int) -> bool:
    return known is source or (isinstance(known, PulledRateSource) and known.source is source and known.rate == rate)


def _same_lane(
    lane: Lane, programme: Programme, at_rate: Mapping[str, Source], previous: ProgrammeSound | None
) -> LaneSound | None:
    """The sound of the lane in ``previous``, where its clips, what they play and where they are placed are the same."""
    was = previous.programme if previous is not None else None
    if previous is None or was is None or (was.rate, was.channels) != (programme.rate, programme.channels):
        return None
    known = next((s for s in previous.lanes if s.lane.id == lane.id), None)
    if known is None or known.lane.clips is not lane.clips or known.lane.placement != lane.placement:
        return None
    played = {c.recording_id for c in lane.clips}
    return known if all(at_rate.get(i) is previous.there.get(i) for i in played) else None


def _mixed(programme: Programme, sounds: list[LaneSound]) -> MixSource:
    return MixSource(
        [(s.chain.after, s.gain) for s in sounds],
        rate=programme.rate, channels=programme.channels, frames=programme.frames,
    )  # fmt: skip


def _part(clip: Clip, lane: Lane, programme: Programme, source: Source, names: tuple[str, ...]) -> Part:
    weights = placed(names, clip.channel, lane.placement, programme.channels)
    gain = db_to_gain(clip.gain_db) * (-1.0 if clip.inverted else 1.0)
    return Part(
        source, clip.start, clip.inner, clip.frames, (gain * weights).astype(np.float32), clip.gain_line,
        clip.fade_in, clip.fade_out,
    )  # fmt: skip


def placed(names: tuple[str, ...], channel: int | None, placement: str, channels: int) -> NDArray[np.float64]:
    """(channels, channels of the recording) weights with which a clip is heard in a programme.

    One channel goes to the loudspeaker named, or to left and right with equal power (each by the square root of one
    half) where none is. Two channels go left and right as they are. Where the layouts differ otherwise, loudspeakers
    are folded down after ITU-R BS.775 and the tracks of a recorder are mixed with equal power.
    """
    count = len(names)
    if channel is not None:
        chosen = np.zeros((1, count))
        chosen[0, min(channel, count - 1)] = 1.0
        return np.asarray(placed(("M",), None, placement, channels) @ chosen)
    loudspeakers = STANDARD_NAMES.get(channels, tuple(str(n + 1) for n in range(channels)))
    if count == channels and not placement:
        return np.eye(channels)
    if placement in loudspeakers and channels > 1:
        out = np.zeros((channels, count))
        out[loudspeakers.index(placement)] = into_one(names)[0] if count > 1 else 1.0
        return out
    if channels == 1:
        return into_one(names) if are_loudspeakers(names) or count > 1 else np.ones((1, 1))
    two = into_two(names) if count > 1 else np.full((2, 1), HALF_POWER)
    out = np.zeros((channels, count))
    out[:2] = two
    return out


def stems_of(programme: Programme) -> dict[str, tuple[Lane, ...]]:
    """Lanes by the name of their stem: their own, that of their group, or that of their kind."""
    found: dict[str, tuple[Lane, ...]] = {}
    for lane in programme.lanes:
        if lane.clips and not lane.muted:
            name = lane.stem or lane.group or lane.kind
            found[name] = (*found.get(name, ()), lane)
    return found
