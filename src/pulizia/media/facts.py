# SPDX-License-Identifier: GPL-3.0-or-later
"""What a file says of itself without its sound being read: length, rate, start time, scene, take, reel."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

from pulizia.audio.timecode import TimecodeError, can_drop, frame_of
from pulizia.errors import MediaError
from pulizia.media.wav_chunks import is_wav, read_layout
from pulizia.words import tr

LONGEST_NUMBER = 18


@dataclass(frozen=True, slots=True, kw_only=True)
class MediaFacts:
    """Facts of a sound or video file.

    Attributes
    ----------
    start : its timecode at the first sample, in seconds since midnight (bext, iXML, or the time code of a video); None
        when it says none
    """

    path: Path
    seconds: Fraction
    rate_hz: int
    channels: int
    start: Fraction | None = None
    scene: str = ""
    take: str = ""
    reel: str = ""
    channel_names: tuple[str, ...] = ()


def media_facts(path: Path) -> MediaFacts:
    """Look at a file's head.

    Raises
    ------
    MediaError
        When it holds no sound that can be read.
    """
    try:
        if is_wav(path):
            return _of_wav(path)
        return _of_container(path)
    except (OSError, ValueError, ArithmeticError) as error:
        message = tr("{name} cannot be read.", name=path.name)
        raise MediaError(message) from error


def _of_wav(path: Path) -> MediaFacts:
    layout = read_layout(path)
    metadata = layout.metadata
    since = dict(metadata).get("frames_since_midnight", "")
    start = Fraction(int(since), layout.rate) if since.isdigit() and len(since) <= LONGEST_NUMBER else None
    told = dict(metadata)
    return MediaFacts(
        path=path, seconds=Fraction(layout.frames, layout.rate), rate_hz=layout.rate, channels=layout.channels, start=start,
        scene=told.get("scene", ""), take=told.get("take", ""), reel=told.get("tape", ""), channel_names=layout.channel_names,
    )  # fmt: skip


def _of_container(path: Path) -> MediaFacts:
    import av

    try:
        with av.open(str(path), metadata_errors="ignore") as file:
            stream = next(iter(file.streams.audio), None)
            if stream is None:
                message = tr("{name} holds no sound.", name=path.name)
                raise MediaError(message)
            duration = Fraction(file.duration or 0, av.time_base)
            if stream.duration and stream.time_base:
                duration = stream.duration * stream.time_base
            words = {k.lower(): v for part in (file, *file.streams) for k, v in dict(part.metadata).items()}
            return MediaFacts(
                path=path, seconds=duration, rate_hz=int(stream.rate), channels=int(stream.channels),
                start=_start(file, words, int(stream.rate)), scene=words.get("scene", ""), take=words.get("take", ""),
                reel=words.get("reel_name", ""),
            )  # fmt: skip
    except av.FFmpegError as error:
        message = tr("{name} cannot be read.", name=path.name)
        raise MediaError(message) from error


def _start(file: Any, words: dict[str, str], rate_hz: int) -> Fraction | None:  # noqa: ANN401 - the library has no types here
    """The time code of a video, or a wave file's start time in samples."""
    since = words.get("time_reference", "")
    if since.isdigit() and len(since) <= LONGEST_NUMBER:
        return Fraction(int(since), rate_hz)
    code = words.get("timecode", "")
    if not code:
        return None
    video = next(iter(file.streams.video), None)
    rate = Fraction(video.average_rate) if video is not None and video.average_rate else Fraction(25)
    near = min(
        (Fraction(24000, 1001), Fraction(24), Fraction(25), Fraction(30000, 1001), Fraction(30), Fraction(50), Fraction(60000, 1001), Fraction(60)),
        key=lambda r: abs(r - rate),
    )  # fmt: skip
    try:
        return Fraction(frame_of(code, near, drop=can_drop(near) and ";" in code)) / near
    except TimecodeError:
        return None
