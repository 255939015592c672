# SPDX-License-Identifier: GPL-3.0-or-later
"""A programme as an edit list, with sentences on what its kind cannot carry."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from fractions import Fraction
from itertools import pairwise
from pathlib import Path

from pulizia.audio.markers import Marker
from pulizia.interchange.aaf_write import aaf_bytes
from pulizia.interchange.csv_list import csv_text
from pulizia.interchange.edit_list import EditList, EditListError, Event, Fade, ListMarker, MediaName, Track
from pulizia.interchange.edl import edl_text
from pulizia.interchange.otio import otio_text
from pulizia.interchange.read import KINDS
from pulizia.interchange.xml_write import xml_text
from pulizia.media.facts import MediaFacts
from pulizia.media.write import write_bytes, write_text
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.model import Recording
from pulizia.project.programme_file import clip_row, lane_row, programme_row
from pulizia.units import format_number
from pulizia.words import plural, tr

LEAST_DRIFT_MS = 0.05

WITHOUT_OFF = ("edl", "aaf")  # kinds that cannot say that a clip is off


@dataclass(frozen=True, slots=True)
class Rendered:
    """The file that takes the place of a clip's recording: its path, and how much of it lies before the clip."""

    path: Path
    lead_s: Fraction
    seconds: Fraction
    rate_hz: int
    channels: int


def list_of(
    programme: Programme,
    recordings: dict[str, Recording],
    facts_of: Callable[[Recording], MediaFacts | None],
    rendered: dict[str, Rendered] | None = None,
) -> EditList:
    """A programme as a list.

    Parameters
    ----------
    recordings
        By identity.
    facts_of
        Gives what a recording's file says of its timecode, reel, scene and take; None when it is not there.
    rendered
        By identity of a clip: the file that was made of it; None plays the recordings themselves.
    """
    media: dict[str, MediaName] = {}
    for recording in recordings.values():
        facts = facts_of(recording)
        media[recording.id] = MediaName(
            name=recording.path.name, path=str(recording.path), reel=facts.reel if facts else "", scene=facts.scene if facts else "",
            take=facts.take if facts else "", start=(facts.start if facts and facts.start is not None else Fraction(0)),
            seconds=Fraction(recording.frames, recording.rate), rate_hz=recording.rate, channels=recording.channels,
        )  # fmt: skip
    tracks = []
    for lane in programme.lanes:
        events = tuple(
            event for clip in lane.clips if (event := _event(clip, programme.rate, media, rendered)) is not None
        )
        tracks.append(
            Track(name=lane.name, events=events, own={k: v for k, v in lane_row(lane).items() if k != "clips"})
        )
    own = {k: v for k, v in programme_row(programme).items() if k not in ("lanes", "markers", "received")}
    return EditList(
        kind="", name=programme.name, picture_rate=programme.picture_rate, drop=programme.drop_frame,
        start=programme.start_frame / programme.picture_rate, sample_rate=programme.rate, tracks=tuple(tracks),
        markers=tuple(_marker(m, programme.rate) for m in programme.markers),
        own={"programme": own, "picture_rate": str(programme.picture_rate), "drop": programme.drop_frame},
    )  # fmt: skip


def _marker(marker: Marker, clock: int) -> ListMarker:
    return ListMarker(
        at=Fraction(marker.frame, clock), name=marker.name, note=marker.note, seconds=Fraction(marker.frames, clock),
        kind=marker.kind, scene=marker.scene, who=marker.who,
    )  # fmt: skip


def _event(clip: Clip, clock: int, media: dict[str, MediaName], rendered: dict[str, Rendered] | None) -> Event | None:
    seconds = Fraction(clip.frames, clock)
    shared = {
        "record": Fraction(clip.start, clock), "seconds": seconds, "enabled": clip.enabled, "name": clip.name, "note": clip.note,
        "fade_in": Fade(seconds=Fraction(clip.fade_in.frames, clock), law=clip.fade_in.law),
        "fade_out": Fade(seconds=Fraction(clip.fade_out.frames, clock), law=clip.fade_out.law),
    }  # fmt: skip
    made = rendered.get(clip.id) if rendered is not None else None
    if made is not None:  # gains are in the file, the fades are not
        name = MediaName(
            name=made.path.name,
            path=str(made.path),
            start=Fraction(0),
            seconds=made.seconds,
            rate_hz=made.rate_hz,
            channels=made.channels,
        )
        return Event(source=made.lead_s, media=name, **shared)  # type: ignore[arg-type]
    if clip.tone or clip.recording_id not in media:
        return None
    name = media[clip.recording_id]
    line = tuple((Fraction(at, clock), db) for at, db in clip.gain_line)
    return Event(
        source=(name.start or Fraction(0)) + Fraction(round(clip.heard_at(clip.start)), clock), by_timecode=True, media=name, channel=clip.channel,
        gain_db=clip.gain_db, gain_line=line, own=clip_row(clip), **shared,  # type: ignore[arg-type]
    )  # fmt: skip


