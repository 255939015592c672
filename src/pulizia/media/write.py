# SPDX-License-Identifier: GPL-3.0-or-later
"""Writing sound files: quantised here, written beside the final name and renamed into place."""

from __future__ import annotations

import errno
import os
import struct
from abc import ABC, abstractmethod
from contextlib import contextmanager
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, BinaryIO, Literal, Self

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.layouts import channel_names, mask_of
from pulizia.audio.markers import Marker
from pulizia.audio.samples import Samples
from pulizia.errors import DiskError, MediaError
from pulizia.media.cues import cue_chunks
from pulizia.media.leftovers import temporary_beside
from pulizia.media.tags import NO_TAGS, Tags, info_chunk, write_tags
from pulizia.media.wav_chunks import EXTENSIBLE, IEEE_FLOAT, PCM, UNKNOWN_SIZE
from pulizia.words import tr

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    import soundfile

SampleFormat = Literal["int16", "int24", "float32"]
FileKind = Literal["wav", "flac"]
Dither = Literal["none", "triangular", "shaped"]
BITS: dict[SampleFormat, int] = {"int16": 16, "int24": 24, "float32": 32}
SUBTYPE_GUID = bytes.fromhex("000000001000800000aa00389b71")
LONGEST_SHOWN = 120
HEADER_RESERVE = 28  # a JUNK chunk of this size becomes ds64 above 4 GiB (EBU Tech 3306)


@contextmanager
def disk_words(target: Path) -> Iterator[None]:
    """Turn what the disk says into one sentence that names the file and the way out."""
    try:
        yield
    except OSError as error:
        raise DiskError(disk_sentence(error, target)) from error


def disk_sentence(error: OSError, target: Path) -> str:
    """One sentence for a failed write."""
    folder = target.parent
    if error.errno in (errno.ENOSPC, errno.EDQUOT):
        return tr(
            "The disk is full: {name} was not written. Free some space in {folder}.", name=target.name, folder=folder
        )
    if error.errno in (errno.EACCES, errno.EPERM, errno.EROFS):
        return tr("{folder} cannot be written to. Choose another folder for {name}.", folder=folder, name=target.name)
    if error.errno == errno.ENAMETOOLONG:
        return tr(
            "The name {shortened} is too long for a file. Choose a shorter one.", shortened=shortened(target.name)
        )
    if error.errno == errno.ENOENT:
        return tr("The folder {folder} does not exist. Choose another one for {name}.", folder=folder, name=target.name)
    return tr(
        "{name} could not be written to {folder} ({value}).",
        name=target.name,
        folder=folder,
        value=error.strerror or error,
    )


def shortened(name: str) -> str:
    """A name as it can stand in a sentence."""
    return name if len(name) <= LONGEST_SHOWN else f"{name[:LONGEST_SHOWN]}\u2026"


class _Beside:
    """A temporary file in the target's folder, renamed over the target only when whole."""

    def __init__(self, target: Path) -> None:
        self.target = target
        with disk_words(target):
            handle, name = temporary_beside(target.parent)
            os.close(handle)
            umask = os.umask(0)
            os.umask(umask)
            os.chmod(name, 0o666 & ~umask)
        self.path = Path(name)

    def keep(self) -> None:
        with disk_words(self.target):
            with self.path.open("rb") as file:
                os.fsync(file.fileno())
            self.path.replace(self.target)

    def drop(self) -> None:
        self.path.unlink(missing_ok=True)


def write_text(target: Path, text: str) -> None:
    """Write a text file beside and rename it into place; see :func:`write_bytes`."""
    write_bytes(target, text.encode("utf-8"))


def write_bytes(target: Path, content: bytes) -> None:
    """Write a file beside its name and rename it into place.

    Raises
    ------
    DiskError
        When the disk refuses; an existing file is then unchanged.
    """
    beside = _Beside(target)
    try:
        with disk_words(target):
            beside.path.write_bytes(content)
        beside.keep()
    except BaseException:
        beside.drop()
        raise


def quantised(samples: Samples, bits: int, *, dither: np.random.Generator | None) -> NDArray[np.int32]:
    """Samples as integer codes, rounded to nearest and clipped.

    With ``dither``, 2-LSB triangular noise (TPDF) is added first: the error is then independent of
    the signal (Lipshitz, Wannamaker and Vanderkooy 1992).
    """
    scale = float(1 << (bits - 1))
    codes = samples.astype(np.float64) * scale
    if dither is not None:
        codes += dither.random(codes.shape) - dither.random(codes.shape)
    np.rint(codes, out=codes)
    np.clip(codes, -scale, scale - 1.0, out=codes)
    return codes.astype(np.int32)


