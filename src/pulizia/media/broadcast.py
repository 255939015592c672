"""Broadcast metadata of WAV files: the bext chunk (EBU Tech 3285, version 2) and iXML."""

from __future__ import annotations

import hashlib
import struct
from dataclasses import dataclass
from xml.sax.saxutils import escape

BEXT_FIXED = 602  # bytes before the coding history
UNSET = 0x7FFF  # of loudness fields that carry no value (Tech 3285 v2, 2.4)


@dataclass(frozen=True, slots=True, kw_only=True)
class Loudness:
    """Figures of version 2, in LUFS, LU and dBTP; None leaves a field unset."""

    integrated_lufs: float | None = None
    range_lu: float | None = None
    true_peak_dbtp: float | None = None
    momentary_lufs: float | None = None
    short_term_lufs: float | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Broadcast:
    """What a bext chunk says besides loudness. Dates are yyyy-mm-dd, times hh:mm:ss."""

    description: str = ""
    originator: str = ""
    reference: str = ""
    date: str = ""
    time: str = ""
    frames_since_midnight: int = 0
    history: str = ""
    scene: str = ""
    take: str = ""
    tape: str = ""
    project: str = ""
    note: str = ""
    channel_names: tuple[str, ...] = ()


def bext_chunk(said: Broadcast, loudness: Loudness = Loudness()) -> bytes:
    """The chunk with its head, padded to even length."""

    def text(value: str, length: int) -> bytes:
        return value.encode("latin-1", "replace")[:length].ljust(length, b"\0")

    def hundredths(value: float | None) -> int:
        return UNSET if value is None else max(-32_768, min(32_766, round(100 * value)))

    identity = hashlib.blake2b(repr(said).encode(), digest_size=32).digest().ljust(64, b"\0")  # own UMID-shaped mark
    frames = min(max(said.frames_since_midnight, 0), (1 << 63) - 1)
    body = (
        text(said.description, 256) + text(said.originator, 32) + text(said.reference, 32)
        + text(said.date, 10) + text(said.time, 8)
        + struct.pack("<IIH", frames & 0xFFFFFFFF, frames >> 32, 2) + identity
        + struct.pack(
            "<hhhhh", hundredths(loudness.integrated_lufs), hundredths(loudness.range_lu), hundredths(loudness.true_peak_dbtp),
            hundredths(loudness.momentary_lufs), hundredths(loudness.short_term_lufs),
        )
        + bytes(180)
    )  # fmt: skip
    assert len(body) == BEXT_FIXED  # noqa: S101 - Tech 3285, table 1
    body += said.history.encode("latin-1", "replace")
    body += b"\0" if len(body) & 1 else b""
    return struct.pack("<4sI", b"bext", len(body)) + body


def ixml_chunk(said: Broadcast) -> bytes:
    """IXML 1.5 with scene, take, tape, project, note and the names of the channels; b"" when nothing is known."""
    rows = [
        (tag, getattr(said, name))
        for tag, name in (
            ("PROJECT", "project"),
            ("SCENE", "scene"),
            ("TAKE", "take"),
            ("TAPE", "tape"),
            ("NOTE", "note"),
        )
    ]
    parts = [f"<{tag}>{escape(value)}</{tag}>" for tag, value in rows if value]
    if any(said.channel_names):
        tracks = "".join(
            f"<TRACK><CHANNEL_INDEX>{n}</CHANNEL_INDEX><INTERLEAVE_INDEX>{n}</INTERLEAVE_INDEX><NAME>{escape(name)}</NAME></TRACK>"
            for n, name in enumerate(said.channel_names, 1)
        )
        parts.append(f"<TRACK_LIST><TRACK_COUNT>{len(said.channel_names)}</TRACK_COUNT>{tracks}</TRACK_LIST>")
    if not parts:
        return b""
    text = f'<?xml version="1.0" encoding="UTF-8"?>\n<BWFXML><IXML_VERSION>1.5</IXML_VERSION>{"".join(parts)}</BWFXML>'
    body = text.encode("utf-8")
    body += b" " if len(body) & 1 else b""
    return struct.pack("<4sI", b"iXML", len(body)) + body
