# SPDX-License-Identifier: GPL-3.0-or-later
"""MPEG-4 files with their index in front of the sound, so that they play while they are still being fetched.

ISO/IEC 14496-12: the box "moov" holds the places of all samples, counted from the file's start (boxes
"stco" and "co64"). Moved before "mdat", it makes every place later by its own length.
"""

from __future__ import annotations

import os
import shutil
import struct
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

from pulizia.media.leftovers import temporary_beside

HOLDERS = {b"moov", b"trak", b"mdia", b"minf", b"stbl"}
COPY_BYTES = 1 << 20
LARGEST_INDEX = 1 << 30


def boxes(file: BinaryIO, size: int) -> Iterator[tuple[bytes, int, int]]:
    """Kind, start and length of the boxes of a file, one after the other."""
    at = 0
    while at + 8 <= size:
        file.seek(at)
        length, kind = struct.unpack(">I4s", file.read(8))
        if length == 1:
            length = struct.unpack(">Q", file.read(8))[0]
        elif length == 0:
            length = size - at
        if length < 8 or at + length > size:
            return
        yield kind, at, length
        at += length


def index_is_first(path: Path) -> bool:
    """Whether the index stands before the sound; True where there is no such order."""
    size = path.stat().st_size
    with path.open("rb") as file:
        order = [kind for kind, _, _ in boxes(file, size) if kind in (b"moov", b"mdat")]
    return not order or order[0] == b"moov" or b"moov" not in order


def put_index_first(path: Path) -> None:
    """Rewrite a finished file with its index before its sound; raises OSError, and then the file is as it was."""
    size = path.stat().st_size
    with path.open("rb") as file:
        found = list(boxes(file, size))
        order = [kind for kind, _, _ in found]
        if b"moov" not in order or b"mdat" not in order or order.index(b"moov") < order.index(b"mdat"):
            return
        if sum(length for _, _, length in found) != size or order.count(b"moov") != 1:
            return
        _, start, length = found[order.index(b"moov")]
        if length > LARGEST_INDEX:
            return
        file.seek(start)
        index = bytearray(file.read(length))
        if not _shifted(index, length):
            return  # a place would no longer fit into its 32 bits: the file is right as it is
        before = found[order.index(b"mdat")][1]
        handle, name = temporary_beside(path.parent)
        try:
            with os.fdopen(handle, "wb") as out:
                for a, b in ((0, before), (None, None), (before, start), (start + length, size)):
                    if a is None or b is None:
                        out.write(index)
                    else:
                        _copy(file, out, a, b)
            shutil.copymode(path, name)
            os.replace(name, path)
        except BaseException:
            Path(name).unlink(missing_ok=True)
            raise


def _copy(file: BinaryIO, out: BinaryIO, start: int, stop: int) -> None:
    file.seek(start)
    while start < stop:
        part = file.read(min(COPY_BYTES, stop - start))
        out.write(part)
        start += len(part)


def _shifted(index: bytearray, by: int) -> bool:
    """Make every place in an index later; False when one cannot be."""
    waiting = [(0, len(index))]
    while waiting:
        at, end = waiting.pop()
        while at + 8 <= end:
            length, kind = struct.unpack(">I4s", index[at : at + 8])
            if length < 8 or at + length > end:
                break
            if kind in HOLDERS:
                waiting.append((at + 8, at + length))
            elif kind in (b"stco", b"co64"):
                width, code = (4, "I") if kind == b"stco" else (8, "Q")
                count = struct.unpack(">I", index[at + 12 : at + 16])[0]
                if 16 + count * width > length:
                    return False
                places = struct.unpack(f">{count}{code}", index[at + 16 : at + 16 + count * width])
                if width == 4 and places and max(places) + by > 0xFFFFFFFF:
                    return False
                index[at + 16 : at + 16 + count * width] = struct.pack(f">{count}{code}", *(p + by for p in places))
            at += length
    return True
