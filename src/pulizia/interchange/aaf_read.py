# SPDX-License-Identifier: GPL-3.0-or-later
"""Advanced Authoring Format files, read with pyaaf2 itself: fades, dissolves, gains, embedded sound, tape time.

After the AAF Object Specification 1.1 and the edit protocol of AMWA; identifications of operations from its dictionary.
"""

from __future__ import annotations

import contextlib
import io
import math
import wave
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path
from typing import Any

from pulizia.interchange.aaf_library import aaf_library
from pulizia.interchange.edit_list import (
    EditList,
    EditListError,
    Event,
    Fade,
    ListMarker,
    MediaName,
    Track,
)
from pulizia.interchange.otio import exact_rate
from pulizia.interchange.xml import path_of
from pulizia.media.names import safe_name
from pulizia.media.write import write_bytes
from pulizia.words import tr

DEEPEST = 12
LARGEST_ESSENCE = 4 << 30


def read_aaf(path: Path, extract_to: Callable[[str], Path] | None = None) -> EditList:
    """The top composition of a file.

    Parameters
    ----------
    extract_to
        Gives the path for embedded sound by name; None leaves it in the file.

    Raises
    ------
    EditListError
        When the library is not there, or the file is damaged or holds no composition.
    """
    aaf2 = aaf_library()
    try:
        with aaf2.open(str(path)) as file:
            return _Reader(aaf2, file, path, extract_to).read()
    except EditListError:
        raise
    except RecursionError as error:
        _close(error)
        message = tr("{name} is damaged: its parts refer to each other in a circle.", name=path.name)
        raise EditListError(message) from error
    except Exception as error:
        _close(error)
        message = tr("{name} is damaged or no AAF file. Export the list again.", name=path.name)
        raise EditListError(message) from error


def _close(error: BaseException) -> None:
    """Close the file that the library leaves open when it fails while opening it."""
    trace = error.__traceback__
    while trace is not None:
        file = getattr(trace.tb_frame.f_locals.get("self"), "f", None)
        if isinstance(file, io.IOBase):
            file.close()
        trace = trace.tb_next


_NO_LINE: tuple[tuple[Fraction, float], ...] = ()


@dataclass(slots=True)
class _Trail:
    """What is learned on the way from a clip through its master and its file to its tape."""

    position: Fraction
    on_tape: Fraction = Fraction(0)
    name: str = ""
    url: str = ""
    reel: str = ""
    start: Fraction | None = None
    seconds: Fraction | None = None
    rate_hz: int = 0
    channels: int = 0
    channel: int | None = None
    embedded: Any = None


def _inside(part: Any) -> Any:
    """What a wrapping part holds; the part itself when it wraps nothing."""
    kind = type(part).__name__
    if kind == "OperationGroup":
        return next(iter(part.segments), None)
    if kind == "Selector":
        return part.getvalue("Selected")
    if kind == "EssenceGroup":
        return next(iter(part["Choices"].value), None)
    if kind == "Sequence":
        return next((c for c in part.components if type(c).__name__ != "Filler"), None)
    return part


