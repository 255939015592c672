# SPDX-License-Identifier: GPL-3.0-or-later
"""Uncompressed WAV sound, read in place through a memory map and never loaded whole."""

from __future__ import annotations

import mmap
import threading
from collections.abc import Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import content_key
from pulizia.errors import MediaError
from pulizia.media.identity import whole_digest
from pulizia.media.wav_chunks import IEEE_FLOAT, PCM, WavLayout
from pulizia.words import tr

CODINGS = {(PCM, 8), (PCM, 16), (PCM, 24), (PCM, 32), (PCM, 64), (IEEE_FLOAT, 32), (IEEE_FLOAT, 64)}
SMALL_BYTES = 4 << 20
PIECE = 1 << 14  # samples that stay in the cache from one step to the next
LOUDEST = 1e4  # +80 dBFS: anything above is not sound but damage


def can_map(layout: WavLayout) -> bool:
    """Whether the coding is one that is read in place."""
    coding = (layout.tag, layout.bits)
    return coding in CODINGS and layout.frame_bytes == layout.channels * layout.bits // 8


class PcmSource:
    """The samples of a mapped WAV file.

    ``cleaned`` becomes True once a not-a-number, an infinity or a value above +80 dBFS was met in
    what was read; such samples are given out as silence. A file that somebody else writes to while it is
    read is noticed; ``own`` files lie in the cache, where nobody does.
    """

    def __init__(self, path: Path, layout: WavLayout, identity: str, *, own: bool = False) -> None:
        self.rate = layout.rate
        self.channels = layout.channels
        self.frames = layout.frames
        self.key = content_key("file", identity)
        self.cleaned = False
        self._path = path
        self._layout = layout
        self._lock = threading.Lock()
        size = path.stat().st_size
        with path.open("rb") as file:
            self._map = mmap.mmap(file.fileno(), size, access=mmap.ACCESS_READ)
        self._size = size
        self._own = own
        found = path.stat()
        self._seen_at = (found.st_mtime_ns, found.st_ino)
        # of everything, once it is known: at once where that costs no more than a quick look
        self.digest = whole_digest(path) if not own and size <= SMALL_BYTES else ""

    @property
    def path(self) -> Path:
        """The file that is mapped."""
        return self._path

    def span_key(self, start: int, stop: int) -> str:
        """Key of a stretch."""
        return content_key(self.key, start, stop)

    def read(self, start: int, stop: int) -> Samples:
        """Samples of [start, stop), converted to float32."""
        return self.read_channels(start, stop, range(self.channels))

    def read_channels(self, start: int, stop: int, channels: Sequence[int]) -> Samples:
        """Samples of [start, stop) of some channels, in this order; the others are not looked at."""
        self._check_still_there()
        layout = self._layout
        place = layout.data_start + start * layout.frame_bytes
        planar = np.empty((len(channels), stop - start), dtype=np.float32)
        if stop <= start:
            return planar
        for row, channel in zip(planar, channels, strict=True):
            _decode(row, self._map, place + channel * (layout.bits // 8), layout)
        return self._clean(planar) if layout.tag == IEEE_FLOAT else planar

    def high_words(self, start: int, stop: int) -> NDArray[np.int16] | None:
        """The top 16 bits of each sample, (frames, channels), without a copy; None for float.

        Peaks for drawing need no more, and finding them here is several times faster.
        """
        layout = self._layout
        width = layout.bits // 8
        if layout.tag != PCM or layout.bits not in (16, 24, 32):
            return None
        self._check_still_there()
        return np.ndarray(
            shape=(stop - start, layout.channels),
            dtype="<i2",
            buffer=self._map,
            offset=layout.data_start + start * layout.frame_bytes + width - 2,
            strides=(layout.frame_bytes, width),
        )

    def _check_still_there(self) -> None:
        # Reading a map beyond a file that somebody cut short ends the process, so look first.
        try:
            found = self._path.stat()
        except OSError as error:
            message = tr("{name} is no longer there. Put it back or relink the recording.", name=self._path.name)
            raise MediaError(message) from error
        if found.st_size < self._size:
            message = tr("{name} was cut short by another program. Reopen or relink it.", name=self._path.name)
            raise MediaError(message)
        if self._own or (found.st_mtime_ns, found.st_ino) == self._seen_at:
            return
        if not self.digest or whole_digest(self._path) != self.digest:
            message = tr("{name} was changed by another program. Reopen or relink it.", name=self._path.name)
            raise MediaError(message)
        self._seen_at = (found.st_mtime_ns, found.st_ino)

    def _clean(self, planar: Samples) -> Samples:
        good = np.abs(planar) <= LOUDEST  # False for NaN as well
        if good.all():
            return planar
        with self._lock:
            self.cleaned = True
        return np.where(good, planar, np.float32(0.0))


def _decode(out: NDArray[np.float32], view: mmap.mmap, place: int, layout: WavLayout) -> None:
    """One channel as float32, read in place; integers are divided by 2^(bits-1). ``place`` is the byte of its first sample."""
    integers, floats = {8: "u1", 16: "<i2", 32: "<i4", 64: "<i8"}, {32: "<f4", 64: "<f8"}
    kinds = integers if layout.tag == PCM else floats
    step = (layout.frame_bytes,)
    if layout.tag == PCM and layout.bits == 24:
        _decode_24(out, view, place, layout.frame_bytes)
        return
    codes = np.ndarray(len(out), kinds[layout.bits], view, place, step)
    if layout.tag == IEEE_FLOAT:
        with np.errstate(over="ignore"):
            out[:] = codes
    elif layout.bits == 8:
        np.subtract(codes, np.float32(128.0), out=out)
        out *= np.float32(2.0**-7)
    elif layout.bits == 16:
        np.multiply(codes, np.float32(2.0**-15), out=out)
    else:
        for first in range(0, len(out), PIECE):
            out[first : first + PIECE] = codes[first : first + PIECE] * 2.0 ** (1 - layout.bits)


def _decode_24(out: NDArray[np.float32], view: mmap.mmap, place: int, step: int) -> None:
    """The top two bytes of each sample and the lowest one, both read in place, piece by piece as the cache holds them.

    Three to six times as fast as packing words of four bytes, and the same samples: all of it is exact.
    """
    high = np.ndarray(len(out), "<i2", view, place + 1, (step,))
    low = np.ndarray(len(out), np.uint8, view, place, (step,))
    for first in range(0, len(out), PIECE):
        part = out[first : first + PIECE]
        part[:] = high[first : first + PIECE]
        part *= np.float32(256.0)
        part += low[first : first + PIECE]
        part *= np.float32(2.0**-23)
