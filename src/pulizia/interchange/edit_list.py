# SPDX-License-Identifier: GPL-3.0-or-later
"""An edit list as a value, whatever kind of file it came from. Times are exact fractions of a second."""

from __future__ import annotations

import re
from dataclasses import dataclass, field, replace
from fractions import Fraction
from typing import Any

from pulizia.audio.fades import Law
from pulizia.audio.markers import NoteKind
from pulizia.errors import PuliziaError
from pulizia.words import tr

MOST_EVENTS, MOST_TRACKS = 100_000, 200
LARGEST_BYTES = 256 << 20
RATES: dict[str, Fraction] = {
    "23.976": Fraction(24000, 1001), "23.98": Fraction(24000, 1001), "24": Fraction(24), "25": Fraction(25),
    "29.97": Fraction(30000, 1001), "30": Fraction(30), "48": Fraction(48), "50": Fraction(50),
    "59.94": Fraction(60000, 1001), "60": Fraction(60),
}  # fmt: skip
"""Rates of the picture by their usual names."""


class EditListError(PuliziaError):
    """An edit list that cannot be read or written."""


@dataclass(frozen=True, slots=True, kw_only=True)
class MediaName:
    """What a list says of the file that an event plays.

    Attributes
    ----------
    name : file name or clip name
    path : path or address as the list has it; it may be of another machine
    start : its timecode at the first sample, in seconds since midnight; None when the list does not say
    seconds : its length; None when the list does not say
    """

    name: str = ""
    path: str = ""
    reel: str = ""
    scene: str = ""
    take: str = ""
    start: Fraction | None = None
    seconds: Fraction | None = None
    rate_hz: int = 0
    channels: int = 0


@dataclass(frozen=True, slots=True, kw_only=True)
class Fade:
    """A fade of some seconds; on the left side of an event that overlaps the one before, it is the cross-fade."""

    seconds: Fraction = Fraction(0)
    law: Law = "matched"


@dataclass(frozen=True, slots=True, kw_only=True)
class Event:
    """A stretch of media on a track.

    Attributes
    ----------
    record : where it begins, from the start of the list
    seconds : its length
    source : where it begins in the media: from the first sample, or as timecode since midnight
    by_timecode : whether ``source`` is timecode
    channel : the one channel that is heard, counted from 0; None is all
    gain_line : (seconds from the event's start, dB), straight in dB between them
    """

    record: Fraction
    seconds: Fraction
    source: Fraction
    by_timecode: bool = False
    media: MediaName = field(default_factory=MediaName)
    channel: int | None = None
    gain_db: float = 0.0
    gain_line: tuple[tuple[Fraction, float], ...] = ()
    fade_in: Fade = field(default_factory=Fade)
    fade_out: Fade = field(default_factory=Fade)
    enabled: bool = True
    name: str = ""
    note: str = ""
    own: Any = None  # a row that this program has written itself

    @property
    def stop(self) -> Fraction:
        """Where it ends."""
        return self.record + self.seconds


@dataclass(frozen=True, slots=True, kw_only=True)
class Track:
    """Events in a row."""

    name: str = ""
    events: tuple[Event, ...] = ()
    own: Any = None


@dataclass(frozen=True, slots=True, kw_only=True)
class ListMarker:
    """A marker of the list, from its start; a region has a length.

    Attributes
    ----------
    kind, scene, who : of a note, as in :class:`pulizia.audio.markers.Marker`; only our own lists say them
    """

    at: Fraction
    name: str = ""
    note: str = ""
    seconds: Fraction = Fraction(0)
    kind: NoteKind = ""
    scene: str = ""
    who: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class EditList:
    """A list as it was read.

    Attributes
    ----------
    kind : "otio", "aaf", "edl", "xml" or "csv"
    picture_rate : frames of the picture a second
    start : timecode of its start, in seconds of real time since midnight
    remarks : sentences on what the list could not say, or what of it was not taken
    own : what this program has written itself
    """

    kind: str
    name: str
    picture_rate: Fraction
    drop: bool = False
    start: Fraction = Fraction(0)
    sample_rate: int = 0
    tracks: tuple[Track, ...] = ()
    markers: tuple[ListMarker, ...] = ()
    remarks: tuple[str, ...] = ()
    own: Any = None

    @property
    def count(self) -> int:
        """Of events."""
        return sum(len(track.events) for track in self.tracks)

    @property
    def count_off(self) -> int:
        """Of events that are off."""
        return sum(not e.enabled for track in self.tracks for e in track.events)


def by_channel(track: Track) -> list[Track]:
    """Tracks of one channel each: an event that plays all channels of its file stands on as many, one below the other."""
    count = max((e.media.channels for e in track.events if e.channel is None), default=1)
    made = []
    for channel in range(max(1, count)):
        wide = {id(e) for e in track.events if e.channel is None and e.media.channels > max(1, channel)}
        events = tuple(
            replace(e, channel=channel) if id(e) in wide else e for e in track.events if id(e) in wide or not channel
        )
        name = track.name if not channel else f"{track.name} (channel {channel + 1})"
        made.append(replace(track, name=name, events=events))
    return made


