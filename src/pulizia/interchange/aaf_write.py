# SPDX-License-Identifier: GPL-3.0-or-later
"""Advanced Authoring Format files, written with pyaaf2: a composition at the programme's sample clock with linked sound.

Identifications of operations and parameters from the AAF dictionary (AMWA).
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

from pulizia.interchange.aaf_library import aaf_library
from pulizia.interchange.edit_list import EditList, Event, MediaName, Track, by_channel

GAIN_ID, DISSOLVE_ID = "9d2ea894-0968-11d3-8a38-0050040ef7d2", "0c3bea41-fc05-11d2-8a29-0050040ef7d2"
AMPLITUDE_ID = "e4962322-2267-11d3-8a4c-0050040ef7d2"


def aaf_bytes(found: EditList, clock: int) -> bytes:
    """A composition at the clock of the programme: linked sound, gains, fades, dissolves, markers; a whole file.

    Raises
    ------
    EditListError
        When the library is not there.
    """
    aaf2 = aaf_library()
    with aaf2.open(None, "w") as file:  # in memory: a file of its own would stay open where the disk refuses
        memory = file.f
        memory.close = lambda: None  # it is read when the library has finished it
        _Writer(aaf2, file, found, clock).write()
    return bytes(memory.getvalue())


@dataclass(slots=True)
class _Writer:
    aaf2: Any
    file: Any
    found: EditList
    clock: int

    def write(self) -> None:
        """Definitions, media, the composition."""
        create, dictionary = self.file.create, self.file.dictionary
        auid = self.aaf2.auid.AUID
        rational = dictionary.lookup_typedef("Rational")
        amplitude = create.ParameterDef(auid(AMPLITUDE_ID), "Amplitude", "Amplitude", rational)
        dictionary.register_def(amplitude)
        dictionary.register_def(
            create.InterpolationDef(self.aaf2.misc.LinearInterp, "LinearInterp", "Linear interpolation")
        )
        for identity, name, inputs in ((GAIN_ID, "Mono Audio Gain", 1), (DISSOLVE_ID, "Mono Audio Dissolve", 2)):
            made = create.OperationDef(auid(identity), name, name)
            made.media_kind = "sound"
            made["NumberInputs"].value = inputs
            dictionary.register_def(made)
        composition = create.CompositionMob(self.found.name)
        composition.usage = "Usage_TopLevel"
        self.file.content.mobs.append(composition)
        rate = self.found.picture_rate
        code = composition.create_timeline_slot(_aaf_rate(rate))
        code.segment = create.Timecode(round(rate), drop=self.found.drop)
        code.segment.start = round(self.found.start * rate)
        last = max((e.stop for t in self.found.tracks for e in t.events), default=Fraction(1))
        code.segment.length = math.ceil(last * rate)
        code["PhysicalTrackNumber"].value = 1
        code.name = "Timecode"
        masters: dict[str, tuple[Any, int]] = {}
        for number, track in enumerate((one for whole in self.found.tracks for one in by_channel(whole)), 1):
            slot = composition.create_sound_slot(self.clock)
            slot.name = track.name
            slot["PhysicalTrackNumber"].value = number
            self._fill(slot.segment, track, masters)
        self._put_markers(composition)

    def _frames(self, seconds: Fraction) -> int:
        return round(seconds * self.clock)

    def _fill(self, sequence: Any, track: Track, masters: dict[str, tuple[Any, int]]) -> None:
        at = 0
        for n, event in enumerate(e for e in track.events if e.enabled):
            start, stop = self._frames(event.record), self._frames(event.stop)
            over = at - start if n and start < at else 0
            if start > at:
                sequence.components.append(self.file.create.Filler("sound", start - at))
            if over:
                sequence.components.append(self._transition(over))
            sequence.components.append(self._clip(event, stop - start, masters, faded=not over))
            at = stop
        sequence.length = at

    def _transition(self, frames: int) -> Any:
        group = self.file.create.OperationGroup("Mono Audio Dissolve", length=frames, media_kind="sound")
        made = self.file.create.Transition("sound", frames)
        made["OperationGroup"].value = group
        made.cutpoint = frames
        return made

    def _clip(self, event: Event, frames: int, masters: dict[str, tuple[Any, int]], *, faded: bool) -> Any:
        master, slots = self._master(event.media, masters)
        first = event.media.start or Fraction(0)
        source = event.source - first if event.by_timecode else event.source
        channel = min(event.channel or 0, slots - 1)
        clip = master.create_source_clip(channel + 1, self._frames(source), frames)
        for side, fade in (("In", event.fade_in if faded else None), ("Out", event.fade_out)):
            if fade is not None and fade.seconds:
                clip[f"Fade{side}Length"].value = self._frames(fade.seconds)
                clip[f"Fade{side}Type"].value = "FadeLinearAmp" if fade.law == "gain" else "FadeLinearPower"
        if not (event.gain_db or event.gain_line):
            return clip
        group = self.file.create.OperationGroup("Mono Audio Gain", length=frames, media_kind="sound")
        group.segments.append(clip)
        if event.gain_line:
            curve = self.file.create.VaryingValue("Amplitude", "LinearInterp")
            for at, db in event.gain_line:
                point = self.file.create.ControlPoint()
                share = Fraction(at) / event.seconds
                point.time = self.aaf2.rational.AAFRational(share.limit_denominator(10_000_000))
                point.value = self._linear(db + event.gain_db)
                curve["PointList"].append(point)
            group.parameters.append(curve)
        else:
            group.parameters.append(self.file.create.ConstantValue("Amplitude", self._linear(event.gain_db)))
        return group

    def _linear(self, db: float) -> Any:
        return self.aaf2.rational.AAFRational(Fraction(10 ** (db / 20)).limit_denominator(1_000_000))

    def _master(self, media: MediaName, masters: dict[str, tuple[Any, int]]) -> tuple[Any, int]:
        """The master of a file, with a slot for each of its channels; made once."""
        key = media.path or media.name
        if key in masters:
            return masters[key]
        create, channels = self.file.create, max(1, media.channels)
        rate = media.rate_hz or self.clock
        length = self._frames(media.seconds) if media.seconds is not None else self.clock * 3600
        tape = create.SourceMob(media.reel or media.name)
        tape_slot, code = tape.create_tape_slots(
            media.reel or media.name, self.clock, round(self.found.picture_rate), media_kind="sound"
        )
        code["EditRate"].value = _aaf_rate(self.found.picture_rate)
        code.segment.start = 0
        self.file.content.mobs.append(tape)
        file = create.SourceMob(media.name)
        descriptor = create.PCMDescriptor()
        bits = 24
        for field, value in (
            ("Channels", channels), ("BlockAlign", channels * bits // 8), ("SampleRate", rate), ("AverageBPS", rate * channels * bits // 8),
            ("QuantizationBits", bits), ("AudioSamplingRate", rate),
        ):  # fmt: skip
            descriptor[field].value = value
        descriptor.length = math.ceil((media.seconds or Fraction(3600)) * rate)
        if media.path:
            locator = create.NetworkLocator()
            locator["URLString"].value = Path(media.path).as_uri() if media.path.startswith("/") else media.path
            descriptor["Locator"].append(locator)
        file.descriptor = descriptor
        slot = file.create_empty_slot(edit_rate=self.clock, media_kind="sound", slot_id=1)
        clip = create.SourceClip(media_kind="sound", length=length)
        clip.mob_id, clip.slot_id, clip.start = tape.mob_id, tape_slot.slot_id, self._frames(media.start or Fraction(0))
        slot.segment = clip
        self.file.content.mobs.append(file)
        master = create.MasterMob(media.name)
        self.file.content.mobs.append(master)
        for _ in range(channels):
            own = master.create_timeline_slot(self.clock)
            own.segment = file.create_source_clip(1, 0, length)
        masters[key] = master, channels
        return masters[key]

    def _put_markers(self, composition: Any) -> None:
        if not self.found.markers:
            return
        slot = self.file.create.EventMobSlot()
        slot["EditRate"].value = _aaf_rate(Fraction(self.clock))
        slot["SlotID"].value = 1000
        slot["PhysicalTrackNumber"].value = 1
        sequence = self.file.create.Sequence(media_kind="DescriptiveMetadata")
        for marker in self.found.markers:
            event = self.file.create.DescriptiveMarker()
            event["Position"].value = self._frames(marker.at)
            event["Comment"].value = marker.name
            event["Length"].value = 1
            event["DescribedSlots"].value = {2}  # the first sound track
            sequence.components.append(event)
        slot.segment = sequence
        composition.slots.append(slot)


def _aaf_rate(rate: Fraction) -> str:
    return f"{rate.numerator}/{rate.denominator}"
