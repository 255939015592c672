"""Cue points of WAV files: the chunks "cue " and LIST "adtl" with their labels (RIFF, 1994)."""

from __future__ import annotations

import struct
from collections.abc import Sequence

from pulizia.audio.markers import Marker

LARGEST_POSITION = 0xFFFFFFFF


def parse_cues(cue: bytes, lists: Sequence[bytes]) -> tuple[Marker, ...]:
    """Cue points with the names that the lists give them; damaged entries are left out."""
    names: dict[int, str] = {}
    for body in lists:
        if body[:4] == b"adtl":
            names |= _labels(body[4:])
    count = struct.unpack("<I", cue[:4])[0] if len(cue) >= 4 else 0
    found = []
    for n in range(min(count, (len(cue) - 4) // 24)):
        identity, position, _, _, _, offset = struct.unpack("<II4sIII", cue[4 + 24 * n : 28 + 24 * n])
        found.append(Marker(offset or position, names.get(identity) or f"Cue {identity}"))
    return tuple(sorted(found))


def _labels(body: bytes) -> dict[int, str]:
    found: dict[int, str] = {}
    position = 0
    while position + 12 <= len(body):
        kind, length = struct.unpack("<4sI", body[position : position + 8])
        if kind == b"labl" and length >= 4:
            identity = struct.unpack("<I", body[position + 8 : position + 12])[0]
            text = body[position + 12 : position + 8 + length].split(b"\0")[0]
            found[identity] = _decoded(text)
        position += 8 + length + (length & 1)
    return found


def _decoded(text: bytes) -> str:
    try:
        return text.decode("utf-8").strip()
    except UnicodeDecodeError:
        return text.decode("latin-1").strip()


def cue_chunks(markers: Sequence[Marker]) -> bytes:
    """Both chunks for the end of a file; nothing for no markers."""
    kept = [m for m in markers if m.frame <= LARGEST_POSITION]
    if not kept:
        return b""
    points = b"".join(struct.pack("<II4sIII", n, m.frame, b"data", 0, 0, m.frame) for n, m in enumerate(kept, 1))
    labels = b"".join(
        _chunk(b"labl", struct.pack("<I", n) + m.name.encode("utf-8") + b"\0") for n, m in enumerate(kept, 1)
    )
    return _chunk(b"cue ", struct.pack("<I", len(kept)) + points) + _chunk(b"LIST", b"adtl" + labels)


def _chunk(name: bytes, body: bytes) -> bytes:
    return struct.pack("<4sI", name, len(body)) + body + b"\0" * (len(body) & 1)