OWN_MARK = "PULIZIA"
OWN_PICTURE = re.compile(rf"{OWN_MARK} picture=(\d{{1,6}})(?:/(\d{{1,6}}))?\b")
OWN_START = re.compile(rf"{OWN_MARK} picture=\S+ start=(\d{{1,9}})\b")


def picture_words(rate: Fraction, start: Fraction | None = None) -> str:
    """The picture rate, and the time in seconds of the first frame, for kinds of lists that cannot say it, as a comment."""
    return f"{OWN_MARK} picture={rate}" + ("" if start is None else f" start={round(start * rate)}")


def stated_start(text: str) -> Fraction | None:
    """The time in seconds of the programme's first frame that such a comment states; None where there is none."""
    found, rate = OWN_START.search(text), stated_rate(text)
    return None if found is None or rate is None else int(found[1]) / rate


def stated_rate(text: str) -> Fraction | None:
    """The picture rate that such a comment states; None where there is none, or no rate of a picture."""
    found = OWN_PICTURE.search(text)
    rate = Fraction(int(found[1]), max(1, int(found[2] or 1))) if found is not None else None
    return rate if rate in RATES.values() else None


def exact_words(event: Event, clock: int) -> str:
    """Where an event lies to the sample, its gain and fades, as a comment that other readers skip."""
    parts = [
        OWN_MARK, f"rate={clock}", f"record={round(event.record * clock)}", f"frames={round(event.seconds * clock)}",
        f"channel={'all' if event.channel is None else event.channel + 1}",
    ]  # fmt: skip
    if event.gain_db:
        parts.append(f"gain={event.gain_db:g}")
    for side, fade in (("in", event.fade_in), ("out", event.fade_out)):
        if fade.seconds:
            parts.append(f"{side}={round(fade.seconds * clock)}:{fade.law}")
    return " ".join(parts)


def exactly(event: Event, words: str, source: Fraction | None = None) -> Event:
    """An event as such a comment states it; a damaged comment changes nothing. ``source`` is its exact place in the media."""
    own = dict(part.split("=", 1) for part in words.split() if "=" in part)
    try:
        clock = int(own["rate"])
        fade_in, fade_out = (_own_fade(own.get(side, "0:matched"), clock) for side in ("in", "out"))
        channel, gain = own.get("channel", "all"), float(own.get("gain", "0"))
        line = tuple((at, db - gain) for at, db in event.gain_line)
        return replace(
            event, record=Fraction(int(own["record"]), clock), seconds=Fraction(int(own["frames"]), clock),
            source=event.source if source is None else source, channel=None if channel == "all" else int(channel) - 1,
            gain_db=gain, gain_line=line, fade_in=fade_in, fade_out=fade_out,
        )  # fmt: skip
    except (KeyError, ValueError, ZeroDivisionError):
        return event


def _own_fade(text: str, clock: int) -> Fade:
    frames, law = text.split(":")
    if law not in ("gain", "power", "matched"):
        raise ValueError(law)
    return Fade(seconds=Fraction(int(frames), clock), law=law)  # type: ignore[arg-type]


def rate_named(text: str) -> tuple[Fraction, bool]:
    """A picture rate by its usual name, and whether it is drop-frame: 25, 29.97, 29.97df, 30000/1001.

    EditListError for anything else.
    """
    words = text.strip().lower().removesuffix("fps").strip()
    drop = words.endswith(("df", "drop")) and not words.endswith("ndf")
    plain = words.removesuffix("ndf").removesuffix("df").removesuffix("drop").strip()
    if plain in RATES:
        return RATES[plain], drop
    try:
        found = Fraction(plain)
    except (ValueError, ZeroDivisionError):
        found = Fraction(0)
    if found in RATES.values():
        return found, drop
    message = tr("{text} is no picture rate. Use one of {known}.", text=text, known=", ".join(RATES))
    raise EditListError(message)


def checked(found: EditList) -> EditList:
    """The same list; EditListError when it is larger than any real one or holds nothing."""
    if found.count > MOST_EVENTS or len(found.tracks) > MOST_TRACKS:
        message = tr(
            "{name} holds {count} events on {tracks} tracks; at most {most} on {most_tracks} are read.",
            name=found.name, count=found.count, tracks=len(found.tracks), most=MOST_EVENTS, most_tracks=MOST_TRACKS,
        )  # fmt: skip
        raise EditListError(message)
    if not found.count:
        message = tr("{name} holds no sound events. Export the list with its sound tracks.", name=found.name)
        raise EditListError(message)
    return found
