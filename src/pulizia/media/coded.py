# SPDX-License-Identifier: GPL-3.0-or-later
"""Sound in any other coding: decoded once into a cache file that is then read in place.

The only importer of soundfile for reading and of av. Compressed sound is never bit-identical after
a seek, so it is decoded from its start, once.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from pulizia.audio.layouts import mask_of, names_of_mask
from pulizia.audio.samples import Samples
from pulizia.errors import MediaError, PuliziaError
from pulizia.media.tags import flac_mask
from pulizia.media.write import RawWriter
from pulizia.words import tr

if TYPE_CHECKING:
    import av.container

Progress = Callable[[float], None]
LIBSNDFILE_SUFFIXES = {".flac", ".aif", ".aiff", ".aifc", ".ogg", ".oga", ".opus", ".w64", ".caf", ".au"}  # fmt: skip
BLOCK_FRAMES = 1 << 17
CODEC_WORDS = {
    "ac3": "AC-3", "eac3": "E-AC-3", "vorbis": "Vorbis", "opus": "Opus", "h264": "H.264", "hevc": "H.265", "prores": "ProRes",
    "dnxhd": "DNxHD", "mpeg4": "MPEG-4", "mpeg2video": "MPEG-2", "mjpeg": "Motion JPEG", "dav1d": "AV1",
}  # fmt: skip
"""Codecs whose names are not just capitals, by the library's names."""
ATTACHED = 1024  # the flag of a still picture that belongs to a file
NAMES = "channel_names"  # in what decoding says: names of the channels, blanks between them
WAV_ORDER = ("L", "R", "C", "LFE", "Lb", "Rb", "Cs", "Ls", "Rs")
VORBIS_ORDER: dict[int, tuple[str, ...]] = {
    3: ("L", "C", "R"),
    4: ("L", "R", "Ls", "Rs"),
    5: ("L", "C", "R", "Ls", "Rs"),
    6: ("L", "C", "R", "Ls", "Rs", "LFE"),
    7: ("L", "C", "R", "Ls", "Rs", "Cs", "LFE"),
    8: ("L", "C", "R", "Ls", "Rs", "Lb", "Rb", "LFE"),
}
"""Channels of Vorbis (Vorbis I specification, 4.3.9) and of Opus, mapping family 1 (RFC 7845, 5.1.1.2)."""
FLAC_MASKS = {3: 0x7, 4: 0x33, 5: 0x37, 6: 0x3F, 7: 0x70F, 8: 0x63F}
"""Channels of FLAC (RFC 9639, 9.1.3), as masks of WAV files."""
AV_NAMES = {
    "FL": "L", "FR": "R", "FC": "C", "LFE": "LFE", "BL": "Lb", "BR": "Rb", "SL": "Ls", "SR": "Rs", "BC": "Cs",
    "FLC": "Lc", "FRC": "Rc",
}  # fmt: skip
SMALLEST_GAP_S = 0.05  # Matroska rounds times to 1 ms; a true gap is a missing packet (20 ms) or more


def decode_into(path: Path, target: Path, progress: Progress) -> dict[str, str]:
    """Decode a file's first sound stream into a float WAV at ``target``; return what it says.

    ``progress`` is called with 0..1 and may raise to stop.

    Raises
    ------
    MediaError
        When the file holds no sound that can be decoded.
    """
    if path.suffix.lower() in LIBSNDFILE_SUFFIXES:
        try:
            return _decode_libsndfile(path, target, progress)
        except MediaError:
            pass  # a wrong ending; the next reader looks at the content
    return _decode_av(path, target, progress)


def _decode_libsndfile(path: Path, target: Path, progress: Progress) -> dict[str, str]:
    import soundfile

    try:
        with soundfile.SoundFile(str(path)) as file:
            if file.frames == 0:
                message = tr("{name} holds no sound: it is 0 seconds long.", name=path.name)
                raise MediaError(message)
            done = 0
            order, names = _layout_of(file.format, file.channels, path)
            with RawWriter(target, rate=file.samplerate, channels=file.channels) as writer:
                while len(block := file.read(BLOCK_FRAMES, dtype="float32", always_2d=True)):
                    writer.write(block.T if order is None else block.T[order])
                    done += len(block)
                    progress(min(1.0, done / file.frames))
            metadata = {"coding": _coding_words(file.format, file.subtype)}
            return metadata | ({NAMES: " ".join(names)} if names else {})
    except (soundfile.LibsndfileError, RuntimeError) as error:
        message = tr("{name} cannot be decoded: {error}", name=path.name, error=error)
        raise MediaError(message) from error


def _layout_of(kind: str, channels: int, path: Path) -> tuple[list[int] | None, tuple[str, ...]]:
    """In which order the channels are to be taken to stand as in WAV files (None: as they are), and their names."""
    if kind == "OGG" and channels in VORBIS_ORDER:
        stored = VORBIS_ORDER[channels]
        names = names_of_mask(mask_of(tuple(n for n in WAV_ORDER if n in stored)), channels)
        return [stored.index(name) for name in names], names
    if kind == "FLAC" and channels > 2:
        mask = flac_mask(path)
        return None, names_of_mask(FLAC_MASKS.get(channels, 0) if mask is None else mask, channels) or _tracks(channels)
    return None, ()


def _tracks(channels: int) -> tuple[str, ...]:
    return tuple(str(n + 1) for n in range(channels))


