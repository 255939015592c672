# SPDX-License-Identifier: GPL-3.0-or-later
"""Picture editors' sequences as XML (the ``xmeml`` form, versions 4 and 5): tracks of clip items and transitions.

Read with defusedxml: entities and bombs are refused. Times are frames of the sequence; ``-1`` at an end is the place
where a transition decides.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterator
from dataclasses import dataclass, replace
from fractions import Fraction
from urllib.parse import unquote, urlparse
from xml.etree.ElementTree import Element

from defusedxml import DefusedXmlException
from defusedxml.ElementTree import ParseError, fromstring

from pulizia.audio.fades import Law
from pulizia.audio.timecode import TimecodeError, frame_of
from pulizia.interchange.edit_list import (
    OWN_MARK,
    EditList,
    EditListError,
    Event,
    Fade,
    ListMarker,
    MediaName,
    Track,
    exactly,
)
from pulizia.words import tr

LAWS: dict[str, Law] = {"kgaudiotranscrossfade0db": "gain", "kgaudiotranscrossfade3db": "power"}
LAW_IDS: dict[str, str] = {
    "gain": "KGAudioTransCrossFade0dB",
    "power": "KGAudioTransCrossFade3dB",
    "matched": "KGAudioTransCrossFade3dB",
}
LOWEST_GAIN = 1e-6


@dataclass(frozen=True, slots=True)
class _Transition:
    start: int
    end: int
    law: Law


def read_xml(data: bytes, name: str) -> EditList:
    """The first sequence of a file.

    Raises
    ------
    EditListError
        For XML that is broken, of another kind, or meant to do harm.
    """
    try:
        root = fromstring(data, forbid_dtd=False)
    except DefusedXmlException as error:
        message = tr("{name} holds XML entities, which are not read. Export the list without them.", name=name)
        raise EditListError(message) from error
    except (ParseError, ValueError, LookupError) as error:
        message = tr("{name} is damaged: it is no whole XML file. Export the list again.", name=name)
        raise EditListError(message) from error
    sequence = root if root.tag == "sequence" else root.find(".//sequence")
    if root.tag not in ("xmeml", "sequence", "project") or sequence is None:
        message = tr("{name} is XML of another kind. Export the sequence as XML of the xmeml form.", name=name)
        raise EditListError(message)
    files = {f.get("id", ""): f for f in root.iter("file") if len(f)}
    remarks: list[str] = []
    rate = _rate(sequence, Fraction(25))
    tracks = []
    for number, track in enumerate(sequence.findall("./media/audio/track"), 1):
        events = tuple(_events(track, rate, files, remarks))
        if events:
            tracks.append(Track(name=_text(track, "name") or f"A{number}", events=events))
    start, drop = _start(sequence, rate)
    markers = [
        ListMarker(
            at=Fraction(_int(m, "in")) / rate,
            name=_text(m, "name"),
            note=_text(m, "comment"),
            seconds=Fraction(max(0, _int(m, "out") - _int(m, "in"))) / rate,
        )
        for m in sequence.findall("marker")
        if _int(m, "in") >= 0
    ]
    return EditList(
        kind="xml", name=_text(sequence, "name") or name, picture_rate=rate, drop=drop, start=start, tracks=tuple(tracks),
        markers=tuple(markers), remarks=tuple(dict.fromkeys(remarks)),
    )  # fmt: skip


def _text(node: Element | None, path: str) -> str:
    found = node.findtext(path) if node is not None else None
    return (found or "").strip()


def _int(node: Element | None, path: str, usual: int = 0) -> int:
    try:
        return round(float(_text(node, path) or usual))
    except (ValueError, OverflowError):
        return usual


def _rate(node: Element | None, usual: Fraction) -> Fraction:
    """The rate of an element: its time base, a thousandth slower where it says NTSC."""
    rate = node.find("rate") if node is not None else None
    base = _int(rate, "timebase")
    if rate is None or not 0 < base <= 1000:
        return usual
    ntsc = _text(rate, "ntsc").upper() == "TRUE"
    return Fraction(base * 1000, 1001) if ntsc else Fraction(base)


def _start(sequence: Element, rate: Fraction) -> tuple[Fraction, bool]:
    code = sequence.find("timecode")
    if code is None:
        return Fraction(0), False
    own = _rate(code, rate)
    drop = _text(code, "displayformat").upper() == "DF"
    if _text(code, "frame"):
        return Fraction(_int(code, "frame")) / own, drop
    try:
        return Fraction(frame_of(_text(code, "string"), own, drop=drop)) / own, drop
    except TimecodeError:
        return Fraction(0), drop


def _events(track: Element, rate: Fraction, files: dict[str, Element], remarks: list[str]) -> Iterator[Event]:
    off = _text(track, "enabled").upper() == "FALSE"
    children = [c for c in track if c.tag in ("clipitem", "transitionitem")]
    for n, item in enumerate(children):
        if item.tag != "clipitem":
            continue
        before = _transition(children[n - 1]) if n and children[n - 1].tag == "transitionitem" else None
        behind = children[n + 1] if n + 1 < len(children) else None
        after = _transition(behind) if behind is not None and behind.tag == "transitionitem" else None
        event = _event(item, rate, files, before, after, remarks)
        if event is not None:
            last = n + 2 >= len(children) or children[n + 2].tag != "clipitem"
            length_in = Fraction(before.end - before.start) / rate if before is not None else Fraction(0)
            length_out = Fraction(after.end - after.start) / rate if after is not None else Fraction(0)
            event = replace(
                event,
                fade_in=Fade(seconds=length_in, law=before.law if before is not None else "matched"),
                fade_out=Fade(
                    seconds=length_out if last else Fraction(0), law=after.law if after is not None else "matched"
                ),
                enabled=event.enabled and not off,
            )
            yield _as_written(event, item)


def _transition(item: Element) -> _Transition:
    effect = item.find("effect")
    words = (_text(effect, "effectid") or _text(effect, "name")).lower().replace(" ", "")
    return _Transition(_int(item, "start"), _int(item, "end"), LAWS.get(words, "matched"))


def _event(
    item: Element, rate: Fraction, files: dict[str, Element], before: _Transition | None, after: _Transition | None,
    remarks: list[str],
) -> Event | None:  # fmt: skip
    name = _text(item, "name")
    start, end, first, last = (_int(item, part, -1) for part in ("start", "end", "in", "out"))
    own = _rate(item, rate)
    if start < 0 and before is not None:
        start = before.start
    if end < 0 and after is not None:
        end = after.end
    length = Fraction(last - first) / own if last > first >= 0 else Fraction(0)
    if start < 0 and end >= 0 and length:
        start = end - round(length * rate)
    if start < 0 or (end <= start and not length):
        remarks.append(tr("{name} has no place in the sequence and was left out.", name=name or item.get("id", "")))
        return None
    seconds = Fraction(end - start) / rate if end > start else length
    if length and abs(length - seconds) > Fraction(3, 2) / rate:
        remarks.append(tr("{name} plays at another speed; it is taken at its usual speed.", name=name))
    offset = Fraction(_int(item, "subframeoffset"), 1) if _text(item, "subframeoffset") else Fraction(0)
    source = Fraction(max(first, 0)) / own + _sub_frames(item, own, offset)
    file = item.find("file")
    file = files.get(file.get("id", ""), file) if file is not None else None
    level, line = _levels(item, own, Fraction(max(first, 0)) / own)
    track = _int(item.find("sourcetrack"), "trackindex")
    return Event(
        record=Fraction(start) / rate, seconds=seconds, source=source, media=_media(file, name, own, item),
        channel=track - 1 if track > 0 else None, gain_db=level, gain_line=line,
        enabled=_text(item, "enabled").upper() != "FALSE", name=name, note=" ".join(words for words in _notes(item) if not words.startswith(OWN_MARK)),
    )  # fmt: skip


def _notes(item: Element) -> list[str]:
    fields = ("mastercomment1", "mastercomment2", "clipcommenta", "clipcommentb")
    return [words for field in fields if (words := _text(item, f"comments/{field}"))]


def _as_written(event: Event, item: Element) -> Event:
    """As this program's own comment states it to the sample."""
    own = next((words for words in _notes(item) if words.startswith(OWN_MARK)), "")
    found = re.search(r"\brate=(\d{1,9})\b.*\bsource=(-?\d{1,15})\b", own)
    return exactly(event, own, Fraction(int(found[2]), max(1, int(found[1])))) if found is not None else event


