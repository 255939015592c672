# SPDX-License-Identifier: GPL-3.0-or-later
"""OpenTimelineIO files through the library of that name. What this program adds lies under the metadata key "pulizia"."""

from __future__ import annotations

import json
from collections.abc import Iterator
from fractions import Fraction
from pathlib import PurePosixPath
from typing import Any, get_args

from pulizia.audio.markers import NoteKind
from pulizia.interchange.edit_list import (
    RATES,
    EditList,
    EditListError,
    Event,
    Fade,
    ListMarker,
    MediaName,
    Track,
)
from pulizia.interchange.xml import path_of
from pulizia.words import tr

OWN = "pulizia"


def _library() -> Any:
    try:
        import opentimelineio
    except ImportError as error:
        message = tr("OpenTimelineIO lists need the package opentimelineio. Install pulizia with its group editlists.")
        raise EditListError(message) from error
    return opentimelineio


def exact_rate(rate: float) -> Fraction:
    """The exact rate that a floating one stands for: 29.97002997 is 30000/1001."""
    near = [f for f in RATES.values() if abs(float(f) - rate) < 0.002]
    return min(near, key=lambda f: abs(float(f) - rate)) if near else Fraction(rate).limit_denominator(1001)


def _seconds(time: Any) -> Fraction:
    return Fraction(time.value).limit_denominator(1_000_000) / exact_rate(time.rate)


def read_otio(text: str, name: str) -> EditList:
    """Read a timeline.

    Raises
    ------
    EditListError
        When the library is not there, or the text is no timeline.
    """
    otio = _library()
    try:
        timeline = otio.adapters.read_from_string(text, "otio_json")
    except Exception as error:
        message = tr("{name} is damaged or of another kind: it is no OpenTimelineIO file.", name=name)
        raise EditListError(message) from error
    if isinstance(timeline, otio.schema.SerializableCollection):
        timeline = next((c for c in timeline if isinstance(c, otio.schema.Timeline)), timeline)
    if not isinstance(timeline, otio.schema.Timeline):
        message = tr("{name} holds no timeline. Export the whole sequence.", name=name)
        raise EditListError(message)
    own = _own(timeline)
    remarks: list[str] = []
    rate = Fraction(str(own["picture_rate"])) if own and "picture_rate" in own else _picture_rate(timeline)
    start = _seconds(timeline.global_start_time) if timeline.global_start_time is not None else Fraction(0)
    tracks = []
    for number, track in enumerate(timeline.tracks, 1):
        if track.kind == otio.schema.TrackKind.Video:
            continue
        if not isinstance(track, otio.schema.Track):
            remarks.append(tr("A nested track was left out."))
            continue
        events = tuple(_events(otio, track, remarks))
        if events or _own(track):
            tracks.append(Track(name=track.name or f"A{number}", events=events, own=_own(track)))
    markers = [_marker(m) for m in timeline.tracks.markers]
    return EditList(
        kind="otio", name=timeline.name or name, picture_rate=rate, drop=bool(own.get("drop")) if own else False, start=start,
        tracks=tuple(tracks), markers=tuple(markers), remarks=tuple(dict.fromkeys(remarks)), own=own,
    )  # fmt: skip


def _marker(found: Any) -> ListMarker:
    own = _own(found)
    said = {key: str(own[key]) for key in ("kind", "scene", "who") if key in own} if isinstance(own, dict) else {}
    if said.get("kind") not in get_args(NoteKind):
        said.pop("kind", None)
    return ListMarker(
        at=_seconds(found.marked_range.start_time), seconds=_seconds(found.marked_range.duration), name=found.name,
        note=str(found.metadata.get("note", "")), **said,  # type: ignore[arg-type]
    )  # fmt: skip


def _own(thing: Any) -> Any:
    found = thing.metadata.get(OWN)
    try:
        return json.loads(found) if isinstance(found, str) else None
    except ValueError:
        return None


def _picture_rate(timeline: Any) -> Fraction:
    if timeline.global_start_time is not None and timeline.global_start_time.rate < 1000:
        return exact_rate(timeline.global_start_time.rate)
    for clip in timeline.find_clips():
        if clip.source_range is not None and clip.source_range.start_time.rate < 1000:
            return exact_rate(clip.source_range.start_time.rate)
    return Fraction(25)


def _events(otio: Any, track: Any, remarks: list[str]) -> Iterator[Event]:
    at = Fraction(0)
    pending = Fade()
    head = Fraction(0)
    items = list(track)
    for n, item in enumerate(items):
        if isinstance(item, otio.schema.Transition):
            head, total = _seconds(item.in_offset), _seconds(item.in_offset) + _seconds(item.out_offset)
            law = _law(item)
            pending = Fade(seconds=total, law=law)
            continue
        seconds = (
            _seconds(item.trimmed_range().duration)
            if not isinstance(item, otio.schema.Stack)
            else _seconds(item.duration())
        )
        if isinstance(item, otio.schema.Clip):
            behind = items[n + 1] if n + 1 < len(items) else None
            tail = _seconds(behind.out_offset) if isinstance(behind, otio.schema.Transition) else Fraction(0)
            lone = isinstance(behind, otio.schema.Transition) and not any(
                isinstance(i, otio.schema.Clip) for i in items[n + 2 : n + 3]
            )
            fade_out = (
                Fade(seconds=tail + _seconds(behind.in_offset), law=_law(behind))
                if lone and behind is not None
                else Fade()
            )
            yield _event(item, at, seconds, head, tail, pending, fade_out)
        elif not isinstance(item, otio.schema.Gap):
            remarks.append(tr("{name} is nested and was left out.", name=item.name or tr("A part")))
        at += seconds
        pending, head = Fade(), Fraction(0)


