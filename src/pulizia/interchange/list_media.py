# SPDX-License-Identifier: GPL-3.0-or-later
"""The media that a list names: found or not, what of them differs from what the list says, and where their time begins."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path

from pulizia.audio.layouts import are_microphones
from pulizia.errors import MediaError
from pulizia.interchange.edit_list import EditList, Event, MediaName
from pulizia.interchange.find_media import Found
from pulizia.media.open import open_media
from pulizia.project.model import Recording
from pulizia.units import format_number
from pulizia.words import tr


@dataclass(slots=True)
class Medium:
    """A medium of the list with what plays it and what was found."""

    media: MediaName
    events: list[Event] = field(default_factory=list)
    found: Found | None = None
    recording: Recording | None = None
    remarks: list[str] = field(default_factory=list)
    base: Fraction = Fraction(0)

    @property
    def has_microphones(self) -> bool:
        """Whether the file calls its channels something else than loudspeakers."""
        return self.found is not None and are_microphones(self.found.facts.channel_names)


def key_of(media: MediaName) -> tuple[str, ...]:
    """What tells one medium of a list from another."""
    return (media.path or media.name, media.reel, media.scene, media.take)


def media_of(found: EditList) -> dict[tuple[str, ...], Medium]:
    """All media of a list with the events that play them."""
    media: dict[tuple[str, ...], Medium] = {}
    for track in found.tracks:
        for event in track.events:
            media.setdefault(key_of(event.media), Medium(event.media)).events.append(event)
    return media


def open_found(medium: Medium, known: tuple[Recording, ...]) -> None:
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


def settle(medium: Medium, clock: int, known: tuple[Recording, ...], starts: Mapping[str, Fraction]) -> None:
    """Where the medium's timecode begins, and what of it differs from what the list says; a stand-in for a missing one."""
    last = max((e.source + e.seconds for e in medium.events), default=Fraction(1))
    first = min((e.source for e in medium.events), default=Fraction(0))
    coded = any(e.by_timecode for e in medium.events)
    told = medium.media.start
    if medium.recording is None:
        file_name = Path(medium.media.path or medium.media.name or medium.media.reel).name
        same = [r for r in known if file_name in (r.path.name, r.name)]
        if len(same) == 1 and not same[0].path.exists():
            medium.recording = same[0]
            medium.base = starts.get(same[0].id, told if told is not None else Fraction(0))
            return
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
    begins = [s for s in (facts.start if facts is not None else None, told, Fraction(0)) if s is not None]
    if coded:
        fits = [s for s in begins if s <= first + Fraction(1, 25) and last <= s + length + Fraction(1, 25)]
        medium.base = fits[0] if fits else begins[0]
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


def _differences(medium: Medium, length: Fraction) -> None:
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
