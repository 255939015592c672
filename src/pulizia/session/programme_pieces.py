# SPDX-License-Identifier: GPL-3.0-or-later
"""What a programme can be written as: the whole, its stems, its clips one by one or in one continuous file. No Qt."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path

from pulizia.audio.aligned import AlignedSource
from pulizia.audio.markers import Marker
from pulizia.audio.source import Source, SpanSource
from pulizia.audio.spans import Span
from pulizia.audio.timeline import Part, TimelineSource
from pulizia.delivery.deliverable import Deliverable
from pulizia.delivery.metadata import Metadata
from pulizia.delivery.reels import files_of
from pulizia.media.broadcast import Broadcast
from pulizia.media.names import safe_name
from pulizia.media.pulled_rate import PulledRateSource
from pulizia.project.clips import Clip, Programme
from pulizia.project.programme_sound import ProgrammeSound, stems_of
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.score.steps import Step
from pulizia.session.subject import metadata_of
from pulizia.units import seconds_to_frames

Opened = tuple[Source, tuple[Step, ...]]  # a recording's untouched sound and its steps


@dataclass(frozen=True, slots=True)
class Piece:
    """A file to be written: what it is for people, its name without suffix, its sound, what travels in it."""

    title: str
    name: str
    source: Source
    metadata: Metadata


def whole_piece(programme: Programme, sound: ProgrammeSound) -> Piece:
    """The programme as it sounds."""
    return Piece(programme.name, safe_name(programme.name), sound.after, metadata_of(programme))


def stem_pieces(programme: Programme, sound: ProgrammeSound) -> list[Piece]:
    """One file for each stem: as long as the programme, with its start time and markers."""
    return [
        Piece(
            f"{programme.name}, {name}",
            safe_name(f"{programme.name}-{name}"),
            sound.stem(lanes),
            metadata_of(programme),
        )
        for name, lanes in stems_of(programme).items()
    ]


def reel_pieces(programme: Programme, sound: ProgrammeSound) -> list[Piece]:
    """One file for each reel, with its own start time and the markers that lie in it; ProjectError when there are none."""
    name = safe_name(programme.name)
    wanted = Deliverable(by_reel=True)
    return [
        Piece(f"{programme.name}, {file.reel}", file.path.stem, file.source, file.metadata)
        for file in files_of(sound.after, Path(f"{name}.wav"), wanted, metadata_of(programme))
    ]


@dataclass(frozen=True, slots=True)
class ClipPiece:
    """A clip as a file, and how much of the recording lies in it before the clip begins, of how much in all."""

    clip_id: str
    piece: Piece
    lead_s: Fraction
    seconds: Fraction


def rendered_clips(programme: Programme, sound: ProgrammeSound, *, handles_s: float) -> list[ClipPiece]:
    """Clips that are on as files of their own, room tone among them, for a list that names these files."""
    handles = seconds_to_frames(max(0.0, handles_s), programme.rate)
    made = []
    for lane in programme.lanes:
        for number, clip in enumerate((c for c in lane.clips if c.enabled), 1):
            part = sound.part_alone(clip, handles if not clip.tone else 0)
            if part is None:
                continue
            lead = Fraction(clip.inner - part.inner, programme.rate)
            piece = _single(programme, lane.name, number, clip, part)
            made.append(ClipPiece(clip.id, piece, lead, Fraction(part.frames, programme.rate)))
    return made


def clip_pieces(
    programme: Programme,
    sound: ProgrammeSound,
    *,
    handles_s: float = 0.0,
    joined: bool = False,
    opened: Callable[[str], Opened | None] | None = None,
) -> list[Piece]:
    """Clips that are on, with their gains and without fades.

    Parameters
    ----------
    handles_s
        So much more of the recording at both ends, as far as there is any.
    joined
        One continuous file for each lane, its clips one behind the other, instead of a file for each clip.
    opened
        Gives a recording's untouched sound and its steps: the steps then learn from each clip with its handles alone.
        None takes the sound after steps that have learned from the whole recording.
    """
    handles = seconds_to_frames(max(0.0, handles_s), programme.rate)
    found: list[Piece] = []
    for lane in programme.lanes:
        parts: list[tuple[int, Clip, Part]] = []
        for number, clip in enumerate((c for c in lane.clips if c.enabled), 1):
            part = sound.part_alone(clip, handles)
            if part is not None:
                parts.append((number, clip, part if opened is None else _learned_alone(programme, clip, part, opened)))
        if joined and parts:
            found.append(_joined(programme, lane.name, parts))
        elif not joined:
            found += [_single(programme, lane.name, *row) for row in parts]
    return found


def _single(programme: Programme, lane: str, number: int, clip: Clip, part: Part) -> Piece:
    name = f"{lane}-{number:03}" + (f"-{clip.name}" if clip.name else "")
    source = TimelineSource.of_parts([part], rate=programme.rate, channels=programme.channels, frames=part.frames)
    lead = clip.inner - part.inner if not clip.tone else 0
    began = metadata_of(programme).broadcast.frames_since_midnight + clip.start - lead
    start = Broadcast(description=clip.name or programme.name, frames_since_midnight=max(0, began))
    return Piece(f"{lane} {number}", safe_name(name), source, Metadata(broadcast=start))


def _joined(programme: Programme, lane: str, parts: list[tuple[int, Clip, Part]]) -> Piece:
    """A lane's clips one behind the other, with a marker at each."""
    placed, markers, at = [], [], 0
    for number, clip, part in parts:
        placed.append(replace(part, start=at))
        markers.append(Marker(at, clip.name or f"{lane} {number}"))
        at += part.frames
    source = TimelineSource.of_parts(placed, rate=programme.rate, channels=programme.channels, frames=at)
    return Piece(lane, safe_name(f"{programme.name}-{lane}"), source, Metadata(markers=tuple(markers)))


def _learned_alone(programme: Programme, clip: Clip, part: Part, opened: Callable[[str], Opened | None]) -> Part:
    """The same stretch after steps that have heard nothing but it."""
    found = opened(clip.recording_id)
    if found is None or clip.tone or clip.warp:  # a fitted clip is heard through what its recording has learned
        return part
    raw, steps = found
    scale = raw.rate / programme.rate
    # where the stretch lies in the recording, which a clip that was lined up hears on another clock
    begin = clip.heard_at(part.inner - clip.inner + clip.start)
    end = clip.heard_at(part.inner + part.frames - clip.inner + clip.start)
    first, last = max(0, round(begin * scale)), min(raw.frames, round(end * scale))
    if last <= first:
        return part
    own = tuple(step for s in steps if (step := _inside(s, Span(first, last))) is not None)
    made = Chain(SpanSource(raw, first, last), own, ChunkCache(), AnalysisStore())
    made.prepare()
    source = made.after if raw.rate == programme.rate else PulledRateSource(made.after, programme.rate)
    if clip.drift_ppm or clip.shift:
        return replace(part, source=AlignedSource(source, clip.drift_ppm, begin - first / scale), inner=0)
    return replace(part, source=source, inner=part.inner - round(first / scale))


def _inside(step: Step, window: Span) -> Step | None:
    """A step on the clock of a stretch; None when it does not act there."""
    moved = {
        name: tuple(
            Span(max(s.start, window.start) - window.start, min(s.stop, window.stop) - window.start)
            for s in spans
            if s.overlaps(window.start, window.stop)
        )
        for name, spans in (("spans", step.spans), ("holes", step.holes))
        if spans is not None
    }
    if step.spans is not None and not moved["spans"]:
        return None
    return replace(step.for_recipe(), spans=moved.get("spans"), holes=moved["holes"], enabled=step.enabled)
