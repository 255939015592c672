# SPDX-License-Identifier: GPL-3.0-or-later
"""A programme made of an edit list and the files in the folders that were given, with a report of what was found."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from fractions import Fraction
from pathlib import Path

from pulizia.audio.markers import Marker
from pulizia.audio.timeline import Edge
from pulizia.errors import MediaError, ProjectError
from pulizia.interchange.edit_list import EditList, Event, Fade, MediaName, Track
from pulizia.interchange.find_media import HOWS, Found, MediaFolders
from pulizia.media.open import open_media
from pulizia.project.clips import Clip, Lane, LaneKind, Programme
from pulizia.project.model import Recording
from pulizia.project.programme_file import clip_of, programme_of_row
from pulizia.project.received import LARGEST_BYTES, Received
from pulizia.units import format_number
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


@dataclass(slots=True)
class _Medium:
    """A medium of the list with what plays it and what was found."""

    media: MediaName
    events: list[Event] = field(default_factory=list)
    found: Found | None = None
    recording: Recording | None = None
    remarks: list[str] = field(default_factory=list)
    base: Fraction = Fraction(0)


def assemble(
    found: EditList,
    content: bytes,
    file_name: str,
    folders: MediaFolders,
    *,
    rate: int | None = None,
    prefer_field: bool = False,
    known: tuple[Recording, ...] = (),
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
        Recordings of the project: a found file that is one of them is not added again.

    Raises
    ------
    EditListError, ProjectError
        When nothing of the list can be laid.
    """
    media = _media(found)
    for n, medium in enumerate(media.values()):
        medium.found = folders.find(medium.media, medium.events, prefer_field=prefer_field)
        _open(medium, known)
        progress(0.9 * (n + 1) / len(media))
    rates = [m.recording.rate for m in media.values() if m.recording is not None]
    clock = rate or found.sample_rate or (max(rates, key=rates.count) if rates else USUAL_RATE)
    for medium in media.values():
        _settle(medium, clock)
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
    received = Received(file_name, found.kind, kept, made.report)
    return replace(made, programme=replace(programme, received=received))


def _key(media: MediaName) -> tuple[str, ...]:
    return (media.path or media.name, media.reel, media.scene, media.take)


def _media(found: EditList) -> dict[tuple[str, ...], _Medium]:
    media: dict[tuple[str, ...], _Medium] = {}
    for track in found.tracks:
        for event in track.events:
            media.setdefault(_key(event.media), _Medium(event.media)).events.append(event)
    return media


def _open(medium: _Medium, known: tuple[Recording, ...]) -> None:
    """Make the recording of a found file; one that cannot be opened counts as missing."""
    if medium.found is None:
        return
    path = medium.found.facts.path
    same = next((r for r in known if r.path == path), None)
    if same is not None:
        medium.recording = same
        return
    try:
        medium.recording = Recording.of_media(open_media(path))
    except MediaError as error:
        medium.remarks.append(str(error))
        medium.found = None


def _settle(medium: _Medium, clock: int) -> None:
    """Where the medium's timecode begins, and what of it differs from what the list says; a stand-in for a missing one."""
    last = max((e.source + e.seconds for e in medium.events), default=Fraction(1))
    first = min((e.source for e in medium.events), default=Fraction(0))
    coded = any(e.by_timecode for e in medium.events)
    told = medium.media.start
    if medium.recording is None:
        medium.base = told if told is not None else first if coded and first > 60 else Fraction(0)
        name = medium.media.name or medium.media.reel or tr("missing")
        frames = max(1, round((medium.media.seconds or last - medium.base) * clock))
        medium.recording = Recording(
            path=Path(medium.media.path or name).absolute(), name=Path(name).stem or name, fingerprint="", rate=clock,
            channels=max(1, medium.media.channels), frames=frames,
        )  # fmt: skip
        return
    facts = medium.found.facts if medium.found is not None else None
    length = Fraction(medium.recording.frames, medium.recording.rate)
    starts = [s for s in (facts.start if facts is not None else None, told, Fraction(0)) if s is not None]
    if coded:
        fits = [s for s in starts if s <= first + Fraction(1, 25) and last <= s + length + Fraction(1, 25)]
        medium.base = fits[0] if fits else starts[0]
        if not fits:
            medium.remarks.append(
                tr("the list plays {first} to {last} s of it, outside its {length} s; there it is silent.",
                   first=format_number(float(first - medium.base), 1), last=format_number(float(last - medium.base), 1),
                   length=format_number(float(length), 1))
            )  # fmt: skip
    elif last > length + Fraction(1, 25):
        medium.remarks.append(
            tr("the list plays {last} s of it, the file has {length} s; beyond it is silent.",
               last=format_number(float(last), 1), length=format_number(float(length), 1))
        )  # fmt: skip
    _differences(medium, length)


def _differences(medium: _Medium, length: Fraction) -> None:
    recording, told = medium.recording, medium.media
    assert recording is not None  # noqa: S101 - the caller has looked
    if told.rate_hz and told.rate_hz != recording.rate:
        medium.remarks.append(
            tr(
                "the list says {said} Hz, the file has {has} Hz; it is converted.",
                said=told.rate_hz,
                has=recording.rate,
            )
        )
    if told.channels and told.channels != recording.channels:
        medium.remarks.append(
            tr("the list says {said} channels, the file has {has}.", said=told.channels, has=recording.channels)
        )
    if told.seconds is not None and abs(told.seconds - length) > Fraction(1, 10):
        medium.remarks.append(
            tr("the list says {said} s, the file has {has} s.",
               said=format_number(float(told.seconds), 1), has=format_number(float(length), 1))
        )  # fmt: skip
    highest = max((e.channel for e in medium.events if e.channel is not None), default=0)
    if highest >= recording.channels:
        medium.remarks.append(
            tr(
                "the list plays channel {channel}, the file has {has}; the last one is taken.",
                channel=highest + 1,
                has=recording.channels,
            )
        )
    if medium.found is not None and medium.found.rivals:
        names = ", ".join(str(p) for p in medium.found.rivals[:3])
        medium.remarks.append(tr("there are others of this name or moment: {names}.", names=names))


def _programme(
    found: EditList, media: dict[tuple[str, ...], _Medium], clock: int, file_name: str, content: bytes
) -> tuple[Programme, list[str]]:
    del content
    remarks: list[str] = []
    lanes: list[Lane] = []
    for track in _merged(found.tracks, media, remarks):
        rows = _rows([_clip(event, media[_key(event.media)], clock) for event in track.events], remarks, track.name)
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


def _merged(tracks: tuple[Track, ...], media: dict[tuple[str, ...], _Medium], remarks: list[str]) -> list[Track]:
    """Tracks without events that repeat one of the track before: two channels of a file with one or two are one clip."""
    made: list[Track] = []
    for track in tracks:
        before = {(_key(e.media), e.record, e.seconds, e.source): e for e in made[-1].events} if made else {}
        rest, paired = [], []
        for event in track.events:
            twin = before.get((_key(event.media), event.record, event.seconds, event.source))
            recording = media[_key(event.media)].recording
            if (
                twin is not None
                and twin.channel is not None
                and event.channel == twin.channel + 1
                and recording is not None
                and recording.channels <= 2
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


def _clip(event: Event, medium: _Medium, clock: int) -> Clip:
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
