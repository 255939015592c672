# SPDX-License-Identifier: GPL-3.0-or-later
"""Edit lists as tables: a row an event, with a head that names the columns in any order."""

from __future__ import annotations

import csv
import io
from dataclasses import replace
from fractions import Fraction

from pulizia.audio.timecode import TimecodeError, timecode, typed_seconds
from pulizia.interchange.edit_list import (
    MOST_EVENTS,
    OWN_MARK,
    EditList,
    EditListError,
    Event,
    Fade,
    ListMarker,
    MediaName,
    Track,
    picture_words,
    stated_rate,
    stated_start,
)
from pulizia.words import tr

COLUMNS = (
    "track", "name", "file", "reel", "channel", "record_in", "record_out", "source_in", "gain_db", "fade_in_s",
    "fade_in_law", "fade_out_s", "fade_out_law", "enabled", "note",
)  # fmt: skip
NEEDED = ("file", "record_in", "record_out", "source_in")
ALIASES = {
    "lane": "track", "clip": "name", "source": "file", "filename": "file", "start": "record_in", "end": "record_out",
    "in": "source_in", "comment": "note",
}  # fmt: skip


def read_csv(text: str, name: str, rate: Fraction = Fraction(25), *, drop: bool = False) -> EditList:
    """Read a table. Times are seconds or timecode; record times from the start of the list, or timecode of the programme.

    Raises
    ------
    EditListError
        When a needed column is missing or a row holds a time that is none.
    """
    sample, rate = text[:4096], stated_rate(text) or rate
    separator = max(",;\t", key=sample.split("\n", 1)[0].count)
    try:
        rows = list(csv.reader(io.StringIO(text, newline=None), delimiter=separator))[: MOST_EVENTS + 2]
    except csv.Error as error:  # a cell of more than 131072 characters: a quotation mark that is never closed
        message = tr("{name} is no table of events: {error}. Save the table again.", name=name, error=error)
        raise EditListError(message) from error
    head = [_column(cell) for cell in rows[0]] if rows else []
    missing = [column for column in NEEDED if column not in head]
    if missing:
        message = tr(
            "{name} is no table of events: it has no column {column}. Its first row must name {needed}.",
            name=name, column=missing[0], needed=", ".join(NEEDED),
        )  # fmt: skip
        raise EditListError(message)
    coded = any(_is_code(row[head.index("record_in")]) for row in rows[1:] if len(row) > head.index("record_in"))
    tracks: dict[str, list[Event]] = {}
    markers: list[ListMarker] = []
    title, clock = name, 0
    for number, cells in enumerate(rows[1:], 2):
        row = {column: cell.strip() for column, cell in zip(head, cells, strict=False) if column}
        if not any(row.values()) or row.get("track", "").startswith(f"#{OWN_MARK}"):
            continue
        try:
            if row.get("track", "").startswith("#marker"):
                markers.append(_marker(row, rate, drop=drop))
                continue
            event = _event(row, rate, drop)
        except (TimecodeError, ValueError, KeyError, ZeroDivisionError) as error:
            message = tr("{name}, row {number}: {error}", name=name, number=number, error=error)
            raise EditListError(message) from error
        tracks.setdefault(row.get("track") or "A1", []).append(event)
    first = min((e.record for events in tracks.values() for e in events), default=Fraction(0))
    start = _hour_before(first) if coded else Fraction(0)
    begins = next((row for row in rows[1:] if row and not row[0].startswith("#")), [])
    if not coded and "timecode_in" in head and len(begins) > head.index("timecode_in"):
        drop = drop or ";" in begins[head.index("timecode_in")]
        start = _own_start(text, dict(zip(head, begins, strict=False)), rate, drop=drop)
    shift = start if coded else Fraction(0)
    made = tuple(
        Track(
            name=track,
            events=tuple(replace(e, record=e.record - shift) for e in sorted(events, key=lambda e: e.record)),
        )
        for track, events in tracks.items()
    )
    shifted = tuple(replace(m, at=max(Fraction(0), m.at - shift)) for m in markers)
    return EditList(
        kind="csv",
        name=title,
        picture_rate=rate,
        drop=drop,
        start=start,
        sample_rate=clock,
        tracks=made,
        markers=shifted,
    )


def _hour_before(first: Fraction) -> Fraction:
    """The whole hour at which a programme begins whose first event lies so near behind it."""
    hour = Fraction(int(first / 3600) * 3600)
    return hour if first - hour < 600 else first


