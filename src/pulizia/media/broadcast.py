# SPDX-License-Identifier: GPL-3.0-or-later
"""Broadcast metadata of WAV files: the bext chunk (EBU Tech 3285, version 2) and iXML."""

from __future__ import annotations

import struct
from dataclasses import dataclass, replace
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
    """What bext and iXML chunks say besides loudness. Dates are yyyy-mm-dd, times hh:mm:ss.

    There is no UMID: one belongs to the material of the source, and what was made of it is other material.
    """

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
    circled: str = ""
    ubits: str = ""
    file_uid: str = ""
    timecode_rate: str = ""
    timecode_flag: str = ""
    channel_names: tuple[str, ...] = ()

    def after(self, words: str, *, rate: int, channels: int, bits: int) -> Broadcast:
        """With one more line of coding history (EBU Recommendation R 98): what was done, and in which form it is now."""
        layout = {1: "mono", 2: "stereo"}.get(channels, "multi")
        line = f"A=PCM,F={rate},W={bits},M={layout},T={words.replace(',', ';')}"
        return replace(self, history="".join(f"{row}\r\n" for row in (*self.history.splitlines(), line) if row))

    def named(self, channels: int) -> Broadcast:
        """With names of channels only where there is one for each."""
        return self if len(self.channel_names) == channels else replace(self, channel_names=())


def bext_chunk(broadcast: Broadcast, loudness: Loudness = Loudness()) -> bytes:
    """The chunk with its head, padded to even length."""

    def text(value: str, length: int) -> bytes:
        return value.encode("latin-1", "replace")[:length].ljust(length, b"\0")

    def hundredths(value: float | None) -> int:
        return UNSET if value is None else max(-32_768, min(32_766, round(100 * value)))

    frames = min(max(broadcast.frames_since_midnight, 0), (1 << 63) - 1)
    body = (
        text(broadcast.description, 256) + text(broadcast.originator, 32) + text(broadcast.reference, 32)
        + text(broadcast.date, 10) + text(broadcast.time, 8)
        + struct.pack("<IIH", frames & 0xFFFFFFFF, frames >> 32, 2) + bytes(64)
        + struct.pack(
            "<hhhhh", hundredths(loudness.integrated_lufs), hundredths(loudness.range_lu), hundredths(loudness.true_peak_dbtp),
            hundredths(loudness.momentary_lufs), hundredths(loudness.short_term_lufs),
        )
        + bytes(180)
    )  # fmt: skip
    assert len(body) == BEXT_FIXED  # noqa: S101 - Tech 3285, table 1
    body += broadcast.history.encode("latin-1", "replace")
    body += b"\0" if len(body) & 1 else b""
    return struct.pack("<4sI", b"bext", len(body)) + body


IXML_ROWS = (
    ("PROJECT", "project"), ("SCENE", "scene"), ("TAKE", "take"), ("TAPE", "tape"), ("NOTE", "note"), ("CIRCLED", "circled"),
    ("UBITS", "ubits"), ("FILE_UID", "file_uid"),
)  # fmt: skip
"""Elements of iXML 1.5 and the fields in which they are kept."""


def ixml_chunk(broadcast: Broadcast, *, rate: int = 0) -> bytes:
    """IXML 1.5 with what is known and the names of the channels; b"" when nothing is known.

    ``rate`` is that of the sound, in which times stand in it.
    """
    parts = [f"<{tag}>{escape(value)}</{tag}>" for tag, name in IXML_ROWS if (value := getattr(broadcast, name))]
    if broadcast.timecode_rate:
        speed = [("TIMECODE_RATE", broadcast.timecode_rate), ("TIMECODE_FLAG", broadcast.timecode_flag)]
        if rate:
            speed += [("FILE_SAMPLE_RATE", str(rate)), ("TIMESTAMP_SAMPLE_RATE", str(rate))]
            speed += [("TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_HI", str(broadcast.frames_since_midnight >> 32))]
            speed += [("TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_LO", str(broadcast.frames_since_midnight & 0xFFFFFFFF))]
        parts.append("<SPEED>" + "".join(f"<{tag}>{escape(v)}</{tag}>" for tag, v in speed if v) + "</SPEED>")
    if any(broadcast.channel_names):
        tracks = "".join(
            f"<TRACK><CHANNEL_INDEX>{n}</CHANNEL_INDEX><INTERLEAVE_INDEX>{n}</INTERLEAVE_INDEX><NAME>{escape(name)}</NAME></TRACK>"
            for n, name in enumerate(broadcast.channel_names, 1)
        )
        parts.append(f"<TRACK_LIST><TRACK_COUNT>{len(broadcast.channel_names)}</TRACK_COUNT>{tracks}</TRACK_LIST>")
    if not parts:
        return b""
    text = f'<?xml version="1.0" encoding="UTF-8"?>\n<BWFXML><IXML_VERSION>1.5</IXML_VERSION>{"".join(parts)}</BWFXML>'
    body = text.encode("utf-8")
    body += b" " if len(body) & 1 else b""
    return struct.pack("<4sI", b"iXML", len(body)) + body
