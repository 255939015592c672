# SPDX-License-Identifier: GPL-3.0-or-later
"""RIFF/WAVE, RF64 and BW64 files chunk by chunk: where the samples lie and what is said of them.

Layouts: RIFF/WAVE (multimedia programming interface 1.0), EBU Tech 3306 (RF64), ITU-R BS.2088
(BW64), EBU Tech 3285 v2 (bext), iXML 1.5.
"""

from __future__ import annotations

import os
import struct
from dataclasses import dataclass, field
from pathlib import Path
from typing import BinaryIO

from defusedxml import DefusedXmlException, ElementTree

from pulizia.audio.markers import Marker
from pulizia.errors import MediaError
from pulizia.media.broadcast import BEXT_FIXED, IXML_ROWS
from pulizia.media.cues import parse_cues
from pulizia.media.tags import parse_info
from pulizia.words import tr

PCM, IEEE_FLOAT, EXTENSIBLE = 1, 3, 0xFFFE
UNKNOWN_SIZE = 0xFFFFFFFF
LARGEST_TEXT_CHUNK = 1 << 20  # metadata larger than this is not a recorder's
LARGEST_CHUNK_COUNT = 10_000
SHORTEST_LEFT_S = 0.05  # of sound behind the declared end that is not just padding


@dataclass(frozen=True, slots=True, kw_only=True)
class WavLayout:
    """Where the samples of a WAV file lie and how they are coded."""

    tag: int
    channels: int
    rate: int
    bits: int
    frame_bytes: int
    data_start: int
    frames: int
    truncated: bool
    unfinished: bool = False  # the recorder never wrote the length: all that is there counts
    mask: int = 0  # of loudspeakers; 0 where the file names none
    metadata: dict[str, str] = field(default_factory=dict)
    channel_names: tuple[str, ...] = ()
    cues: tuple[Marker, ...] = ()


def is_wav(path: Path) -> bool:
    """Whether the first bytes are those of a WAVE file."""
    with path.open("rb") as file:
        head = file.read(12)
    return head[:4] in (b"RIFF", b"RF64", b"BW64") and head[8:12] == b"WAVE"


def read_layout(path: Path) -> WavLayout:
    """Walk the chunks of a WAV file.

    Raises
    ------
    MediaError
        When the file has no format or no sound chunk, or they contradict each other.
    """
    size = os.path.getsize(path)
    with path.open("rb") as file:
        chunks, wide_sizes = _walk(file, size, path)
        if b"fmt " not in chunks:
            message = tr("{name} has no format chunk: it is damaged. Use another copy.", name=path.name)
            raise MediaError(message)
        if b"data" not in chunks:
            message = tr("{name} ends before its sound begins. Use another copy.", name=path.name)
            raise MediaError(message)
        tag, channels, rate, frame_bytes, bits, mask = _read_format(file, chunks[b"fmt "], path)
        data_start, declared_size = chunks[b"data"]
        if declared_size == UNKNOWN_SIZE:
            declared_size = wide_sizes.get(b"data", size - data_start)
        unfinished = _is_unfinished(file, size, data_start, declared_size, rate * frame_bytes)
        if unfinished:
            declared_size = size - data_start
        present = max(0, min(declared_size, size - data_start))
        lists = [_body(file, chunks, n) for n in chunks if n[:4] == b"LIST"]
        metadata, names = _read_metadata(file, chunks)
        metadata |= {name: text for name, text in parse_info(lists).items() if name not in metadata}
        cues = parse_cues(_body(file, chunks, b"cue "), lists)
    return WavLayout(
        tag=tag,
        channels=channels,
        rate=rate,
        bits=bits,
        frame_bytes=frame_bytes,
        data_start=data_start,
        frames=present // frame_bytes,
        truncated=present < declared_size,
        unfinished=unfinished,
        mask=mask,
        metadata=metadata,
        channel_names=names,
        cues=cues,
    )


