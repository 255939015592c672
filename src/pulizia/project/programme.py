# SPDX-License-Identifier: GPL-3.0-or-later
"""What of a recording is delivered: the stretch that was kept, with its markers and its start."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

from pulizia.audio.edges import EdgedSource
from pulizia.audio.markers import Marker
from pulizia.audio.source import Source, SpanSource
from pulizia.media.broadcast import Broadcast
from pulizia.project.clips import Programme
from pulizia.project.model import Recording
from pulizia.units import seconds_to_frames

FADE_S = 0.01  # at an end that was trimmed, as at every edge of an edit


def programme_of(recording: Recording, sound: Source) -> Source:
    """The kept stretch of a recording's sound, before or after its score; it comes and goes without a click."""
    trim = recording.trim
    if trim is None:
        return sound
    fade = seconds_to_frames(FADE_S, recording.rate)
    ends = {"fade_in": fade if trim.start else 0, "fade_out": fade if trim.stop < recording.frames else 0}
    return EdgedSource(SpanSource(sound, trim.start, trim.stop), **ends)


def in_place(recording: Recording, programme: Source) -> Source:
    """A programme at its place in the whole recording, with silence around: as a picture or the ears need it."""
    trim = recording.trim
    return programme if trim is None else EdgedSource(programme, head=trim.start, tail=recording.frames - trim.stop)


def beside_film(programme: Programme, sound: Source) -> Source:
    """An assembled programme's sound as its video needs it: beginning with the first picture."""
    head = round(Fraction(programme.film_quarters, 4) / programme.picture_rate * programme.rate)
    if head < 0:
        return SpanSource(sound, min(-head, sound.frames), sound.frames)
    return EdgedSource(sound, head=head) if head else sound


def kept_markers(recording: Recording) -> tuple[Marker, ...]:
    """The markers inside the kept stretch, counted from its start."""
    kept = recording.kept
    return tuple(m.moved(1.0, -kept.start) for m in recording.markers if kept.start <= m.frame < kept.stop)


def kept_start(recording: Recording, broadcast: Broadcast) -> Broadcast:
    """The recorder's metadata with the start time of the kept stretch, where there is a start time."""
    if not broadcast.frames_since_midnight or recording.trim is None:
        return broadcast
    return replace(broadcast, frames_since_midnight=broadcast.frames_since_midnight + recording.trim.start)