class Ditherer:
    """Rounds to integer codes, plainly, with triangular dither, or with dither and shaped error.

    The shaped error follows a filter of three taps that lifts it above 10 kHz, where hearing is dull
    (after S. Lipshitz, J. Vanderkooy, R. Wannamaker, "Minimally audible noise shaping", JAES 39(11),
    1991: their three-tap filter 1.623, -0.982, 0.109, from memory).
    """

    TAPS = (1.623, -0.982, 0.109)

    def __init__(self, dither: Dither, channels: int) -> None:
        self._kind = dither
        self._random = None if dither == "none" else np.random.default_rng(1)
        self._errors = np.zeros((len(self.TAPS), channels))

    def codes(self, planar: Samples, bits: int) -> NDArray[np.int32]:
        """Codes of (frames, channels) samples, following those that came before."""
        if self._kind != "shaped" or self._random is None:
            return quantised(planar, bits, dither=self._random)
        scale = float(1 << (bits - 1))
        wanted = planar.astype(np.float64) * scale
        noise = self._random.random(wanted.shape) - self._random.random(wanted.shape)
        out = np.empty(wanted.shape)
        for channel in range(wanted.shape[1]):
            e1, e2, e3 = self._errors[:, channel].tolist()
            made = []
            t1, t2, t3 = self.TAPS
            for value, dither in zip(wanted[:, channel].tolist(), noise[:, channel].tolist(), strict=True):
                shaped = value - t1 * e1 - t2 * e2 - t3 * e3
                code = round(shaped + dither)
                e1, e2, e3 = code - shaped, e1, e2
                made.append(code)
            self._errors[:, channel] = (e1, e2, e3)
            out[:, channel] = made
        return np.clip(out, -scale, scale - 1.0).astype(np.int32)


class _Writer(ABC):
    """Common part: opened beside, kept on a clean exit, dropped on any error."""

    def __init__(self, target: Path, *, rate: int, channels: int) -> None:
        self.target, self.rate, self.channels = target, rate, channels
        self.frames = 0
        self._beside = _Beside(target)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:  # fmt: skip
        try:
            with disk_words(self.target):
                self._close(whole=kind is None)
            if kind is None:
                self._beside.keep()
        except BaseException:
            self._beside.drop()
            raise
        if kind is not None:
            self._beside.drop()

    def write(self, samples: Samples) -> None:
        """Append (channels, frames) samples."""
        with disk_words(self.target):
            self._append(samples)
        self.frames += samples.shape[1]

    @abstractmethod
    def _append(self, samples: Samples) -> None: ...

    @abstractmethod
    def _close(self, *, whole: bool) -> None: ...