def _own_start(text: str, row: dict[str, str], rate: Fraction, *, drop: bool) -> Fraction:
    """The start that a table of this program states; in older ones it is what the timecode of the first event says beyond its time."""
    code = row["timecode_in"].strip()
    if (said := stated_start(text[:4096])) is not None or not _is_code(code):
        return said or Fraction(0)
    return round((_seconds(code, rate, drop) - _seconds(row["record_in"], rate, drop)) * rate) / rate


def _column(cell: str) -> str:
    plain = cell.strip().lstrip("\ufeff").lower().replace(" ", "_").replace("-", "_")
    return ALIASES.get(plain, plain)


def _is_code(text: str) -> bool:
    return text.count(":") + text.count(";") == 3


def _seconds(text: str, rate: Fraction, drop: bool) -> Fraction:  # noqa: FBT001
    return typed_seconds(text, rate, drop=drop)


def _source(text: str, rate: Fraction, *, drop: bool) -> Fraction:
    """Where of the media an event begins: before its first frame, where a fade begins in the silence there."""
    return -_seconds(text[1:], rate, drop) if text.startswith("-") else _seconds(text, rate, drop)


def _marker(row: dict[str, str], rate: Fraction, *, drop: bool) -> ListMarker:
    at = _seconds(row["record_in"], rate, drop)
    end = _seconds(row.get("record_out") or row["record_in"], rate, drop)
    return ListMarker(at=at, name=row.get("name", ""), note=row.get("note", ""), seconds=max(Fraction(0), end - at))


def _event(row: dict[str, str], rate: Fraction, drop: bool) -> Event:  # noqa: FBT001
    first, last = _seconds(row["record_in"], rate, drop), _seconds(row["record_out"], rate, drop)
    if last <= first:
        message = tr("the event ends before it begins")
        raise ValueError(message)
    fade_in, fade_out = (_fade(row, side, rate, drop=drop) for side in ("in", "out"))
    channel = row.get("channel", "")
    return Event(
        record=first, seconds=last - first, source=_source(row["source_in"], rate, drop=drop),
        by_timecode=_is_code(row["source_in"]), media=MediaName(name=row["file"], path=row["file"], reel=row.get("reel", "")),
        channel=int(channel) - 1 if channel and int(channel) > 0 else None, gain_db=float(row.get("gain_db") or 0.0),
        enabled=(row.get("enabled") or "yes").lower() not in ("no", "0", "false", "off"), name=row.get("name", ""),
        note=row.get("note", ""), fade_in=fade_in, fade_out=fade_out,
    )  # fmt: skip


def _fade(row: dict[str, str], side: str, rate: Fraction, *, drop: bool) -> Fade:
    law = row.get(f"fade_{side}_law") or "matched"
    if law not in ("gain", "power", "matched"):
        message = tr("{law} is no law of a fade; use gain, power or matched", law=law)
        raise ValueError(message)
    return Fade(seconds=_seconds(row.get(f"fade_{side}_s") or "0", rate, drop), law=law)  # type: ignore[arg-type]


def csv_text(found: EditList) -> str:
    """A list as a table in seconds, exact to the sample, with the programme's timecode beside."""
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    table.writerow([*COLUMNS, "timecode_in", "timecode_out"])
    table.writerow([f"#{picture_words(found.picture_rate, found.start)}"])

    def code(at: Fraction) -> str:
        return timecode(round((found.start + at) * found.picture_rate), found.picture_rate, drop=found.drop)

    for track in found.tracks:
        for event in track.events:
            source = event.source - (event.media.start or Fraction(0)) if event.by_timecode else event.source
            table.writerow([
                track.name, event.name, event.media.path or event.media.name, event.media.reel,
                "" if event.channel is None else event.channel + 1, _exact(event.record), _exact(event.stop), _exact(source),
                f"{event.gain_db:g}", _exact(event.fade_in.seconds), event.fade_in.law, _exact(event.fade_out.seconds),
                event.fade_out.law, "yes" if event.enabled else "no", event.note, code(event.record), code(event.stop),
            ])  # fmt: skip
    for marker in found.markers:
        table.writerow(
            [
                "#marker",
                marker.name,
                "",
                "",
                "",
                _exact(marker.at),
                _exact(marker.at + marker.seconds),
                "0",
                *[""] * 6,
                marker.note,
                code(marker.at),
                code(marker.at + marker.seconds) if marker.seconds else "",
            ]
        )
    return out.getvalue()


def _exact(seconds: Fraction) -> str:
    """Nine decimals: to a thousandth of a sample at 192 kHz."""
    return f"{float(seconds):.9f}"
