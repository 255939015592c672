# SPDX-License-Identifier: GPL-3.0-or-later
"""What is known of a programme besides its sound, and what of it is true of a file."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from pulizia.audio.markers import Marker
from pulizia.audio.source import Source
from pulizia.delivery.deliverable import Deliverable
from pulizia.media.broadcast import Broadcast
from pulizia.media.tags import Tags


@dataclass(frozen=True, slots=True, kw_only=True)
class Metadata:
    """What is known of a programme and travels in its files."""

    markers: Sequence[Marker] = ()
    broadcast: Broadcast = field(default_factory=Broadcast)
    tags: Tags = field(default_factory=Tags)
    done: str = ""  # what was done to the sound, for the coding history
    picture: Path | None = None  # the picture file that the sound goes back into


def moved_to(metadata: Metadata, programme: Source, ready: Source, wanted: Deliverable) -> Metadata:
    """What is said of a programme, as it is true of its deliverable: markers, start time and names of channels."""
    broadcast = _moved_start(metadata.broadcast, programme, ready, wanted)
    if ready.channels != programme.channels:
        broadcast = replace(broadcast, channel_names=())
    return replace(metadata, markers=_moved(metadata.markers, programme, ready, wanted), broadcast=broadcast)


def _moved(markers: Sequence[Marker], programme: Source, ready: Source, wanted: Deliverable) -> tuple[Marker, ...]:
    """Markers at the deliverable's rate, after its silence at the head."""
    head = round(wanted.head_s * ready.rate)
    return tuple(m.moved(ready.rate / programme.rate, head) for m in markers)


def _moved_start(metadata: Broadcast, programme: Source, ready: Source, wanted: Deliverable) -> Broadcast:
    """The start time at the deliverable's rate: earlier by the silence at the head."""
    if not metadata.frames_since_midnight:
        return metadata
    start = round(metadata.frames_since_midnight * ready.rate / programme.rate) - round(wanted.head_s * ready.rate)
    return replace(metadata, frames_since_midnight=max(0, start))