class WavWriter(_Writer):
    """WAV with 16- or 24-bit integers or floats; becomes RF64 when it passes 4 GiB.

    16-bit files are dithered unless ``dither`` is "none". ``chunks`` are whole chunks that stand before
    the sound (bext, iXML, LIST INFO). ``names`` of loudspeakers become the mask; tracks of a recorder have
    none, and without names the usual loudspeakers of that number are meant. The same samples give the same file.
    """

    def __init__(
        self, target: Path, *, rate: int, channels: int, sample_format: SampleFormat, dither: Dither = "triangular",
        markers: Sequence[Marker] = (), chunks: bytes = b"", names: Sequence[str] = (),
    ) -> None:  # fmt: skip
        super().__init__(target, rate=rate, channels=channels)
        self._chunks = chunks
        self._mask = mask_of(channel_names(channels, names))
        self.sample_format = sample_format
        self._cues = cue_chunks(markers)
        self._bits = BITS[sample_format]
        self._dither = Ditherer(dither if sample_format == "int16" else "none", channels)
        self._file: BinaryIO = self._beside.path.open("wb")
        with disk_words(target):
            self._file.write(self._header(0))
        self._data_start = self._file.tell()

    def cut(self, frames: int) -> None:
        """Drop everything after ``frames`` frames."""
        self.frames = frames
        self._file.truncate(self._data_start + frames * self.channels * self._bits // 8)
        self._file.seek(0, os.SEEK_END)

    def _append(self, samples: Samples) -> None:
        planar = np.ascontiguousarray(samples.T)
        if self.sample_format == "float32":
            self._file.write(planar.astype("<f4", copy=False).tobytes())
            return
        codes = self._dither.codes(planar, self._bits)
        if self._bits == 16:
            self._file.write(codes.astype("<i2").tobytes())
        else:
            packed = codes.astype("<i4").view(np.uint8).reshape(-1, 4)[:, :3]
            self._file.write(packed.tobytes())

    def _close(self, *, whole: bool) -> None:
        try:
            if whole:
                data_bytes = self.frames * self.channels * self._bits // 8
                if data_bytes & 1:
                    self._file.write(b"\0")
                self._file.write(self._cues)
                self._file.seek(0)
                self._file.write(self._header(data_bytes))
        finally:
            self._file.close()

    def _header(self, data_bytes: int) -> bytes:
        width = self._bits // 8
        tag = IEEE_FLOAT if self.sample_format == "float32" else PCM
        frame_bytes = self.channels * width
        plain = self.channels <= 2 and (self._bits <= 16 or tag == IEEE_FLOAT)
        head = struct.pack(
            "<HHIIHH", tag if plain else EXTENSIBLE, self.channels, self.rate,
            self.rate * frame_bytes, frame_bytes, self._bits,
        )  # fmt: skip
        if not plain:
            head += struct.pack("<HHIH", 22, self._bits, self._mask, tag) + SUBTYPE_GUID
        elif tag == IEEE_FLOAT:
            head += struct.pack("<H", 0)
        chunks = struct.pack("<4sI", b"fmt ", len(head)) + head
        if tag == IEEE_FLOAT:
            count = data_bytes // frame_bytes
            chunks += struct.pack("<4sII", b"fact", 4, min(count, UNKNOWN_SIZE))
        chunks = self._chunks + chunks
        total = 4 + 8 + HEADER_RESERVE + len(chunks) + 8 + data_bytes + (data_bytes & 1) + len(self._cues)
        if total <= UNKNOWN_SIZE - 8:
            start = struct.pack("<4sI4s4sI", b"RIFF", total, b"WAVE", b"JUNK", HEADER_RESERVE)
            return start + bytes(HEADER_RESERVE) + chunks + struct.pack("<4sI", b"data", data_bytes)
        start = struct.pack("<4sI4s4sI", b"RF64", UNKNOWN_SIZE, b"WAVE", b"ds64", HEADER_RESERVE)
        sizes = struct.pack("<QQQI", total, data_bytes, data_bytes // frame_bytes, 0)
        return start + sizes + chunks + struct.pack("<4sI", b"data", UNKNOWN_SIZE)


class RawWriter(WavWriter):
    """Float WAV for the decode cache: the decoder's samples word for word."""

    def __init__(self, target: Path, *, rate: int, channels: int) -> None:
        super().__init__(target, rate=rate, channels=channels, sample_format="float32")


class FlacWriter(_Writer):
    """FLAC with 16- or 24-bit integers."""

    def __init__(
        self, target: Path, *, rate: int, channels: int, sample_format: SampleFormat, dither: Dither = "triangular",
        tags: Tags = NO_TAGS, names: Sequence[str] = (),
    ) -> None:  # fmt: skip
        import soundfile

        if channels > 2:  # common practice: the mask travels as a comment, 0 for tracks that are no loudspeakers
            mask = mask_of(channel_names(channels, names))
            tags = Tags(dict(tags.texts) | {"channel_mask": f"0x{mask:X}"}, tags.cover)
        self._tags = tags

        if sample_format == "float32":
            message = tr("FLAC cannot hold floats. Choose 16 or 24 bits, or WAV.")
            raise MediaError(message)
        if channels > 8:
            message = tr("FLAC holds at most 8 channels, not {channels}. Choose WAV.", channels=channels)
            raise MediaError(message)
        super().__init__(target, rate=rate, channels=channels)
        self._bits = BITS[sample_format]
        self._dither = Ditherer(dither if sample_format == "int16" else "none", channels)
        try:
            self._file: soundfile.SoundFile = soundfile.SoundFile(
                str(self._beside.path), "w", samplerate=rate, channels=channels, format="FLAC",
                subtype="PCM_16" if self._bits == 16 else "PCM_24",
            )  # fmt: skip
        except soundfile.LibsndfileError as error:
            self._beside.drop()
            message = tr(
                "FLAC cannot be written at {rate} Hz with {channels} channels. Choose WAV.",
                rate=rate,
                channels=channels,
            )
            raise MediaError(message) from error

    def _append(self, samples: Samples) -> None:
        planar = np.ascontiguousarray(samples.T)
        codes = self._dither.codes(planar, self._bits)
        try:
            self._file.write(codes << (32 - self._bits))
        except RuntimeError as error:
            raise OSError(errno.ENOSPC, str(error)) from error

    def _close(self, *, whole: bool) -> None:
        import soundfile

        try:
            self._file.close()
        except soundfile.LibsndfileError as error:
            if whole:
                raise OSError(errno.ENOSPC, str(error)) from error
        if whole:
            write_tags(self._beside.path, "flac", self._tags)


def sound_writer(
    target: Path, *, rate: int, channels: int, sample_format: SampleFormat, kind: FileKind,
    markers: Sequence[Marker] = (), dither: Dither = "triangular", chunks: bytes = b"", tags: Tags = NO_TAGS,
    names: Sequence[str] = (),
) -> WavWriter | FlacWriter:  # fmt: skip
    """A writer for a deliverable; WAV keeps markers as cue points."""
    if kind == "wav":
        return WavWriter(
            target, rate=rate, channels=channels, sample_format=sample_format, markers=markers, dither=dither,
            chunks=chunks + info_chunk(tags.texts), names=names,
        )  # fmt: skip
    return FlacWriter(
        target, rate=rate, channels=channels, sample_format=sample_format, dither=dither, tags=tags, names=names
    )


def kind_of(path: Path) -> FileKind:
    """The file kind that a name asks for.

    Raises
    ------
    MediaError
        For endings that cannot be written.
    """
    endings: dict[str, FileKind] = {".wav": "wav", ".flac": "flac"}
    if (kind := endings.get(path.suffix.lower())) is None:
        message = tr("{name}: sound is written as .wav or .flac. Choose one of these endings.", name=path.name)
        raise MediaError(message)
    return kind
