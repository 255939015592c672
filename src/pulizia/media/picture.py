# SPDX-License-Identifier: GPL-3.0-or-later
"""New sound into a picture file: the picture copied packet for packet, other streams kept (av)."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import closing
from fractions import Fraction
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from pulizia.audio.source import Source
from pulizia.errors import MediaError, PuliziaError
from pulizia.media.coded import ATTACHED
from pulizia.media.fast_start import index_is_first, put_index_first
from pulizia.media.sink import Sink
from pulizia.media.write import _Beside, disk_words
from pulizia.words import N_, tr

CONTAINERS = {".mp4": "mp4", ".mov": "mov", ".mkv": "matroska", ".m4v": "mp4"}
PCM_IN = {".mov": "pcm_s24le", ".mkv": "pcm_s24le"}
LAYOUTS = {1: "mono", 2: "stereo", 6: "5.1", 8: "7.1"}
KEPT_TAGS = {"hvc1", "hev1", "dvh1", "dvhe", "avc1", "avc3"}  # players ask for the one or the other
OF_THE_FILE = {"major_brand", "minor_version", "compatible_brands", "encoder"}
OF_THE_STREAM = {"encoder", "duration", "vendor_id", "timecode"}  # true of the old file only, or set anew
NO_PLACE = {
    "audio": N_("The sound track{named} has no place in {suffix} and was left out."),
    "subtitle": N_("The subtitle track{named} has no place in {suffix} and was left out."),
    "cover": N_("The cover{named} has no place in {suffix} and was left out."),
    "data": N_("The data track{named} has no place in {suffix} and was left out."),
}


def is_picture(path: Path) -> bool:
    """Whether a name asks for a picture file."""
    return path.suffix.lower() in CONTAINERS


def remux(
    picture: Path, sound: Source, target: Path, *, bitrate_kbps: int = 256, plain: bool = True,
    progress: Callable[[float], None] = lambda _: None,
) -> tuple[str, ...]:  # fmt: skip
    """Write ``target``: everything of ``picture`` but its first sound stream, and ``sound`` in its place.

    The sound begins where the first sound stream began. MOV and MKV take plain 24-bit samples where
    ``plain``, MP4 takes AAC. Chapters, cover, start timecode, languages, flags and the kind of picture
    coding stay; MP4 files get their index first, MOV files where the source had it so.

    Returns
    -------
    A sentence for everything that the new container cannot hold.

    Raises
    ------
    MediaError
        When the file has no picture or no sound, or the picture cannot go into the new container.
    DiskError
        When the disk refuses.
    """
    import av
    import av.error
    import av.logging

    av.logging.set_level(None)
    if target.suffix.lower() not in CONTAINERS:
        message = tr(
            "{name}: video files are written as {known}. Choose one of these endings.",
            name=target.name,
            known=", ".join(CONTAINERS),
        )
        raise MediaError(message)
    beside = _Beside(target)
    make = partial(_write, picture, sound, target, beside, bitrate_kbps=bitrate_kbps, plain=plain, progress=progress)
    try:
        try:
            notes = make(with_timecode=True)
        except (av.error.FFmpegError, ValueError):
            notes = make(with_timecode=False)  # one that the frame rate does not allow
        with disk_words(target):
            if target.suffix.lower() != ".mov" or index_is_first(picture):
                put_index_first(beside.path)
        beside.keep()
    except PuliziaError:
        beside.drop()
        raise
    except (av.error.FFmpegError, ValueError) as error:
        beside.drop()
        message = tr(
            "{name} cannot be written as {suffix}: one of its streams does not fit in.",
            name=picture.name,
            suffix=target.suffix,
        )
        way_out = (
            tr("Choose a sound file.")
            if target.suffix.lower() == ".mkv"
            else tr("Choose .mkv, which takes nearly every stream.")
        )
        message = f"{message} {way_out}"
        raise MediaError(message) from error
    except BaseException:
        beside.drop()
        raise
    return notes


def _write(
    picture: Path, sound: Source, target: Path, beside: _Beside, *, bitrate_kbps: int, plain: bool, with_timecode: bool,
    progress: Callable[[float], None],
) -> tuple[str, ...]:  # fmt: skip
    import av

    suffix = target.suffix.lower()
    with disk_words(target), av.open(str(picture)) as source:
        _check_streams(source, picture)
        with (
            closing(Sink(beside.path)) as sink,
            av.open(sink, "w", format=CONTAINERS[suffix], options=_clock(suffix, sound.rate)) as out,
        ):
            out.metadata.update({k: v for k, v in source.metadata.items() if k.lower() not in OF_THE_FILE})

            def told(share: float) -> None:
                sink.check()
                progress(share)

            job = _Streams(source, out, suffix, with_timecode=with_timecode)
            job.add(sound, PCM_IN.get(suffix) if plain else None, bitrate_kbps)
            if chapters := source.chapters():
                out.set_chapters(chapters)
            _mux(job, sound, told)
        sink.check()
    return tuple(job.notes)


def _clock(suffix: str, rate: int) -> dict[str, str]:
    """The container's clock ticks as the sound does: else where the sound begins is rounded to a millisecond."""
    return {} if suffix == ".mkv" else {"movie_timescale": str(rate)}