def _coding_words(kind: str, subtype: str) -> str:
    """FLAC 16-bit, Ogg Vorbis and the like."""
    bits = {"PCM_S8": "8-bit", "PCM_U8": "8-bit", "PCM_16": "16-bit", "PCM_24": "24-bit", "PCM_32": "32-bit", "FLOAT": tr("32-bit float"), "DOUBLE": tr("64-bit float")}  # fmt: skip
    words = bits.get(subtype, subtype.replace("_", " ").capitalize())
    return f"{kind if len(kind) > 3 or kind == 'CAF' else kind.capitalize()} {words}"


def _codec_words(name: str) -> str:
    """What people call a codec: its own name in capitals, plain samples by their bits."""
    plain = re.fullmatch(r"pcm_([suf])(\d+)(?:le|be)?", name)
    if plain is None:
        plain_name = name.removesuffix("float").removeprefix("lib")
        return CODEC_WORDS.get(plain_name, plain_name.replace("_", " ").upper())
    if plain[1] == "f":
        return tr("64-bit float") if plain[2] == "64" else tr("32-bit float")
    return f"{plain[2]}-bit"


def _decode_av(path: Path, target: Path, progress: Progress) -> dict[str, str]:
    import av
    import av.error
    import av.logging

    av.logging.set_level(None)
    try:
        with av.open(str(path)) as container:
            if not container.streams.audio:
                kind = tr("video without sound") if container.streams.video else tr("no sound")
                message = tr("{name} holds {kind}. Choose a file that has a sound track.", name=path.name, kind=kind)
                raise MediaError(message)
            return _decode_stream(container, path, target, progress)
    except PuliziaError:
        raise
    except (av.error.FFmpegError, OSError, ValueError, IndexError) as error:
        message = tr("{name} is not a readable sound or video file. Use another copy.", name=path.name)
        raise MediaError(message) from error


def _decode_stream(
    container: av.container.InputContainer, path: Path, target: Path, progress: Progress
) -> dict[str, str]:
    stream = container.streams.audio[0]
    codec = getattr(stream, "codec_context", None)  # None where no decoder knows the sound
    rate, channels = (codec.sample_rate, codec.channels) if codec is not None else (0, 0)
    if codec is None or not rate or not channels:
        message = tr(
            "{name} is no sound file, or one in a format that is not known. Choose another, or convert it to WAV first.",
            name=path.name,
        )
        raise MediaError(message)
    expected = max(1.0, float((container.duration or 0) / 1e6) * rate)
    clock = _StreamClock(rate)
    with RawWriter(target, rate=rate, channels=channels) as writer:
        for block in _blocks(container, stream, clock, channels):
            writer.write(block)
            progress(min(1.0, writer.frames / expected))
        if clock.end is not None and 0 < clock.end < writer.frames:
            writer.cut(clock.end)  # AAC and AC-3 decoders keep the padding of the last packet
        if writer.frames == 0:
            message = tr("{name} holds a sound track without any sound in it.", name=path.name)
            raise MediaError(message)
    metadata = {"coding": _codec_words(codec.name)}
    if channels > 2 and (names := _av_names(codec.layout)):
        metadata[NAMES] = " ".join(names)
    moving = [s for s in container.streams.video if not s.disposition & ATTACHED]  # a cover is no picture to go with it
    if moving:
        start = float((stream.start_time or 0) * (stream.time_base or 0))
        metadata["starts_at_s"] = f"{start:.6f}"
        picture = getattr(moving[0], "codec_context", None)
        metadata["picture"] = _codec_words(picture.name) if picture is not None else tr("unknown video")
    timecodes = [str(s.metadata["timecode"]) for s in container.streams if s.metadata.get("timecode")]
    metadata |= {
        k: v for k, v in container.metadata.items() if k in ("title", "artist", "album", "date", "comment", "timecode")
    }
    if timecodes:
        metadata.setdefault("timecode", timecodes[0])
    return metadata


def _av_names(layout: Any) -> tuple[str, ...]:  # noqa: ANN401 - av.AudioLayout
    """Loudspeakers of a stream; () when it does not name them."""
    names = tuple(AV_NAMES.get(channel.name, "") for channel in layout.channels)
    return names_of_mask(mask_of(names), len(names)) if all(names) else ()


class _StreamClock:
    """Watches packet times: where the sound really ends, where packets are missing."""

    def __init__(self, rate: int) -> None:
        self.rate = rate
        self.end: int | None = None

    def saw_packet(self, packet: Any) -> None:  # noqa: ANN401 - av.Packet
        base = packet.time_base
        exact = base is not None and base.numerator == 1 and base.denominator == self.rate
        if exact and packet.pts is not None and packet.duration:
            self.end = packet.pts + packet.duration


def _blocks(container: Any, stream: Any, clock: _StreamClock, channels: int) -> Iterator[Samples]:  # noqa: ANN401
    import av
    import av.error

    resampler = av.AudioResampler(format="fltp")
    position: float | None = None
    for packet in container.demux(stream):
        if packet.size == 0 and packet.dts is not None:
            continue
        clock.saw_packet(packet)
        try:
            frames = packet.decode()
        except av.error.InvalidDataError:
            continue  # a damaged packet; the gap it leaves is filled with silence below
        for frame in frames:
            if frame.pts is not None and frame.time_base is not None:
                start = float(frame.pts * frame.time_base)
                if position is not None and start - position > SMALLEST_GAP_S:
                    yield np.zeros((channels, round((start - position) * clock.rate)), np.float32)
                    position = start
                position = start if position is None else position
            for whole in resampler.resample(frame):
                block = whole.to_ndarray().astype(np.float32, copy=False)
                position = (position or 0.0) + block.shape[1] / clock.rate
                yield block
