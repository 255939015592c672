# SPDX-License-Identifier: GPL-3.0-or-later
"""CMX3600 edit decision lists: text of fixed columns, frames only, a reel and a channel code an event.

After the published form of the CMX 3600 list (SMPTE ST 258 describes its successor), with what is common practice in
its comments. FCM rules how timecode is counted; the separator before the frames is checked against it.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from fractions import Fraction
from pathlib import PurePath

from pulizia.audio.timecode import TimecodeError, can_drop, frame_of, timecode
from pulizia.interchange.edit_list import (
    OWN_MARK,
    EditList,
    EditListError,
    Event,
    Fade,
    ListMarker,
    MediaName,
    Track,
    exact_words,
    exactly,
    picture_words,
    stated_rate,
    stated_start,
)
from pulizia.words import plural, tr

TC = r"(\d{1,2}[:;.]\d{2}[:;.]\d{2}[:;.,]\d{2,3})"
EVENT = re.compile(
    rf"^\s*(\d{{1,6}})\s+(\S(?:.*?\S)?)\s+(\S+)\s+(C|D|W\d{{1,3}}|KB?|KO)\s*(\d{{1,4}})?\s+{TC}\s+{TC}\s+{TC}\s+{TC}\s*$"
)
COMMENT = re.compile(r"^\s*\*\s*(.*\S)?\s*$")
SPEED = re.compile(rf"^\s*M2\s+(\S+)\s+(-?[\d.]+)\s+{TC}\s*$")
AUDIO = re.compile(r"^\s*AUD\s+([\d\s]+)$")
LOCATOR = re.compile(rf"^LOC:\s*{TC}\s+(\S+)\s*(.*)$")
BLACK = {"BL", "BLACK"}
LINE_LIMIT = 2_000_000
REEL_LENGTH = 8


@dataclass(slots=True)
class _Row:
    """An event line with the comments that follow it."""

    number: str
    reel: str
    code: str
    kind: str
    length: int
    source: tuple[Fraction, Fraction]
    record: tuple[Fraction, Fraction]
    channels: set[int] = field(default_factory=set)
    from_name: str = ""
    to_name: str = ""
    file: str = ""
    notes: list[str] = field(default_factory=list)
    own: str = ""


def channels_of(code: str) -> set[int] | None:
    """Sound channels, counted from 0, that a channel code names; None for a code that is none."""
    found: set[int] = set()
    for part in code.upper().split("/"):
        if part in ("V", "V1", "V2", "NONE"):
            continue
        if part == "B":
            found |= {0}
        elif part == "AA":
            found |= {0, 1}
        elif re.fullmatch(r"A{3,8}", part):
            found |= set(range(len(part)))
        elif (one := re.fullmatch(r"A(\d{0,2})(V?)", part)) is not None:
            found |= {max(int(one[1] or 1), 1) - 1}
        elif (row := re.fullmatch(r"AA?(\d{1,2})-(\d{1,2})", part)) is not None:
            found |= set(range(int(row[1]) - 1, int(row[2])))
        else:
            return None
    return found


def read_edl(text: str, name: str, rate: Fraction = Fraction(25), *, drop: bool | None = None) -> EditList:
    """Read a list.

    Parameters
    ----------
    rate
        Frames of the picture a second: only lists of this program say it, which is taken then. Where a list counts
        drop-frame at a rate that has none, 30000/1001 is taken.
    drop
        Drop-frame counting; None obeys the list's FCM line, else the separator.

    Raises
    ------
    EditListError
        When no line is an event.
    """
    lines = text.replace("\r\n", "\n").replace("\r", "\n").split("\n")[:LINE_LIMIT]
    remarks: list[str] = []
    rate = stated_rate(text) or rate
    dropping = _dropping(lines, remarks) if drop is None else drop
    if dropping and not can_drop(rate):
        remarks.append(tr("The list counts drop-frame timecode: it is read at 29.97 frames a second."))
        rate = Fraction(30000, 1001)
    rows = list(_rows(lines, rate, remarks, drop=dropping))
    title = next((line.split(":", 1)[1].strip() for line in lines if line.upper().startswith("TITLE:")), "")
    markers = tuple(_markers(lines, rate, drop=dropping))
    if not rows:
        message = tr("{name} holds no events. Export the list as a CMX3600 edit decision list.", name=name)
        raise EditListError(message)
    sound = [row for row in rows if row.channels]
    if silent := len(rows) - len(sound):
        remarks.append(
            plural("1 event has no sound and was left out.", "{n} events have no sound and were left out.", silent)
        )
    first = min((row.record[0] for row in rows), default=Fraction(0))
    start, said = _whole_start(Fraction(int(first * rate)) / rate, rate, dropping), stated_start(text)
    if said is not None and said <= first:
        start = said
    tracks = _tracks(sound, start, rate)
    return EditList(
        kind="edl", name=title or name, picture_rate=rate, drop=dropping, start=start, tracks=tracks,
        markers=tuple(replace(m, at=max(Fraction(0), m.at - start)) for m in markers), remarks=tuple(dict.fromkeys(remarks)),
    )  # fmt: skip


def _whole_start(start: Fraction, rate: Fraction, drop: bool) -> Fraction:  # noqa: FBT001
    """The whole hour, or whole minute, at which a programme that begins with this event begins."""
    frame = round(start * rate)
    for step in ("00:00", "00"):
        text = timecode(frame, rate, drop=drop)
        begin = text[: 8 - len(step)] + step + (";" if drop else ":") + "00"
        try:
            found = Fraction(frame_of(begin, rate, drop=drop)) / rate
        except TimecodeError:
            continue
        if start - found <= 10 * 60:
            return found
    return start


def _dropping(lines: list[str], remarks: list[str]) -> bool:
    modes = [line.split(":", 1)[1].strip().upper() for line in lines if line.upper().startswith("FCM:")]
    said = [not mode.startswith("NON") for mode in modes if "DROP" in mode]
    marks = {";" in match[6] for line in lines if (match := EVENT.match(line)) is not None}
    if said:
        if len(set(said)) > 1:
            remarks.append(tr("The list changes between drop-frame and non-drop timecode; the first one holds."))
        if marks and (True in marks) != said[0]:
            remarks.append(tr("The separators in the list do not match its FCM line; the FCM line holds."))
        return said[0]
    return True in marks


def _rows(lines: list[str], rate: Fraction, remarks: list[str], *, drop: bool) -> Iterator[_Row]:
    row: _Row | None = None
    for line in lines:
        found = EVENT.match(line)
        if found is not None:
            if row is not None:
                yield row
            row = _row(found, rate, remarks, drop=drop)
        elif row is not None:
            _add(row, line, remarks)
    if row is not None:
        yield row


def _row(found: re.Match[str], rate: Fraction, remarks: list[str], *, drop: bool) -> _Row | None:
    try:
        times = [Fraction(frame_of(_plain(found[n]), rate, drop=drop)) / rate for n in (6, 7, 8, 9)]
    except TimecodeError as error:
        remarks.append(tr("Event {number} was left out. {error}", number=found[1], error=error))
        return None
    channels = channels_of(found[3])
    if channels is None:
        remarks.append(
            tr(
                "Event {number} has the unknown channel code {code}; it is taken as the first channel.",
                number=found[1],
                code=found[3],
            )
        )
        channels = {0}
    kind = found[4]
    if kind[0] in "WK":
        remarks.append(tr("Event {number}: a wipe or key of the picture is taken as a cut.", number=found[1]))
        kind = "D" if kind[0] == "W" and found[5] else "C"
    return _Row(
        found[1], found[2], found[3], kind, int(found[5] or 0), (times[0], times[1]), (times[2], times[3]), channels
    )


def _plain(text: str) -> str:
    """Timecode with the separators that the reader knows."""
    parts = re.split(r"[:;.,]", text)
    return ":".join(parts)


def _add(row: _Row, line: str, remarks: list[str]) -> None:
    """What a line under an event says of it."""
    if (audio := AUDIO.match(line)) is not None:
        row.channels |= {int(n) - 1 for n in audio[1].split() if 0 < int(n) <= 64}
        return
    if (speed := SPEED.match(line)) is not None:
        remarks.append(
            tr(
                "Event {number} plays at {speed} frames a second; it is taken at its usual speed.",
                number=row.number,
                speed=speed[2],
            )
        )
        return
    comment = COMMENT.match(line)
    if comment is None or not comment[1]:
        return
    words = comment[1]
    upper = words.upper()
    for head, name in (("FROM CLIP NAME:", "from_name"), ("TO CLIP NAME:", "to_name"), ("SOURCE FILE:", "file")):
        if upper.startswith(head):
            setattr(row, name, words[len(head) :].strip())
            return
    if words.startswith(OWN_MARK + " "):
        row.own = row.own if stated_rate(words) else words
    elif not upper.startswith("LOC:"):
        row.notes.append(words)


def _markers(lines: list[str], rate: Fraction, *, drop: bool) -> Iterator[ListMarker]:
    for line in lines:
        comment = COMMENT.match(line)
        found = LOCATOR.match(comment[1]) if comment is not None and comment[1] else None
        if found is None:
            continue
        try:
            at = Fraction(frame_of(_plain(found[1]), rate, drop=drop)) / rate
        except TimecodeError:
            continue
        yield ListMarker(at=at, name=found[3].strip() or found[2])


def _tracks(rows: list[_Row], start: Fraction, rate: Fraction) -> tuple[Track, ...]:
    """Events by sound channel; what a dissolve needs is taken from the event before it."""
    count = max((max(row.channels) for row in rows), default=-1) + 1
    tracks = []
    for channel in range(count):
        events: list[Event] = []
        for row in (r for r in rows if channel in r.channels):
            _append(events, row, channel, start, rate)
        if events:
            tracks.append(Track(name=f"A{channel + 1}", events=tuple(events)))
    return tuple(tracks)


def _append(events: list[Event], row: _Row, channel: int, start: Fraction, rate: Fraction) -> None:
    record, seconds = row.record[0] - start, row.record[1] - row.record[0]
    black = row.reel.upper() in BLACK
    dissolve = Fraction(row.length) / rate if row.kind == "D" else Fraction(0)
    if dissolve and events and abs(events[-1].stop - record) < Fraction(1, 2) / rate:
        # the outgoing sound goes on under the dissolve
        before = events[-1]
        fade = Fade(seconds=dissolve) if black else before.fade_out
        events[-1] = replace(before, seconds=before.seconds + dissolve, fade_out=fade)
    if black or seconds <= 0:
        return
    name = (row.to_name if row.kind == "D" else "") or row.from_name or row.file
    made = Event(
        record=max(Fraction(0), record), seconds=seconds, source=row.source[0], by_timecode=True,
        media=MediaName(name=row.file or name, reel=row.reel), channel=channel, fade_in=Fade(seconds=dissolve), name=name,
        note=" ".join(row.notes),
    )  # fmt: skip
    if row.own:
        made = exactly(made, row.own, _beyond(row))
    events.append(made)


def _beyond(row: _Row) -> Fraction:
    """The event's place in the media with the samples that lie beyond a whole frame."""
    found = re.search(r"\bbeyond=(-?\d{1,9})\b.*\brate=(\d{1,9})\b|\brate=(\d{1,9})\b.*\bbeyond=(-?\d{1,9})\b", row.own)
    if found is None:
        return row.source[0]
    count, clock = (found[1], found[2]) if found[1] else (found[4], found[3])
    return row.source[0] + Fraction(int(count), max(1, int(clock)))