def _check_streams(source: Any, picture: Path) -> None:  # noqa: ANN401
    if all(stream.disposition & ATTACHED for stream in source.streams.video):
        message = tr("{name} has no video. Deliver a sound file instead.", name=picture.name)
        raise MediaError(message)
    if not source.streams.audio:
        message = tr("{name} has no sound stream whose place the new sound could take.", name=picture.name)
        raise MediaError(message)


class _Streams:
    """The streams of the new file: the new sound, those that are copied, and what is said of the rest."""

    def __init__(self, source: Any, out: Any, suffix: str, *, with_timecode: bool) -> None:  # noqa: ANN401
        self.source, self.out, self.suffix = source, out, suffix
        self.replaced = source.streams.audio[0]
        self.made: Any = None
        self.copied: dict[int, Any] = {}
        self.notes: list[str] = []
        self._with_timecode = with_timecode
        self._timecode = ""

    def add(self, sound: Source, pcm: str | None, bitrate_kbps: int) -> None:
        """Make every stream, in the order of the source."""
        found = (_said(stream, "timecode") for stream in self.source.streams)
        self._timecode = next((text for text in found if text), "")
        for stream in self.source.streams:
            if stream.index == self.replaced.index:
                self._add_sound(sound, pcm, bitrate_kbps)
            elif stream.type == "video" and stream.disposition & ATTACHED:
                self._add_cover(stream)
            elif stream.codec_context is None:
                self._leave(stream)
            else:
                self._copy(stream)
        if self._timecode and not self._with_timecode:
            self.notes.append(tr("The start timecode {code} could not be kept.", code=self._timecode))

    def _add_sound(self, sound: Source, pcm: str | None, bitrate_kbps: int) -> None:
        made = self.out.add_stream(pcm or "aac", rate=sound.rate)
        made.codec_context.layout = LAYOUTS.get(sound.channels, f"{sound.channels}c")
        made.codec_context.format = "s32" if pcm else "fltp"
        made.time_base = Fraction(1, sound.rate)
        made.metadata.update(self.replaced.metadata)
        made.disposition = self.replaced.disposition
        if not pcm:
            made.bit_rate = 1000 * bitrate_kbps
        self.made = made

    def _copy(self, stream: Any) -> None:  # noqa: ANN401
        try:
            made = self._like(stream)
        except ValueError as error:
            name = stream.codec_context.name
            if stream.type == "video":
                message = tr(
                    "Video coded as {name} cannot be held by a {suffix} file. Choose .mkv, which holds nearly every kind.",
                    name=name, suffix=self.suffix,
                )  # fmt: skip
                raise MediaError(message) from error
            language = f" in {stream.language}" if stream.language not in (None, "und") else ""
            self._leave_out(stream.type, f"{language} ({name})")
            return
        made.metadata.update({k: v for k, v in stream.metadata.items() if k.lower() not in OF_THE_STREAM})
        made.disposition = stream.disposition
        if stream.type == "video":
            if stream.average_rate:
                made.codec_context.framerate = stream.average_rate
            if self._timecode and self._with_timecode:
                made.metadata["timecode"] = self._timecode
            if self.suffix != ".mkv" and stream.codec_context.codec_tag in KEPT_TAGS:
                made.codec_context.codec_tag = stream.codec_context.codec_tag
        self.copied[stream.index] = made

    def _like(self, stream: Any) -> Any:  # noqa: ANN401
        import av.codec.codec

        try:
            return self.out.add_stream_from_template(stream)
        except av.codec.codec.UnknownCodecError:  # there is a decoder, and no encoder
            return self.out.add_stream_from_template(stream, opaque=True)

    def _add_cover(self, stream: Any) -> None:  # noqa: ANN401
        if self.suffix == ".mkv":
            mime = _said(stream, "mimetype") or f"image/{'png' if stream.codec_context.name == 'png' else 'jpeg'}"
            name = _said(stream, "filename") or f"cover.{'png' if mime.endswith('png') else 'jpg'}"
            import av

            with av.open(self.source.name) as again:
                data = next((bytes(p) for p in again.demux(again.streams[stream.index]) if p.size), b"")
            if data:
                self.out.add_attachment(name, mime, data)
            return
        if self.suffix == ".mov":
            self._leave_out("cover", "")
        else:
            self._copy(stream)

    def _leave_out(self, kind: str, named: str) -> None:
        words = NO_PLACE.get(kind, NO_PLACE["data"])
        way_out = "" if self.suffix == ".mkv" else " " + tr("Choose .mkv to keep it.")
        self.notes.append(tr(words, named=named, suffix=self.suffix) + way_out)

    def _leave(self, stream: Any) -> None:  # noqa: ANN401
        """Tracks without a coding: timecodes and chapters are made anew, attachments go into MKV, the rest is named."""
        if stream.type == "attachment" and self.suffix == ".mkv":
            self.out.add_stream_from_template(stream)
            return
        handler = _said(stream, "handler_name")
        if _said(stream, "timecode") or (self.source.chapters() and handler in ("SubtitleHandler", "")):
            return
        named = _said(stream, "filename") or handler
        named = f" {named}" if named else ""
        self.notes.append(
            tr("The attachment{named} was left out.", named=named)
            if stream.type == "attachment"
            else tr("The data track{named} was left out.", named=named)
        )


