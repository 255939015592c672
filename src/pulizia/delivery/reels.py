# SPDX-License-Identifier: GPL-3.0-or-later
"""A programme in several files: one for each reel, all at the programme's gain."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from pathlib import Path

from pulizia.audio.edges import EdgedSource
from pulizia.audio.markers import Marker, Reel, reels_of
from pulizia.audio.source import Source, SpanSource
from pulizia.audio.spans import Span
from pulizia.audio.timeline import Part, TimelineSource
from pulizia.delivery.deliverable import Deliverable, with_pop
from pulizia.delivery.metadata import Metadata
from pulizia.errors import DeliveryError
from pulizia.media.names import safe_name
from pulizia.units import format_time
from pulizia.words import tr


@dataclass(frozen=True, slots=True, kw_only=True)
class OutFile:
    """A file of a deliverable.

    Attributes
    ----------
    counts : frames of it that belong to the measured programme: no 2-pop, and what two reels share only once
    """

    path: Path
    source: Source
    metadata: Metadata
    counts: Span
    reel: str = ""


def reel_path(path: Path, name: str) -> Path:
    """Where a reel is written: the name of the deliverable with that of the reel."""
    return path.with_name(f"{path.stem}-{safe_name(name)}{path.suffix}")


def paths_of(path: Path, wanted: Deliverable, markers: Sequence[Marker], frames: int) -> list[Path]:
    """All files that a deliverable becomes; ``frames`` is the length on the markers' clock.

    DeliveryError where reels are asked for and none begins.
    """
    return [reel_path(path, reel.name) for reel in _reels(markers, frames)] if wanted.by_reel else [path]


def files_of(source: Source, path: Path, wanted: Deliverable, metadata: Metadata) -> list[OutFile]:
    """The files of a finished sound; of reels each gets the silence, the 2-pop and the start time of its own.

    Without reels ``source`` has its silence already, with them not.
    """
    if not wanted.by_reel:
        begin = round(wanted.head_s * source.rate) if wanted.pop_s else 0  # a 2-pop is no part of the programme
        return [
            OutFile(path=path, source=with_pop(source, wanted), metadata=metadata, counts=Span(begin, source.frames))
        ]
    reels = _reels(metadata.markers, source.frames)
    ends = [min(a.span.stop, b.span.start) for a, b in pairwise(reels)] + [reels[-1].span.stop]
    head, tail = round(wanted.head_s * source.rate), round(wanted.tail_s * source.rate)
    return [
        OutFile(
            path=reel_path(path, reel.name), metadata=_metadata_of(metadata, reel, head), counts=Span(head, head + end - reel.span.start),
            reel=reel.name,
            source=with_pop(EdgedSource(SpanSource(source, reel.span.start, reel.span.stop), head=head, tail=tail), wanted),
        )
        for reel, end in zip(reels, ends, strict=True)
    ]  # fmt: skip


def joined(parts: Sequence[Source]) -> Source:
    """Sounds of one rate, one behind the other."""
    if len(parts) == 1:
        return parts[0]
    placed, at = [], 0
    for part in parts:
        placed.append(Part.whole(part, at))
        at += part.frames
    return TimelineSource.of_parts(placed, rate=parts[0].rate, channels=parts[0].channels, frames=at)


def left_out(markers: Sequence[Marker], frames: int, rate: int) -> str:
    """A sentence on what lies in no reel; "" where all of the programme does."""
    at = missing = 0
    for reel in _reels(markers, frames):
        missing += max(0, reel.span.start - at)
        at = max(at, reel.span.stop)
    missing += max(0, frames - at)
    return tr("{length} of the programme lies in no reel.", length=format_time(missing / rate, 3)) if missing else ""


def _reels(markers: Sequence[Marker], frames: int) -> tuple[Reel, ...]:
    found = reels_of(markers, frames)
    if not found:
        message = tr("The programme has no reels. Add a note of the kind Reel where each begins.")
        raise DeliveryError(message)
    files = [safe_name(reel.name).casefold() for reel in found]  # names that differ may be one to the disk
    return tuple(
        replace(reel, name=f"{reel.name} {n}") if files.count(file) > 1 else reel
        for n, (reel, file) in enumerate(zip(found, files, strict=True), 1)
    )


def _metadata_of(metadata: Metadata, reel: Reel, head: int) -> Metadata:
    """What is said of a reel: markers that lie in it, and its own start time, ``head`` frames earlier."""
    inside = tuple(
        replace(m, frame=m.frame - reel.span.start + head, frames=min(m.frames, reel.span.stop - m.frame))
        for m in metadata.markers
        if reel.span.start <= m.frame < reel.span.stop
    )
    start = metadata.broadcast.frames_since_midnight + reel.span.start - head
    words = f"{metadata.broadcast.description}, {reel.name}" if metadata.broadcast.description else reel.name
    return replace(
        metadata,
        markers=inside,
        broadcast=replace(metadata.broadcast, description=words, frames_since_midnight=max(0, start)),
    )
