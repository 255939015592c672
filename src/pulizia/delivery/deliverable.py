# SPDX-License-Identifier: GPL-3.0-or-later
"""What is written of a programme: file kind, rate, bits, layout, edges, and the name."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Literal

from pulizia.audio.edges import EdgedSource
from pulizia.audio.layouts import channel_names, into_one, into_two
from pulizia.audio.pop import BEFORE_S, PopSource
from pulizia.audio.source import MixedSource, Source
from pulizia.errors import DeliveryError
from pulizia.media.encode import BITRATES, nearest_rate
from pulizia.media.names import safe_name
from pulizia.media.picture import PCM_IN, is_picture
from pulizia.media.resample import at_rate
from pulizia.media.write import BITS, Dither, SampleFormat
from pulizia.words import N_, tr, translated

Kind = Literal["wav", "flac", "mp3", "opus", "m4a", "picture"]
KIND_OF_SUFFIX: dict[str, Kind] = {".wav": "wav", ".flac": "flac", ".mp3": "mp3", ".opus": "opus", ".m4a": "m4a"}
SUFFIX_OF_KIND: dict[Kind, str] = {kind: suffix for suffix, kind in KIND_OF_SUFFIX.items()}
WORDS: dict[Kind, str] = {
    "wav": "WAV",
    "flac": "FLAC",
    "mp3": "MP3",
    "opus": N_("Opus"),
    "m4a": "AAC",
    "picture": N_("video file"),
}
LONGEST_EDGE_S = 60.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Deliverable:
    """One output file of a programme.

    ``pop_s`` is the length of a 2-pop, one frame of the picture; 0 is none. It needs two seconds of silence before.
    ``by_reel`` writes a file for each reel of the programme, with silence and 2-pop of its own, all at the programme's gain.
    """

    kind: Kind = "wav"
    sample_format: SampleFormat = "int24"
    dither: Dither = "triangular"
    rate_hz: int | None = None
    layout: Literal["same", "mono", "stereo"] = "same"
    bitrate_kbps: int = 192
    head_s: float = 0.0
    tail_s: float = 0.0
    fade_in_s: float = 0.0
    fade_out_s: float = 0.0
    pop_s: float = 0.0
    by_reel: bool = False

    def __post_init__(self) -> None:
        if self.kind in BITRATES:
            low, high = BITRATES[self.kind]
            if not low <= self.bitrate_kbps <= high:
                message = tr(
                    "{kind} is written with {low} to {high} kbit/s, not {bitrate_kbps}.",
                    kind=translated(WORDS[self.kind]),
                    low=low,
                    high=high,
                    bitrate_kbps=self.bitrate_kbps,
                )
                raise DeliveryError(message)
        if self.rate_hz is not None and not 8000 <= self.rate_hz <= 192_000:
            message = tr(
                "A sample rate of {rate_hz} Hz cannot be delivered; choose 8000 to 192000 Hz.", rate_hz=self.rate_hz
            )
            raise DeliveryError(message)
        for name in ("head_s", "tail_s", "fade_in_s", "fade_out_s"):
            if not 0.0 <= getattr(self, name) <= LONGEST_EDGE_S:
                message = tr(
                    "{name} is {seconds:g} s, must be between 0 and {most:g} s.",
                    name=name,
                    seconds=getattr(self, name),
                    most=LONGEST_EDGE_S,
                )
                raise DeliveryError(message)
        if not 0.0 <= self.pop_s <= 1.0 or (self.pop_s and self.head_s < BEFORE_S):
            message = tr("A 2-pop stands two seconds before the start. Choose at least 2 s of silence before.")
            raise DeliveryError(message)

        if self.by_reel and self.kind == "picture":
            message = tr("The sound goes back into a video as a whole. Choose a sound file for reels.")
            raise DeliveryError(message)

    @property
    def words(self) -> str:
        """Short text for lists."""
        bits = {"int16": "16-bit", "int24": "24-bit", "float32": tr("32-bit float")}[self.sample_format]
        detail = bits if self.kind in ("wav", "flac") else f"{self.bitrate_kbps} kbit/s"
        parts = [translated(WORDS[self.kind]), detail]
        if self.rate_hz:
            parts.append(tr("{rate:g} kHz", rate=self.rate_hz / 1000))
        if self.layout != "same":
            parts.append(tr("mono") if self.layout == "mono" else tr("stereo"))
        if self.by_reel:
            parts.append(tr("a file for each reel"))
        return ", ".join(parts)

    def most_bytes(self, seconds: float, rate_hz: int, channels: int, picture: Path | None) -> float:
        """How large the file becomes: of FLAC and videos, whose old sound goes, at most.

        ``rate_hz`` and ``channels`` are the programme's own; ``picture`` is the video into which the sound goes back.
        """
        rate = self.rate_hz or rate_hz
        count = {"same": channels, "mono": 1, "stereo": 2}[self.layout]
        seconds += self.head_s + self.tail_s
        plain = seconds * rate * count * BITS[self.sample_format] / 8
        if self.kind in ("wav", "flac"):
            return plain
        if self.kind != "picture" or picture is None:
            return seconds * self.bitrate_kbps * 125.0
        sound = seconds * rate * count * 3 if picture.suffix.lower() in PCM_IN else seconds * self.bitrate_kbps * 125.0
        return sound + (picture.stat().st_size if picture.is_file() else 0)


def with_pop(sound: Source, wanted: Deliverable) -> Source:
    """The finished sound with the deliverable's 2-pop, which no gain moves."""
    if not wanted.pop_s:
        return sound
    at = round(wanted.head_s * sound.rate) - round(BEFORE_S * sound.rate)
    return PopSource(sound, at, round(wanted.pop_s * sound.rate))