def edl_text(found: EditList) -> str:
    """A list of cuts: an event a line, its exact samples, gain and fades in a comment that other readers skip.

    The list must have a sample rate. Events that are off are left out.
    """
    rate, clock = found.picture_rate, found.sample_rate
    lines = [
        f"TITLE: {found.name}",
        "FCM: DROP FRAME" if found.drop else "FCM: NON-DROP FRAME",
    ]

    def code(frame: int) -> str:
        return timecode(frame, rate, drop=found.drop)

    number = 0
    for track, row in enumerate(found.tracks):
        for event in (e for e in row.events if e.enabled):
            number += 1
            begin, end = (round((found.start + at) * rate) for at in (event.record, event.stop))
            end = max(begin + 1, end)
            place = event.source if event.by_timecode else event.source + (event.media.start or 0)
            source = math.floor(place * rate)
            ahead = math.ceil((event.media.start or 0) * rate) - source  # frames before the media's first: silence
            if ahead > 0:
                source, begin = source + ahead, min(begin + ahead, end - 1)
            beyond = round((place - Fraction(source) / rate) * clock)
            plain = "".join(
                ch for ch in (event.media.reel or PurePath(event.media.name).stem) if ch.isalnum() or ch in "_-"
            )
            channel = "A" if not track else f"A{track + 1}"
            times = " ".join(code(frame) for frame in (source, source + end - begin, begin, end))
            lines += ["", f"{number:03d}  {plain[:REEL_LENGTH].upper() or 'AX':<8} {channel:<5} C        {times}"]
            lines += [f"* FROM CLIP NAME: {event.name}"] if event.name else []
            lines += [f"* SOURCE FILE: {event.media.name}"] if event.media.name else []
            if number == 1:  # some readers take no comment before an event
                lines.append(f"* {picture_words(rate, found.start)}")
            lines.append(f"* {exact_words(event, clock)} beyond={beyond}")
            lines += [f"* {line}" for line in event.note.splitlines() if line.strip()]
    for marker in found.markers:
        lines.append(f"* LOC: {code(round((found.start + marker.at) * rate))} WHITE   {marker.name}")
    return "\n".join(lines) + "\n"