def _walk(file: BinaryIO, size: int, path: Path) -> tuple[dict[bytes, tuple[int, int]], dict[bytes, int]]:
    chunks: dict[bytes, tuple[int, int]] = {}
    wide_sizes: dict[bytes, int] = {}
    position = 12
    for _ in range(LARGEST_CHUNK_COUNT):
        if position + 8 > size:
            return chunks, wide_sizes
        file.seek(position)
        name, length = struct.unpack("<4sI", file.read(8))
        if name == b"LIST":  # there may be several, of different kinds
            name += str(len(chunks)).encode()
        chunks.setdefault(name, (position + 8, length))
        name = name[:4]
        if name == b"ds64" and length >= 24:
            _, data_size, _ = struct.unpack("<QQQ", file.read(24))
            wide_sizes[b"data"] = data_size
        if length == UNKNOWN_SIZE:
            length = wide_sizes.get(name, size - position - 8)
        position += 8 + length + (length & 1)
    message = tr(
        "{name} has more than {largest_chunk_count} chunks: it is damaged.",
        name=path.name,
        largest_chunk_count=LARGEST_CHUNK_COUNT,
    )
    raise MediaError(message)


def _is_unfinished(file: BinaryIO, size: int, start: int, declared: int, second_bytes: int) -> bool:
    """Whether more sound follows than the header says: a recorder that lost power had not written the length yet.

    After a sound chunk of the right length comes the end of the file, another chunk, or a little padding.
    """
    end = start + declared + (declared & 1)
    if size - end < second_bytes * SHORTEST_LEFT_S:
        return False
    file.seek(end)
    head = file.read(1 << 16)
    name, length = struct.unpack("<4sI", head[:8])
    is_chunk = all(32 <= byte < 127 for byte in name) and (length <= size - end - 8 or declared > 0)
    return not is_chunk and any(head)


def _read_format(file: BinaryIO, place: tuple[int, int], path: Path) -> tuple[int, int, int, int, int, int]:
    start, length = place
    file.seek(start)
    body = file.read(min(length, 64))
    if len(body) < 16:
        message = tr("{name} has a cut format chunk: it is damaged. Use another copy.", name=path.name)
        raise MediaError(message)
    tag, channels, rate, _, frame_bytes, bits = struct.unpack("<HHIIHH", body[:16])
    mask = 0
    if tag == EXTENSIBLE and len(body) >= 40:
        mask, tag = struct.unpack("<IH", body[20:26])
    if not (channels and rate and frame_bytes):
        message = tr(
            "{name} declares {channels} channels at {rate} Hz: it is damaged.",
            name=path.name,
            channels=channels,
            rate=rate,
        )
        raise MediaError(message)
    return tag, channels, rate, frame_bytes, bits, mask


def _read_metadata(file: BinaryIO, chunks: dict[bytes, tuple[int, int]]) -> tuple[dict[str, str], tuple[str, ...]]:
    metadata: dict[str, str] = {}
    names: tuple[str, ...] = ()
    if body := _body(file, chunks, b"bext"):
        metadata |= _read_bext(body)
    if body := _body(file, chunks, b"iXML"):
        found, names = _read_ixml(body)
        metadata |= found
    return metadata, names


def _body(file: BinaryIO, chunks: dict[bytes, tuple[int, int]], name: bytes) -> bytes:
    if name not in chunks:
        return b""
    start, length = chunks[name]
    file.seek(start)
    return file.read(min(length, LARGEST_TEXT_CHUNK))


def _read_bext(body: bytes) -> dict[str, str]:
    """Fields of EBU Tech 3285: texts, date, time and samples since midnight."""

    def text(start: int, length: int) -> str:
        return body[start : start + length].split(b"\0")[0].decode("latin-1").strip()

    found = {
        "description": text(0, 256),
        "originator": text(256, 32),
        "reference": text(288, 32),
        "date": text(320, 10),
        "time": text(330, 8),
    }
    if len(body) > BEXT_FIXED:
        found["history"] = "\n".join(body[BEXT_FIXED:].split(b"\0")[0].decode("latin-1").split("\r\n")).strip()
    if len(body) >= 346:
        low, high = struct.unpack("<II", body[338:346])
        if low or high:
            found["frames_since_midnight"] = str(low + (high << 32))
    return {name: value for name, value in found.items() if value}


def _read_ixml(body: bytes) -> tuple[dict[str, str], tuple[str, ...]]:
    text = body.rstrip(b"\0 \r\n")
    try:
        root = ElementTree.fromstring(text)
    except (ElementTree.ParseError, DefusedXmlException, ValueError, LookupError):
        return {}, ()
    rows = (*IXML_ROWS, ("SPEED/TIMECODE_RATE", "timecode_rate"), ("SPEED/TIMECODE_FLAG", "timecode_flag"))
    found = {word: value.strip() for tag, word in rows if (value := root.findtext(tag) or "").strip()}
    names = [track.findtext("NAME") or "" for track in root.iterfind("TRACK_LIST/TRACK")]
    return found, tuple(name.strip() for name in names)