def losses(programme: Programme, kind: str, recordings: Iterable[Recording], *, rendered: bool) -> tuple[str, ...]:
    """Sentences on what a list of this kind cannot carry of a programme and the recordings that it plays."""
    clips = [c for lane in programme.lanes for c in lane.clips]
    tones = sum(c.tone for c in clips)
    played = {c.recording_id for c in clips}
    heard = [r for r in recordings if r.id in played]
    repaired = sum(any(step.enabled for step in r.score) for r in heard)
    wide = {r.id for r in heard if r.channels > 1}
    is_wide = programme.channels > 1 if rendered else any(c.channel is None and c.recording_id in wide for c in clips)
    drift_ms = max((1e-3 * abs(c.drift_ppm) * c.frames / programme.rate for c in clips), default=0.0)
    every = ("edl", "xml", "csv", "aaf")
    # the kinds that cannot carry something, whether the programme has it, and the sentence
    table: tuple[tuple[tuple[str, ...], bool, str], ...] = (
        ((*every, "otio"), bool(tones) and not rendered, plural(
            "1 clip of room tone has no file and is left out; render the clips to give it along.",
            "{n} clips of room tone have no file and are left out; render the clips to give them along.", tones)),
        ((*every, "otio"), bool(repaired) and not rendered, plural(
            "The repairs of 1 recording are not carried: the list plays its file as it came. Render the clips to give them along.",
            "The repairs of {n} recordings are not carried: the list plays their files as they came. Render the clips to give them along.", repaired)),
        (every, drift_ms >= LEAST_DRIFT_MS and not rendered, tr(
            "Clocks of recorders are corrected where a clip begins and not inside it: up to {ms} ms at its end.", ms=format_number(drift_ms, 1))),
        (every, not rendered and any(_has_steps(lane) for lane in programme.lanes), tr("Steps of lanes are not carried.")),
        (every, bool(programme.steps), tr("Steps of the programme are not carried.")),
        (every, any(lane.gain_db for lane in programme.lanes), tr("Gains of lanes are not carried.")),
        (every, not rendered and any(c.inverted for c in clips), tr("Inverted polarity is not carried.")),
        (every, not rendered and any(c.warp for c in clips),
            tr("Clips that were fitted to another take play at their own speed.")),
        (("xml", "edl"), any(_between_frames(c, programme) for c in clips),
            tr("Positions between picture frames are rounded; the exact ones stand in a comment of our own.")),
        (("edl", "csv"), not rendered and any(c.gain_line for c in clips), tr("Gain lines are not carried.")),
        (("edl",), any(c.fade_in.frames or c.fade_out.frames for c in clips),
            tr("Fades stand only in a comment of our own; other programs read cuts.")),
        (("edl",), is_wide, tr("Clips of several channels stand on one track: other programs read one of their channels.")),
        (("aaf",), any(c.note for c in clips), tr("Notes of clips are not carried.")),
        (("aaf",), any(a.stop > b.start for lane in programme.lanes for a, b in pairwise(lane.clips)),
            tr("The law of cross-fades is not carried.")),
        (("edl", "aaf"), any(m.note or m.frames for m in programme.markers),
            tr("The lengths of markers and the words beside their names are not carried; save the notes as a list of their own.")),
        (every, any(m.kind or m.scene or m.who for m in programme.markers),
            tr("The kind, scene and person of notes are not carried; save the notes as a list of their own.")),
        (WITHOUT_OFF, any(not c.enabled for c in clips), tr("Clips that are off are left out.")),
        (("xml",), any(c.fade_in.law == "matched" and c.fade_in.frames for c in clips),
            tr("The matched law of fades becomes equal power.")),
    )  # fmt: skip
    return tuple(sentence for kinds, holds, sentence in table if kind in kinds and holds)


def _has_steps(lane: Lane) -> bool:
    return any(step.enabled for step in lane.steps)


def _between_frames(clip: Clip, programme: Programme) -> bool:
    frame = programme.rate / programme.picture_rate
    return any(Fraction(at) % frame for at in (clip.start, clip.stop, clip.inner))


def write_list(found: EditList, path: Path) -> int:
    """Write a list in the kind that the suffix of the path names; how many events are in it.

    Raises
    ------
    EditListError
        For a suffix of no kind, or when a kind needs a library that is not there.
    DiskError
        When the disk refuses.
    """
    kind = KINDS.get(path.suffix.lower())
    if kind is None:
        message = tr("{name} is no edit list. Lists end in {known}.", name=path.name, known=", ".join(sorted(KINDS)))
        raise EditListError(message)
    if kind == "otio":
        write_text(path, otio_text(found, found.sample_rate))
    elif kind == "xml":
        write_bytes(path, xml_text(found))
    elif kind == "csv":
        write_text(path, csv_text(found))
    elif kind == "edl":
        write_text(path, edl_text(found))
    else:
        write_bytes(path, aaf_bytes(found, found.sample_rate))
    return found.count - (found.count_off if kind in WITHOUT_OFF else 0)