@dataclass(slots=True)
class _Reader:
    aaf2: Any
    file: Any
    path: Path
    extract_to: Callable[[str], Path] | None

    def read(self) -> EditList:
        """The first composition that has sound."""
        remarks: list[str] = []
        for mob in self.file.content.toplevel():
            made = self._composition(mob, remarks)
            if made.tracks:
                return made
        message = tr(
            "{name} holds no composition with sound. Export the sequence with its sound tracks.", name=self.path.name
        )
        raise EditListError(message)

    def _composition(self, mob: Any, remarks: list[str]) -> EditList:
        rate, start, drop = Fraction(25), Fraction(0), False
        tracks: list[Track] = []
        markers: list[ListMarker] = []
        for slot in mob.slots:
            segment = slot.segment
            code = self._timecode(slot)
            if code is not None:
                rate, first, drop = code
                start = Fraction(first) / rate
                continue
            if type(slot).__name__ == "EventMobSlot":
                markers += self._markers(slot)
                continue
            if slot.media_kind not in ("Sound", "LegacySound") or segment is None:
                continue
            own = _rate(slot.edit_rate)
            events = tuple(self._events(segment, own, remarks))
            name = slot.name or f"A{len(tracks) + 1}"
            if events:
                tracks.append(Track(name=name, events=events))
        return EditList(
            kind="aaf", name=mob.name or self.path.stem, picture_rate=rate, drop=drop, start=start, tracks=tuple(tracks),
            markers=tuple(sorted(markers, key=lambda m: m.at)), remarks=tuple(dict.fromkeys(remarks)),
        )  # fmt: skip

    def _timecode(self, slot: Any) -> tuple[Fraction, int, bool] | None:
        """Rate, first frame and drop flag of a timecode slot.

        A segment counts whole frames a second: 24 or 30 of them are 24000/1001 or 30000/1001 where its slot has that
        rate, and with drop.
        """
        segment = slot.segment
        if type(segment).__name__ == "Sequence":
            segment = next(iter(segment.components), None)
        if type(segment).__name__ != "Timecode":
            return None
        fps, drop = int(segment.fps), bool(segment.drop)
        slower, own = Fraction(fps * 1000, 1001), _rate(getattr(slot, "edit_rate", None))
        rate = slower if (drop and fps in (30, 60)) or own == slower else Fraction(max(fps, 1))
        return rate, int(segment.start), drop

    def _markers(self, slot: Any) -> Iterator[ListMarker]:
        rate = _rate(slot.edit_rate)
        components = slot.segment.components if type(slot.segment).__name__ == "Sequence" else [slot.segment]
        for event in components:
            words = str(event.getvalue("Comment") or "") if "Comment" in event.keys() else ""  # noqa: SIM118 - no mapping
            at = event.getvalue("Position") if "Position" in event.keys() else 0  # noqa: SIM118
            yield ListMarker(at=Fraction(int(at or 0)) / rate, name=words or tr("Marker"))

    # -- events

    def _events(self, segment: Any, rate: Fraction, remarks: list[str]) -> Iterator[Event]:
        """Events of a sound slot; a transition lies over the end of one and the beginning of the next."""
        at = 0
        fade, before = Fade(), None
        for part in self._row(segment):
            kind = type(part).__name__
            length = int(part.length or 0)
            if kind == "Transition":
                at -= length
                fade = Fade(seconds=Fraction(length) / rate, law=_law(part))
                if before is not None and self._is_last(segment, part):
                    before = replace(before, fade_out=fade)
                continue
            event = self._event(part, at, length, rate, remarks)
            if event is None and fade.seconds and before is not None:  # a dissolve into nothing is a fade out
                before = replace(before, fade_out=fade)
            if before is not None:
                yield before
            before = None
            if event is not None:
                before = replace(event, fade_in=fade) if fade.seconds else event
            fade = Fade()
            at += length
        if before is not None:
            yield before

    def _row(self, segment: Any, depth: int = 0) -> list[Any]:
        """The parts of a slot in a row: a pan or other effect around the whole sequence is looked through."""
        kind = type(segment).__name__
        if kind == "Sequence":
            return list(segment.components)
        if kind == "OperationGroup" and depth < DEEPEST and len(segment.segments):
            inner = next(iter(segment.segments))
            if type(inner).__name__ in ("Sequence", "OperationGroup"):
                return self._row(inner, depth + 1)
        if kind == "NestedScope" and depth < DEEPEST:
            return self._row(list(segment["Slots"].value)[-1], depth + 1)
        return [segment]

    @staticmethod
    def _is_last(segment: Any, part: Any) -> bool:
        parts = list(segment.components) if type(segment).__name__ == "Sequence" else []
        return bool(parts) and parts[-1] is part

    def _event(self, part: Any, at: int, length: int, rate: Fraction, remarks: list[str]) -> Event | None:
        gain, line = 0.0, _NO_LINE
        clip = part
        for _ in range(DEEPEST):
            kind = type(clip).__name__
            if kind == "OperationGroup":
                name = str(clip.operation.name or "")
                if "gain" in name.lower() or "amplitude" in name.lower():
                    gain, line = self._levels(clip, length, rate)
                elif "pan" not in name.lower():
                    remarks.append(tr("The effect {name} was left out.", name=name or "?"))
            inner = _inside(clip)
            if inner is clip:
                break
            clip = inner
        if type(clip).__name__ != "SourceClip" or length <= 0:
            if type(clip).__name__ not in ("Filler", "NoneType", "SourceClip"):
                remarks.append(tr("A part of the kind {kind} was left out.", kind=type(clip).__name__))
            return None
        fade_in, fade_out = (_fade(clip, side, rate) for side in ("In", "Out"))
        media, source, channel = self._source(clip, rate, remarks)
        return Event(
            record=Fraction(at) / rate, seconds=Fraction(length) / rate, source=source, by_timecode=media.start is not None,
            media=media, channel=channel, gain_db=gain, gain_line=line, name=media.name, fade_in=fade_in, fade_out=fade_out,
        )  # fmt: skip

    def _levels(self, group: Any, length: int, rate: Fraction) -> tuple[float, tuple[tuple[Fraction, float], ...]]:
        for parameter in group.parameters:
            if (parameter.name or "").lower() not in ("amplitude", "level"):
                continue
            if type(parameter).__name__ == "ConstantValue":
                return _decibels(parameter.value), ()
            seconds = Fraction(length) / rate
            points = [(Fraction(_fraction(p.time)) * seconds, _decibels(p.value)) for p in parameter.pointlist]
            return 0.0, tuple(sorted(points))
        return 0.0, ()

    # -- media

    def _source(self, clip: Any, rate: Fraction, remarks: list[str]) -> tuple[MediaName, Fraction, int | None]:
        """The file of a clip, where in it (on its tape where it has one), and which channel."""
        trail = _Trail(Fraction(int(clip.start or 0)) / rate)
        mob, slot_id = clip.mob, clip.slot_id
        for _ in range(DEEPEST):
            slot = next((s for s in mob.slots if s.slot_id == slot_id), None) if mob is not None else None
            if slot is None or self._is_tape(mob, trail):
                break
            self._note(mob, slot, trail)
            inner = slot.segment
            while type(inner).__name__ in ("OperationGroup", "EssenceGroup", "Sequence"):
                inner = _inside(inner)
            if type(inner).__name__ != "SourceClip" or inner.mob is None:
                break
            begins = Fraction(int(inner.start or 0)) / _rate(slot.edit_rate)
            if type(mob).__name__ == "MasterMob":
                trail.position += begins
            else:
                trail.on_tape = begins
            mob, slot_id = inner.mob, inner.slot_id
        if trail.embedded is not None and not trail.url and self.extract_to is not None:
            trail.url = self._extracted(trail.embedded, trail.name, remarks)
        path = path_of(trail.url)
        media = MediaName(
            name=Path(path).name if path else trail.name, path=path, reel=trail.reel, start=trail.start,
            seconds=trail.seconds, rate_hz=trail.rate_hz, channels=trail.channels,
        )  # fmt: skip
        return media, trail.position + (trail.start or 0), trail.channel

    def _is_tape(self, mob: Any, trail: _Trail) -> bool:
        """Whether this is the tape or original recording at the end of the trail; its timecode is noted."""
        if type(mob).__name__ != "SourceMob" or type(mob.descriptor).__name__ not in (
            "TapeDescriptor",
            "ImportDescriptor",
        ):
            return False
        trail.reel = str(mob.name or "")
        code = next((c for s in mob.slots if (c := self._timecode(s)) is not None), None)
        if code is not None:
            trail.start = Fraction(code[1]) / code[0] + trail.on_tape
        return True

    def _note(self, mob: Any, slot: Any, trail: _Trail) -> None:
        """What a master or a file says."""
        if type(mob).__name__ == "MasterMob":
            trail.name = trail.name or str(mob.name or "")
            sound = [s for s in mob.slots if s.media_kind in ("Sound", "LegacySound")]
            if len(sound) > 1 and slot in sound:
                trail.channel = sound.index(slot)
        elif type(mob).__name__ == "SourceMob":
            about = mob.descriptor
            trail.rate_hz = int(_number(about, "AudioSamplingRate") or _number(about, "SampleRate") or 0)
            trail.channels = int(_number(about, "Channels") or 0)
            if (length := _number(about, "Length")) and trail.rate_hz:
                trail.seconds = length / _rate(about.getvalue("SampleRate"))
            trail.url = trail.url or self._address(about)
            if mob.essence is not None:
                trail.embedded = mob

    @staticmethod
    def _address(descriptor: Any) -> str:
        rows = descriptor.getvalue("Locator") if "Locator" in descriptor.keys() else None  # noqa: SIM118 - no mapping
        for locator in rows or ():
            with contextlib.suppress(Exception):
                return str(locator["URLString"].value)
        return ""

    def _extracted(self, mob: Any, name: str, remarks: list[str]) -> str:
        """Embedded sound as a wave file of its own."""
        assert self.extract_to is not None  # noqa: S101 - the caller has looked
        target = self.extract_to(f"{safe_name(name or str(mob.name) or 'sound')}.wav")
        if not target.exists():
            descriptor = mob.descriptor
            stream = mob.essence.open("r")
            data = stream.read(LARGEST_ESSENCE)
            if data[:4] not in (b"RIFF", b"RF64"):
                memory = io.BytesIO()
                with wave.open(memory, "wb") as file:
                    file.setnchannels(int(_number(descriptor, "Channels") or 1))
                    file.setsampwidth(max(1, int(_number(descriptor, "QuantizationBits") or 16) // 8))
                    file.setframerate(int(_number(descriptor, "AudioSamplingRate") or 48_000))
                    file.writeframes(data)
                data = memory.getvalue()
            write_bytes(target, data)
            remarks.append(tr("The sound {name} was in the list; it was written beside the project.", name=target.name))
        return str(target)


def _rate(value: Any) -> Fraction:
    found = _fraction(value)
    return exact_rate(float(found)) if found and found < 1000 else found or Fraction(25)


def _fraction(value: Any) -> Fraction:
    try:
        return Fraction(int(value.numerator), int(value.denominator))
    except (AttributeError, ZeroDivisionError):
        return Fraction(value or 0)


def _number(thing: Any, field: str) -> Fraction | None:
    if field not in thing.keys():  # noqa: SIM118 - no mapping
        return None
    value = thing.getvalue(field)
    return None if value is None else _fraction(value)


def _decibels(value: Any) -> float:
    linear = float(_fraction(value))
    return max(-120.0, min(40.0, 20.0 * math.log10(max(linear, 1e-6))))


def _fade(clip: Any, side: str, rate: Fraction) -> Fade:
    """A fade of a clip; linear in amplitude or in power, after FadeType of the object specification."""
    seconds = Fraction(int(_number(clip, f"Fade{side}Length") or 0)) / rate
    field = f"Fade{side}Type"
    kind = str(clip.getvalue(field)) if field in clip.keys() else ""  # noqa: SIM118 - no mapping
    return Fade(seconds=seconds, law="gain" if "Amp" in kind else "power" if "Power" in kind else "matched")


def _law(transition: Any) -> Any:
    group = transition.getvalue("OperationGroup") if "OperationGroup" in transition.keys() else None  # noqa: SIM118
    words = str(group.operation.name or "").lower() if group is not None else ""
    return "power" if "power" in words else "gain" if "linear" in words else "matched"