def _said(stream: Any, name: str) -> str:  # noqa: ANN401
    """What a stream's metadata say under a name, in whatever case it stands there."""
    return next((str(value) for key, value in stream.metadata.items() if key.lower() == name), "")


def _mux(job: _Streams, sound: Source, progress: Callable[[float], None]) -> None:
    """Packets of all streams, by their time."""
    start = Fraction(job.replaced.start_time or 0) * (job.replaced.time_base or Fraction(0))
    packets = _sound_packets(job.made, sound, start, progress)
    ready = next(packets, None)
    copied = [job.source.streams[index] for index in job.copied]
    for packet in job.source.demux(*copied) if copied else ():
        if packet.size == 0:
            continue
        at = float((packet.dts if packet.dts is not None else packet.pts or 0) * packet.time_base)
        while ready is not None and float((ready.dts or 0) * ready.time_base) <= at:
            job.out.mux(ready)
            ready = next(packets, None)
        packet.stream = job.copied[packet.stream.index]
        job.out.mux(packet)
    while ready is not None:
        job.out.mux(ready)
        ready = next(packets, None)


def _sound_packets(stream: Any, sound: Source, start: Fraction, progress: Callable[[float], None]) -> Iterator[Any]:  # noqa: ANN401
    import av

    context = stream.codec_context
    planar = context.format.name == "fltp"
    size = context.frame_size or 1024
    first = round(start * sound.rate)
    position = 0
    while position < sound.frames:
        stop = min(position + size, sound.frames)
        block = sound.read(position, stop)
        if planar:
            frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(block), format="fltp", layout=context.layout.name)
        else:
            codes = (
                np.clip(np.rint(block.T.astype(np.float64) * (1 << 23)), -(1 << 23), (1 << 23) - 1).astype(np.int32)
                << 8
            )
            frame = av.AudioFrame.from_ndarray(
                np.ascontiguousarray(codes.reshape(1, -1)), format="s32", layout=context.layout.name
            )
        frame.sample_rate = sound.rate
        frame.time_base = Fraction(1, sound.rate)
        frame.pts = first + position
        yield from stream.encode(frame)
        position = stop
        progress(position / sound.frames)
    yield from stream.encode(None)