def _sub_frames(item: Element, rate: Fraction, offset: Fraction) -> Fraction:
    """An offset of less than a frame: in hundredths of a frame, or in samples where the item states its sample rate."""
    if not offset:
        return Fraction(0)
    samples = _int(item, "file/media/audio/samplecharacteristics/samplerate")
    if samples and abs(offset) >= 100:
        return offset / samples
    return offset / 100 / rate


def _media(file: Element | None, name: str, rate: Fraction, item: Element) -> MediaName:
    code = file.find("timecode") if file is not None else None
    start = None
    if code is not None:
        own = _rate(code, rate)
        if _text(code, "frame"):
            start = Fraction(_int(code, "frame")) / own
        else:
            try:
                drop = _text(code, "displayformat").upper() == "DF"
                start = Fraction(frame_of(_text(code, "string"), own, drop=drop)) / own
            except TimecodeError:
                start = None
    length = _int(file, "duration")
    return MediaName(
        name=_text(file, "name") or name, path=path_of(_text(file, "pathurl")), reel=_text(code, "reel/name"),
        scene=_text(item, "logginginfo/scene"), take=_text(item, "logginginfo/shottake"), start=start,
        seconds=Fraction(length) / _rate(file, rate) if length > 0 else None,
        rate_hz=_int(file, "media/audio/samplecharacteristics/samplerate"), channels=_int(file, "media/audio/channelcount"),
    )  # fmt: skip


def path_of(url: str) -> str:
    """The path in an address such as file://localhost/media/take%201.wav; a plain path stays."""
    parts = urlparse(url)
    return unquote(parts.path) if parts.scheme == "file" else unquote(url)


def _levels(item: Element, rate: Fraction, first: Fraction) -> tuple[float, tuple[tuple[Fraction, float], ...]]:
    """Gain in dB and gain line of the item's level effect; linear figures in the file."""
    for effect in item.iter("effect"):
        if _text(effect, "effectid").lower() not in ("audiolevels", "audio levels"):
            continue
        for parameter in effect.findall("parameter"):
            if _text(parameter, "parameterid").lower() != "level":
                continue
            frames = [(_int(k, "when"), _gain(_text(k, "value"))) for k in parameter.findall("keyframe")]
            if len(frames) > 1:
                return 0.0, tuple((Fraction(at) / rate - first, db) for at, db in sorted(frames))
            return (frames[0][1] if frames else _gain(_text(parameter, "value"))), ()
    return 0.0, ()


def _gain(text: str) -> float:
    try:
        value = float(text)
    except ValueError:
        return 0.0
    if not math.isfinite(value):
        return 0.0
    return max(-120.0, min(40.0, 20.0 * math.log10(max(value, LOWEST_GAIN))))


# -- writing