def kind_of_path(path: Path) -> Kind:
    """The kind that a file name asks for.

    Raises
    ------
    DeliveryError
        For endings that cannot be written.
    """
    if is_picture(path):
        return "picture"
    if (kind := KIND_OF_SUFFIX.get(path.suffix.lower())) is None:
        endings = ", ".join([*KIND_OF_SUFFIX, ".mp4", ".mov", ".mkv"])
        message = tr(
            "{name}: files are written as {endings}. Choose one of these endings.", name=path.name, endings=endings
        )
        raise DeliveryError(message)
    return kind


def prepared(
    programme: Source, wanted: Deliverable, progress: Callable[[float], None] = lambda _: None,
    *, names: Sequence[str] = (),
) -> Source:  # fmt: skip
    """The programme in the layout, at the rate and with the edges of a deliverable, before normalising.

    ``names`` of its channels say how they are mixed into fewer; the usual ones for their number by default.
    """
    made: Source = programme
    known = channel_names(programme.channels, names)
    if wanted.layout == "mono" and programme.channels > 1:
        made = MixedSource(made, into_one(known))
    elif wanted.layout == "stereo" and programme.channels != 2:
        made = MixedSource(made, into_two(known))
    rate = wanted.rate_hz or made.rate
    made = at_rate(made, nearest_rate(wanted.kind, rate), progress)
    if wanted.head_s or wanted.tail_s or wanted.fade_in_s or wanted.fade_out_s:
        head, tail, fade_in, fade_out = (
            round(s * made.rate) for s in (wanted.head_s, wanted.tail_s, wanted.fade_in_s, wanted.fade_out_s)
        )
        made = EdgedSource(made, head=head, tail=tail, fade_in=fade_in, fade_out=fade_out)
    return made


PLACEHOLDERS = {
    "name": N_("the recording's name"), "target": N_("the target's id"), "kind": N_("the file kind"), "rate": "kHz",
    "steps": N_("the tools of its steps"), "date": "today", "number": N_("its place in the list"),
}  # fmt: skip


def file_name(pattern: str, values: dict[str, str], kind: Kind, suffix: str = "") -> str:
    """A file name from a pattern such as ``{name}-{target}``.

    Raises
    ------
    DeliveryError
        For unknown placeholders and patterns that leave nothing.
    """
    known = {"date": datetime.now().astimezone().date().isoformat(), "kind": kind} | values
    unknown = [p for p in re.findall(r"\{([^{}]*)\}", pattern) if p not in PLACEHOLDERS]
    if unknown:
        message = tr(
            "The name pattern holds {{{unknown}}}; known are {known}.",
            unknown=unknown[0],
            known=", ".join("{" + p + "}" for p in PLACEHOLDERS),
        )
        raise DeliveryError(message)
    made = re.sub(r"\{([^{}]*)\}", lambda m: known.get(m.group(1), ""), pattern)
    made = safe_name(made, usual="")
    if not made:
        message = tr("The name pattern {pattern!r} leaves no name. Use {{name}} in it.", pattern=pattern)
        raise DeliveryError(message)
    return made + (suffix or SUFFIX_OF_KIND.get(kind, ""))
