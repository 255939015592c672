# SPDX-License-Identifier: GPL-3.0-or-later
"""Writes an edit list as FCP-style XML; see :mod:`pulizia.interchange.xml`."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterator
from fractions import Fraction
from pathlib import PurePosixPath
from xml.etree.ElementTree import Element, SubElement, indent, tostring

from pulizia.audio.fades import Law
from pulizia.interchange.edit_list import (
    EditList,
    Event,
    MediaName,
    by_channel,
    exact_words,
)
from pulizia.interchange.xml import LAW_IDS


def xml_text(found: EditList) -> bytes:
    """A sequence of a list; every event is a clip item, an overlap of two a transition."""
    rate = found.picture_rate
    root = Element("xmeml", version="4")
    sequence = SubElement(root, "sequence", id="sequence-1")
    _put(sequence, "name", found.name)
    last = max((e.stop for t in found.tracks for e in t.events), default=Fraction(0))
    _put(sequence, "duration", round(last * rate))
    _put_rate(sequence, rate)
    code = SubElement(sequence, "timecode")
    _put_rate(code, rate)
    _put(code, "frame", round(found.start * rate))
    _put(code, "displayformat", "DF" if found.drop else "NDF")
    audio = SubElement(SubElement(sequence, "media"), "audio")
    files: dict[str, str] = {}
    numbers = itertools.count(1)
    for track in (one for whole in found.tracks for one in by_channel(whole)):
        node = SubElement(audio, "track")
        _put(node, "name", track.name)
        for n, event in enumerate(track.events):
            before = track.events[n - 1] if n else None
            behind = track.events[n + 1] if n + 1 < len(track.events) else None
            if before is not None and before.stop > event.record:
                _put_transition(node, event.record, before.stop, event.fade_in.law, rate, "center")
            elif event.fade_in.seconds:
                _put_transition(
                    node, event.record, event.record + event.fade_in.seconds, event.fade_in.law, rate, "start-black"
                )
            _put_item(node, event, rate, found.sample_rate, files, numbers, over_start=before is not None and before.stop > event.record,
                      over_end=behind is not None and behind.record < event.stop)  # fmt: skip
            if event.fade_out.seconds and not (behind is not None and behind.record < event.stop):
                _put_transition(
                    node, event.stop - event.fade_out.seconds, event.stop, event.fade_out.law, rate, "end-black"
                )
    for marker in found.markers:
        node = SubElement(sequence, "marker")
        _put(node, "name", marker.name)
        _put(node, "comment", marker.note)
        _put(node, "in", round(marker.at * rate))
        _put(node, "out", round(marker.at * rate) + round(marker.seconds * rate) if marker.seconds else -1)
    indent(root, " ")
    head = b'<?xml version="1.0" encoding="UTF-8"?>\n<!DOCTYPE xmeml>\n'
    body: bytes = tostring(root, encoding="utf-8")
    return head + body + b"\n"


def _put(parent: Element, tag: str, value: object) -> None:
    SubElement(parent, tag).text = str(value)


def _put_rate(parent: Element, rate: Fraction) -> None:
    node = SubElement(parent, "rate")
    _put(node, "timebase", round(rate))
    _put(node, "ntsc", "TRUE" if rate.denominator != 1 else "FALSE")


def _put_transition(parent: Element, start: Fraction, end: Fraction, law: Law, rate: Fraction, alignment: str) -> None:
    node = SubElement(parent, "transitionitem")
    _put_rate(node, rate)
    _put(node, "start", round(start * rate))
    _put(node, "end", max(round(end * rate), round(start * rate) + 1))
    _put(node, "alignment", alignment)
    effect = SubElement(node, "effect")
    _put(effect, "name", "Cross Fade")
    _put(effect, "effectid", LAW_IDS[law])
    _put(effect, "effecttype", "transition")
    _put(effect, "mediatype", "audio")


def _put_item(
    parent: Element, event: Event, rate: Fraction, clock: int, files: dict[str, str], numbers: Iterator[int], *,
    over_start: bool, over_end: bool,
) -> None:  # fmt: skip
    item = SubElement(parent, "clipitem", id=f"clipitem-{next(numbers)}")
    _put(item, "name", event.name)
    _put(item, "enabled", "TRUE" if event.enabled else "FALSE")
    start, end = round(event.record * rate), round(event.stop * rate)
    source = event.source - (event.media.start or Fraction(0)) if event.by_timecode else event.source
    first = math.floor(source * rate)
    _put_rate(item, rate)
    _put(item, "start", -1 if over_start else start)
    _put(item, "end", -1 if over_end else end)
    _put(item, "in", first)
    _put(item, "out", first + max(1, end - start))
    beyond = round((source * rate - first) * 100)
    if beyond:
        _put(item, "subframeoffset", beyond)
    key = event.media.path or event.media.name
    known = key in files
    file = SubElement(item, "file", id=files.setdefault(key, f"file-{len(files) + 1}"))
    if not known:
        _put_file(file, event.media, rate)
    track = SubElement(item, "sourcetrack")
    _put(track, "mediatype", "audio")
    _put(track, "trackindex", (event.channel or 0) + 1)
    if event.gain_db or event.gain_line:
        _put_levels(item, event, rate, first)
    comments = SubElement(item, "comments")
    if event.note:
        _put(comments, "mastercomment1", event.note)
    if clock:
        _put(comments, "clipcommenta", f"{exact_words(event, clock)} source={round(source * clock)}")


def _put_file(file: Element, media: MediaName, rate: Fraction) -> None:
    _put(file, "name", media.name)
    if media.path:
        _put(file, "pathurl", PurePosixPath(media.path).as_uri() if media.path.startswith("/") else media.path)
    _put_rate(file, rate)
    if media.seconds is not None:
        _put(file, "duration", math.ceil(media.seconds * rate))
    code = SubElement(file, "timecode")
    _put_rate(code, rate)
    _put(code, "frame", round((media.start or Fraction(0)) * rate))
    _put(code, "displayformat", "NDF")
    if media.reel:
        _put(SubElement(code, "reel"), "name", media.reel)
    audio = SubElement(SubElement(file, "media"), "audio")
    _put(audio, "channelcount", media.channels or 1)
    if media.rate_hz:
        _put(SubElement(audio, "samplecharacteristics"), "samplerate", media.rate_hz)


def _put_levels(item: Element, event: Event, rate: Fraction, first: int) -> None:
    effect = SubElement(SubElement(item, "filter"), "effect")
    _put(effect, "name", "Audio Levels")
    _put(effect, "effectid", "audiolevels")
    parameter = SubElement(effect, "parameter")
    _put(parameter, "parameterid", "level")
    _put(parameter, "value", f"{10 ** (event.gain_db / 20):.9f}")
    for at, db in event.gain_line:
        frame = SubElement(parameter, "keyframe")
        _put(frame, "when", first + round(at * rate))
        _put(frame, "value", f"{10 ** ((db + event.gain_db) / 20):.9f}")
