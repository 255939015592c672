# SPDX-License-Identifier: GPL-3.0-or-later
"""Cue points and regions of WAV files: the chunks "cue " and LIST "adtl" with labels, notes and lengths (RIFF, 1994)."""

from __future__ import annotations

import struct
from collections import defaultdict
from collections.abc import Iterator, Sequence

from pulizia.audio.markers import Marker

LARGEST_POSITION = 0xFFFFFFFF


def parse_cues(cue: bytes, lists: Sequence[bytes]) -> tuple[Marker, ...]:
    """Cue points with the names, notes and lengths that the lists give them; damaged entries are left out."""
    texts: dict[int, dict[str, str]] = defaultdict(dict)
    lengths: dict[int, int] = {}
    for body in lists:
        if body[:4] != b"adtl":
            continue
        for kind, entry in chunks_of(body[4:]):
            identity = struct.unpack("<I", entry[:4])[0] if len(entry) >= 4 else 0
            if kind in (b"labl", b"note"):
                texts[identity][kind.decode()] = decoded(entry[4:])
            elif kind == b"ltxt" and len(entry) >= 8:
                lengths[identity] = struct.unpack("<I", entry[4:8])[0]
                if text := decoded(entry[20:]):
                    texts[identity].setdefault("note", text)
    count = struct.unpack("<I", cue[:4])[0] if len(cue) >= 4 else 0
    found = []
    for n in range(min(count, (len(cue) - 4) // 24)):
        identity, position, _, _, _, offset = struct.unpack("<II4sIII", cue[4 + 24 * n : 28 + 24 * n])
        words = texts[identity]
        name = words.get("labl") or _("Cue {identity}", identity=identity)
        found.append(Marker(offset or position, name, lengths.get(identity, 0), words.get("note", "")))
    return tuple(sorted(found))


def chunks_of(body: bytes) -> Iterator[tuple[bytes, bytes]]:
    """Names and contents of the small chunks inside a list; a cut last one is given as far as it goes."""
    position = 0
    while position + 8 <= len(body):
        kind, length = struct.unpack("<4sI", body[position : position + 8])
        yield kind, body[position + 8 : position + 8 + length]
        position += 8 + length + (length & 1)


def decoded(text: bytes) -> str:
    """Text up to its first zero, as UTF-8 where it is that, else as Latin-1."""
    text = text.split(b"\0")[0]
    try:
        return text.decode("utf-8").strip()
    except UnicodeDecodeError:
        return text.decode("latin-1").strip()


def cue_chunks(markers: Sequence[Marker]) -> bytes:
    """Both chunks for the end of a file; nothing for no markers."""
    kept = [m for m in markers if 0 <= m.frame <= LARGEST_POSITION]
    if not kept:
        return b""
    points, entries = b"", b""
    for n, m in enumerate(kept, 1):
        identity = struct.pack("<I", n)
        points += struct.pack("<II4sIII", n, m.frame, b"data", 0, 0, m.frame)
        entries += chunk(b"labl", identity + m.name.encode("utf-8") + b"\0")
        if m.note:
            entries += chunk(b"note", identity + m.note.encode("utf-8") + b"\0")
        if m.frames:
            region = struct.pack("<I4sHHHH", min(m.frames, LARGEST_POSITION), b"rgn ", 0, 0, 0, 0)
            entries += chunk(b"ltxt", identity + region)
    return chunk(b"cue ", struct.pack("<I", len(kept)) + points) + chunk(b"LIST", b"adtl" + entries)


def chunk(name: bytes, body: bytes) -> bytes:
    """A chunk with its head, padded to even length."""
    return struct.pack("<4sI", name, len(body)) + body + b"\0" * (len(body) & 1)