def _law(transition: Any) -> Any:
    law = transition.metadata.get("law", "matched")
    return law if law in ("gain", "power", "matched") else "matched"


def _event(
    clip: Any, at: Fraction, seconds: Fraction, head: Fraction, tail: Fraction, fade_in: Fade, fade_out: Fade
) -> Event:
    reference = clip.media_reference
    available = getattr(reference, "available_range", None)
    first = _seconds(available.start_time) if available is not None else None
    source = _seconds(clip.trimmed_range().start_time)
    url = getattr(reference, "target_url", "") or ""
    about = {str(k).lower(): v for k, v in dict(clip.metadata).items()}
    media = MediaName(
        name=(path_of(url).rsplit("/", 1)[-1] if url else reference.name if reference is not None and reference.name else clip.name),
        path=path_of(url), reel=str(about.get("reel", "")), scene=str(about.get("scene", "")), take=str(about.get("take", "")),
        start=first, seconds=_seconds(available.duration) if available is not None else None,
    )  # fmt: skip
    own = _own(clip)
    return Event(
        record=max(Fraction(0), at - head), seconds=seconds + head + tail, source=source - head, by_timecode=first is not None, media=media,
        fade_in=fade_in, fade_out=fade_out, enabled=bool(getattr(clip, "enabled", True)), name=clip.name, own=own,
    )  # fmt: skip


# -- writing


def otio_text(found: EditList, clock: int) -> str:
    """A timeline whose times are samples of the programme's clock; overlaps are transitions.

    Raises
    ------
    EditListError
        When the library is not there.
    """
    otio = _library()
    time, span = otio.opentime.RationalTime, otio.opentime.TimeRange

    def samples(seconds: Fraction) -> Any:
        return time(float(round(seconds * clock)), float(clock))

    timeline = otio.schema.Timeline(name=found.name)
    timeline.global_start_time = time(float(round(found.start * found.picture_rate)), float(found.picture_rate))
    timeline.metadata[OWN] = json.dumps(found.own)
    for track in found.tracks:
        made = otio.schema.Track(name=track.name, kind=otio.schema.TrackKind.Audio)
        made.metadata[OWN] = json.dumps(track.own)
        at = Fraction(0)
        events = track.events
        for n, event in enumerate(events):
            over = events[n - 1].stop - event.record if n and events[n - 1].stop > event.record else Fraction(0)
            behind = events[n + 1] if n + 1 < len(events) else None
            tail = event.stop - behind.record if behind is not None and behind.record < event.stop else Fraction(0)
            begin = event.record + over  # the cut of a cross-fade lies at its end
            if begin > at:
                made.append(otio.schema.Gap(source_range=span(time(0.0, float(clock)), samples(begin - at))))
            if over:
                made.append(_transition(otio, over, Fraction(0), event.fade_in.law, samples))
            elif event.fade_in.seconds:
                made.append(_transition(otio, Fraction(0), event.fade_in.seconds, event.fade_in.law, samples))
            length = event.seconds - over
            clip = otio.schema.Clip(
                name=event.name,
                media_reference=_reference(otio, event.media, samples, span),
                source_range=span(samples(event.source + over), samples(length)),
            )
            clip.enabled = event.enabled
            clip.metadata[OWN] = json.dumps(event.own)
            if event.media.reel:
                clip.metadata["reel"] = event.media.reel
            made.append(clip)
            at = event.stop
            if event.fade_out.seconds and not tail:
                made.append(_transition(otio, event.fade_out.seconds, Fraction(0), event.fade_out.law, samples))
        timeline.tracks.append(made)
    for marker in found.markers:
        timeline.tracks.markers.append(
            otio.schema.Marker(
                name=marker.name,
                marked_range=span(samples(marker.at), samples(marker.seconds)),
                metadata={
                    "note": marker.note,
                    OWN: json.dumps({"kind": marker.kind, "scene": marker.scene, "who": marker.who}),
                },
            )
        )
    text: str = otio.adapters.write_to_string(timeline, "otio_json")
    return text


def _transition(otio: Any, before: Fraction, behind: Fraction, law: str, samples: Any) -> Any:
    return otio.schema.Transition(
        transition_type=otio.schema.TransitionTypes.SMPTE_Dissolve, in_offset=samples(before), out_offset=samples(behind),
        metadata={"law": law},
    )  # fmt: skip


def _reference(otio: Any, media: MediaName, samples: Any, span: Any) -> Any:
    if not media.path:
        return otio.schema.MissingReference(name=media.name)
    url = PurePosixPath(media.path).as_uri() if media.path.startswith("/") else media.path
    available = None
    if media.seconds is not None:
        available = span(samples(media.start or Fraction(0)), samples(media.seconds))
    return otio.schema.ExternalReference(target_url=url, available_range=available)
