# SPDX-License-Identifier: GPL-3.0-or-later
"""A programme made of an edit list and the files in the folders that were given, with a report of what was found."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path

from pulizia.audio.markers import Marker
from pulizia.audio.timeline import Edge
from pulizia.errors import ProjectError
from pulizia.interchange.edit_list import EditList, Event, Fade, Track
from pulizia.interchange.find_media import HOWS, MediaFolders
from pulizia.interchange.list_media import Medium, key_of, media_of, open_found, settle
from pulizia.project.clips import Clip, Lane, LaneKind, Programme
from pulizia.project.model import Recording
from pulizia.project.programme_file import clip_of, programme_of_row
from pulizia.project.received import LARGEST_BYTES, Laid, Received
from pulizia.words import plural, tr, translated

USUAL_RATE = 48_000
KIND_WORDS: tuple[tuple[LaneKind, tuple[str, ...]], ...] = (
    ("atmosphere", ("atmo", "ambien", "amb", "wild")), ("fill", ("fill", "tone")), ("effects", ("fx", "effect", "sfx", "foley")),
    ("alternate", ("alt",)),
)  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class MediaRow:
    """One medium of the list in the report; ``path`` None is missing."""

    name: str
    path: Path | None
    how: str
    events: int
    remarks: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Assembled:
    """What came of a list."""

    programme: Programme
    recordings: tuple[Recording, ...]
    media: tuple[MediaRow, ...]
    remarks: tuple[str, ...]

    @property
    def missing(self) -> tuple[str, ...]:
        """Names of media that were not found."""
        return tuple(row.name for row in self.media if row.path is None)

    @property
    def report(self) -> tuple[str, ...]:
        """All of it in sentences: what is missing first."""
        lines = []
        for row in sorted(self.media, key=lambda r: r.path is not None):
            uses = plural("1 event", "{n} events", row.events)
            if row.path is None:
                lines.append(tr("Missing: {name} ({events}). Silence stands in its place.", name=row.name, events=uses))
            else:
                how = translated(HOWS[row.how])
                lines.append(
                    tr("{name}: found {how}, {path} ({events}).", name=row.name, how=how, path=row.path, events=uses)
                )
            lines += [f"{row.name}: {remark}" for remark in row.remarks]
        return (*lines, *self.remarks)


def assemble(
    found: EditList,
    content: bytes,
    file_name: str,
    folders: MediaFolders,
    *,
    rate: int | None = None,
    prefer_field: bool = False,
    known: tuple[Recording, ...] = (),
    starts: tuple[tuple[str, Fraction], ...] = (),
    progress: Callable[[float], None] = lambda _: None,
) -> Assembled:
    """Find the media of a list and lay its events as clips.

    Parameters
    ----------
    folders
        Where media are looked for; nothing outside is opened.
    rate
        Sample rate of the programme; None is that of most of the found media.
    prefer_field
        Take a sound recorder's file of the same moment in the place of a camera's sound.
    known
        Recordings of the project: a found file that is one of them is not added again, and a medium that is not found
        counts as the one with its file name.
    starts
        Of these by identity, the time that an earlier list calls their first frame: used where the file is not there.

    Raises
    ------
    EditListError, ProjectError
        When nothing of the list can be laid.
    """
    media = media_of(found)
    for n, medium in enumerate(media.values()):
        medium.found = folders.find(medium.media, medium.events, prefer_field=prefer_field)
        open_found(medium, known)
        if medium.found is not None and not prefer_field:
            field = folders.field_recording(medium.found, medium.events)
            if field is not None:
                medium.remarks.append(tr("a field recording of the same moment is there: {name}.", name=field.name))
        progress(0.9 * (n + 1) / len(media))
    rates = [m.recording.rate for m in media.values() if m.recording is not None]
    clock = rate or found.sample_rate or (max(rates, key=rates.count) if rates else USUAL_RATE)
    for medium in media.values():
        settle(medium, clock, known, dict(starts))
    programme, remarks = _programme(found, media, clock, file_name, content)
    rows = tuple(
        MediaRow(
            name=m.media.name or m.media.reel or m.media.path, path=m.found.facts.path if m.found else None,
            how=m.found.how if m.found else "", events=len(m.events), remarks=tuple(m.remarks),
        )
        for m in media.values()
    )  # fmt: skip
    used = {c.recording_id for lane in programme.lanes for c in lane.clips}
    recordings = {
        m.recording.id: m.recording for m in media.values() if m.recording is not None and m.recording.id in used
    }
    made = Assembled(
        programme=programme, recordings=tuple(recordings.values()), media=rows, remarks=(*found.remarks, *remarks)
    )
    kept = content if len(content) <= LARGEST_BYTES else b""
    bases = tuple(
        (m.recording.id, m.base) for m in media.values() if m.recording is not None and m.recording.id in used
    )
    received = Received(
        file_name, found.kind, kept, made.report, laid_of(programme), bases, prefer_field, programme.name
    )
    return replace(made, programme=replace(programme, received=received))


def laid_of(programme: Programme) -> tuple[Laid, ...]:
    """The clips of a programme as a list asks for them."""
    return tuple(
        Laid(lane.id, lane.name, recording, clip.start, inner, clip.frames, clip.channel)
        for lane in programme.lanes
        for clip in lane.clips
        if not clip.tone
        for recording, inner in (clip.in_list,)
    )


def _programme(
    found: EditList, media: dict[tuple[str, ...], Medium], clock: int, file_name: str, content: bytes
) -> tuple[Programme, list[str]]:
    del content
    remarks: list[str] = []
    lanes: list[Lane] = []
    for track in _merged(found.tracks, media, remarks):
        rows = _rows([_clip(event, media[key_of(event.media)], clock) for event in track.events], remarks, track.name)
        base = _own_lane(track)
        for n, clips in enumerate(rows):
            name = track.name if not n else tr("{name}, part {number}", name=track.name, number=n + 1)
            lane = (
                replace(base, name=name, clips=())
                if base is not None and not n
                else Lane(name=name, kind=_kind(track.name))
            )
            lanes.append(lane.with_clips(clips))
    if not any(lane.clips for lane in lanes):
        message = tr("Nothing of {name} could be laid: it has no events with a length.", name=file_name)
        raise ProjectError(message)
    rate = found.picture_rate
    markers = tuple(
        Marker(round(m.at * clock), m.name, round(m.seconds * clock), m.note, m.kind, m.scene, m.who)
        for m in found.markers
    )
    programme = Programme(
        name=found.name, rate=clock, lanes=tuple(lanes), markers=tuple(sorted(markers)), picture_rate=rate,
        drop_frame=found.drop, start_frame=round(found.start * rate),
    )  # fmt: skip
    return _own_programme(found, programme), remarks


def _merged(tracks: tuple[Track, ...], media: dict[tuple[str, ...], Medium], remarks: list[str]) -> list[Track]:
    """Tracks without events that repeat one of the track before: two channels of a file with one or two are one clip.

    Where the file names its tracks as a recorder does they are microphones, and stay on lanes of their own.
    """
    made: list[Track] = []
    for track in tracks:
        before = {(key_of(e.media), e.record, e.seconds, e.source): e for e in made[-1].events} if made else {}
        rest, paired = [], []
        for event in track.events:
            twin = before.get((key_of(event.media), event.record, event.seconds, event.source))
            recording = media[key_of(event.media)].recording
            if (
                twin is not None
                and twin.channel is not None
                and event.channel == twin.channel + 1
                and recording is not None
                and recording.channels <= 2
                and not media[key_of(event.media)].has_microphones
            ):
                paired.append(twin)
            else:
                rest.append(event)
        if paired:
            whole = {id(e) for e in paired}
            events = tuple(replace(e, channel=None) if id(e) in whole else e for e in made[-1].events)
            made[-1] = replace(made[-1], events=events)
            words = plural(
                "1 event of {track} is the second channel of the track before and is heard with it.",
                "{n} events of {track} are the second channel of the track before and are heard with it.",
                len(paired), track=track.name,
            )  # fmt: skip
            remarks.append(words)
        if rest or not paired:
            made.append(replace(track, events=tuple(rest)))
    return made


def _clip(event: Event, medium: Medium, clock: int) -> Clip:
    """An event in whole frames of the programme: each end is rounded once."""
    recording = medium.recording
    assert recording is not None  # noqa: S101 - every medium has one
    if isinstance(event.own, dict):
        try:
            kept = clip_of(event.own)
        except (KeyError, TypeError, ValueError, ProjectError):
            kept = None
        if kept is not None:
            return replace(kept, recording_id=recording.id)
    start, stop = round(event.record * clock), round(event.stop * clock)
    source = event.source - medium.base if event.by_timecode else event.source
    line = tuple((round(at * clock), round(db, 3)) for at, db in event.gain_line)
    channel = None if event.channel is None or recording.channels == 1 else min(event.channel, recording.channels - 1)
    return Clip(
        recording_id=recording.id, start=start, inner=round(source * clock), frames=max(1, stop - start), channel=channel,
        gain_db=min(max(event.gain_db, -120.0), 40.0), gain_line=line, fade_in=_edge(event.fade_in, stop - start, clock),
        fade_out=_edge(event.fade_out, stop - start, clock), enabled=event.enabled, name=event.name or recording.name,
        note=event.note,
    )  # fmt: skip


def _edge(fade: Fade, frames: int, clock: int) -> Edge:
    return Edge(min(max(0, frames), round(fade.seconds * clock)), fade.law)


def _rows(clips: list[Clip], remarks: list[str], name: str) -> list[list[Clip]]:
    """Clips in as few rows as hold them: one passes into the next, but none lies inside another."""
    rows: list[list[Clip]] = []
    for clip in sorted(clips, key=lambda c: (c.start, c.stop)):
        for row in rows:
            last, before = row[-1], row[-2] if len(row) > 1 else None
            inside = clip.stop < last.stop or clip.start == last.start
            if not inside and (before is None or before.stop <= clip.start):
                row.append(clip)
                break
        else:
            rows.append([clip])
    if len(rows) > 1:
        remarks.append(
            tr("Events of {name} lie over each other; they were parted onto {count} lanes.", name=name, count=len(rows))
        )
    return rows


def _kind(name: str) -> LaneKind:
    plain = name.lower()
    return next((kind for kind, words in KIND_WORDS if any(word in plain for word in words)), "voice")


def _own_lane(track: Track) -> Lane | None:
    """A lane that this program has written itself: kind, gain, steps, stem."""
    if not isinstance(track.own, dict):
        return None
    row = {
        "id": "x", "name": "x", "rate": 48_000, "channels": 2, "lanes": [track.own | {"clips": []}], "steps": [], "markers": [], "target": "",
        "start_frame": 0, "picture_rate": "25", "drop_frame": False, "received": None,
    }  # fmt: skip
    try:
        return programme_of_row(row).lanes[0]
    except (KeyError, TypeError, ValueError, ProjectError):
        return None


def _own_programme(found: EditList, made: Programme) -> Programme:
    """With what this program has written itself of the programme: channels, steps, target, exact start."""
    if not isinstance(found.own, dict) or "programme" not in found.own:
        return made
    row = found.own["programme"]
    try:
        own = programme_of_row(row | {"lanes": [], "markers": [], "received": None})
    except (KeyError, TypeError, ValueError, ProjectError):
        return made
    return replace(
        made, channels=own.channels, steps=own.steps, target_id=own.target_id, start_frame=own.start_frame,
        picture_rate=own.picture_rate, drop_frame=own.drop_frame, picture_locked=own.picture_locked,
    )  # fmt: skip
