"""New sound into a picture file: the picture copied packet for packet, other streams kept (av)."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import closing
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np

from pulizia.audio.source import Source
from pulizia.errors import MediaError, PuliziaError
from pulizia.media.sink import Sink
from pulizia.media.write import _Beside, disk_words

CONTAINERS = {".mp4": "mp4", ".mov": "mov", ".mkv": "matroska", ".m4v": "mp4"}
PCM_IN = {".mov": "pcm_s24le", ".mkv": "pcm_s24le"}
LAYOUTS = {1: "mono", 2: "stereo", 6: "5.1", 8: "7.1"}
BLOCK = 4096


def is_picture(path: Path) -> bool:
    """Whether a name asks for a picture file."""
    return path.suffix.lower() in CONTAINERS


def remux(
    picture: Path, sound: Source, target: Path, *, bitrate_kbps: int = 256, plain: bool = True,
    progress: Callable[[float], None] = lambda _: None,
) -> None:  # fmt: skip
    """Write ``target``: everything of ``picture`` but its first sound stream, and ``sound`` in its place.

    The sound begins where the first sound stream began. MOV and MKV take plain 24-bit samples where
    ``plain``, MP4 takes AAC.

    Raises
    ------
    MediaError
        When the file has no picture or no sound, or a stream cannot go into the new container.
    DiskError
        When the disk refuses.
    """
    import av
    import av.error
    import av.logging

    av.logging.set_level(None)
    suffix = target.suffix.lower()
    if suffix not in CONTAINERS:
        message = f"{target.name}: picture files are written as {', '.join(CONTAINERS)}. Choose one of these endings."
        raise MediaError(message)
    beside = _Beside(target)
    try:
        with disk_words(target), av.open(str(picture)) as source:
            _check_streams(source, picture)
            with (
                closing(Sink(beside.path)) as sink,
                av.open(sink, "w", format=CONTAINERS[suffix], options=_clock(suffix, sound.rate)) as out,
            ):
                out.metadata.update(source.metadata)

                def told(share: float) -> None:
                    sink.check()
                    progress(share)

                _copy(source, out, sound, PCM_IN.get(suffix) if plain else None, bitrate_kbps, told)
            sink.check()
        beside.keep()
    except PuliziaError:
        beside.drop()
        raise
    except (av.error.FFmpegError, ValueError) as error:
        beside.drop()
        message = f"{picture.name} cannot be written as {target.suffix} ({error}). Choose .mkv, which takes nearly every stream."
        raise MediaError(message) from error
    except BaseException:
        beside.drop()
        raise


def _clock(suffix: str, rate: int) -> dict[str, str]:
    """The container's clock ticks as the sound does: else where the sound begins is rounded to a millisecond."""
    return {} if suffix == ".mkv" else {"movie_timescale": str(rate)}


def _check_streams(source: Any, picture: Path) -> None:  # noqa: ANN401
    if not source.streams.video:
        message = f"{picture.name} has no picture. Deliver a sound file instead."
        raise MediaError(message)
    if not source.streams.audio:
        message = f"{picture.name} has no sound stream whose place the new sound could take."
        raise MediaError(message)


def _copy(
    source: Any,  # noqa: ANN401
    out: Any,  # noqa: ANN401
    sound: Source,
    pcm: str | None,
    bitrate_kbps: int,
    progress: Callable[[float], None],
) -> None:
    replaced = source.streams.audio[0]
    made, copied = _streams(source, out, sound, pcm, bitrate_kbps)
    start = Fraction(replaced.start_time or 0) * (replaced.time_base or Fraction(0))
    if hasattr(source, "chapters") and hasattr(out, "set_chapters") and source.chapters():
        out.set_chapters(source.chapters())
    packets = _sound_packets(made, sound, start, progress)
    ready = next(packets, None)
    for packet in source.demux(*[source.streams[index] for index in copied]):
        if packet.size == 0:
            continue
        at = float((packet.dts if packet.dts is not None else packet.pts or 0) * packet.time_base)
        while ready is not None and float((ready.dts or 0) * ready.time_base) <= at:
            out.mux(ready)
            ready = next(packets, None)
        packet.stream = copied[packet.stream.index]
        out.mux(packet)
    while ready is not None:
        out.mux(ready)
        ready = next(packets, None)


def _streams(source: Any, out: Any, sound: Source, pcm: str | None, bitrate_kbps: int) -> tuple[Any, dict[int, Any]]:  # noqa: ANN401
    """The new sound stream, and the streams that are copied, by their index in the source."""
    replaced = source.streams.audio[0]
    copied: dict[int, Any] = {}
    made: Any = None
    for stream in source.streams:
        if stream.index == replaced.index:
            made = out.add_stream(pcm or "aac", rate=sound.rate)
            made.codec_context.layout = LAYOUTS.get(sound.channels, f"{sound.channels}c")
            made.codec_context.format = "s32" if pcm else "fltp"
            made.time_base = Fraction(1, sound.rate)
            made.metadata.update(replaced.metadata)
            if not pcm:
                made.bit_rate = 1000 * bitrate_kbps
        elif stream.type in ("video", "audio", "subtitle", "data"):
            try:
                copied[stream.index] = out.add_stream_from_template(stream)
                copied[stream.index].metadata.update(stream.metadata)
            except (ValueError, TypeError):
                continue  # a stream of a kind that the container does not know: timecode tracks into MKV
    return made, copied


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
