# SPDX-License-Identifier: GPL-3.0-or-later
"""Coded sound files: MP3, Opus and AAC, written beside their name and renamed into place (av)."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path
from typing import Any, Literal

import numpy as np

from pulizia.audio.samples import Samples
from pulizia.errors import MediaError
from pulizia.media.fast_start import put_index_first
from pulizia.media.sink import Sink
from pulizia.media.tags import NO_TAGS, Tags, write_tags
from pulizia.media.write import _Writer
from pulizia.words import tr

CodedKind = Literal["mp3", "opus", "m4a"]
CODECS: dict[str, tuple[str, str, str]] = {  # codec, sample format, container
    "mp3": ("libmp3lame", "fltp", "mp3"), "opus": ("libopus", "flt", "ogg"), "m4a": ("aac", "fltp", "ipod"),
}  # fmt: skip
RATES: dict[str, tuple[int, ...]] = {
    "mp3": (8000, 11_025, 12_000, 16_000, 22_050, 24_000, 32_000, 44_100, 48_000),
    "opus": (8000, 12_000, 16_000, 24_000, 48_000),
    "m4a": (8000, 11_025, 12_000, 16_000, 22_050, 24_000, 32_000, 44_100, 48_000, 64_000, 88_200, 96_000),
}
BITRATES: dict[str, tuple[int, int]] = {
    "mp3": (32, 320),
    "opus": (16, 256),
    "m4a": (32, 320),
}  # kbit/s for a stereo file
LAYOUTS = {1: "mono", 2: "stereo"}
BLOCK = 8192


def nearest_rate(kind: str, rate: int) -> int:
    """A sample rate that the kind can hold: the same, or the next higher one, or its highest."""
    rates = RATES.get(kind)
    if rates is None or rate in rates:
        return rate
    return next((r for r in rates if r >= rate), rates[-1])


class CodedWriter(_Writer):
    """A lossy file of one or two channels."""

    def __init__(
        self,
        target: Path,
        *,
        rate: int,
        channels: int,
        kind: CodedKind,
        bitrate_kbps: int,
        tags: Tags = NO_TAGS,
    ) -> None:
        import av
        import av.error

        if channels not in LAYOUTS:
            message = tr(
                "{upper} is written in mono or stereo, not with {channels} channels. Choose another layout or WAV.",
                upper=kind.upper(),
                channels=channels,
            )
            raise MediaError(message)
        if rate not in RATES[kind]:
            message = tr(
                "{upper} cannot hold {rate} Hz. Choose {nearest_rate} Hz.",
                upper=kind.upper(),
                rate=rate,
                nearest_rate=nearest_rate(kind, rate),
            )
            raise MediaError(message)
        super().__init__(target, rate=rate, channels=channels)
        self._kind, self._tags = kind, tags
        codec, self._format, container = CODECS[kind]
        try:
            self._sink = Sink(self._beside.path)
            self._container: Any = av.open(self._sink, "w", format=container)
            self._stream = _any(self._container.add_stream(codec, rate=rate))
            self._stream.codec_context.layout = LAYOUTS[channels]
            self._stream.codec_context.format = self._format
            self._stream.bit_rate = 1000 * bitrate_kbps
            self._stream.time_base = Fraction(1, rate)
        except (av.error.FFmpegError, ValueError) as error:
            self._beside.drop()
            message = tr(
                "{upper} cannot be written at {rate} Hz and {bitrate_kbps} kbit/s here ({error}). Choose another format.",
                upper=kind.upper(),
                rate=rate,
                bitrate_kbps=bitrate_kbps,
                error=error,
            )
            raise MediaError(message) from error
        self._fifo = av.AudioFifo()

    def _append(self, samples: Samples) -> None:
        for start in range(0, samples.shape[1], BLOCK):
            self._encode(samples[:, start : start + BLOCK])
        self._sink.check()

    def _encode(self, samples: Samples) -> None:
        import av

        shaped = np.ascontiguousarray(
            samples if self._format.endswith("p") else samples.T.reshape(1, -1), dtype=np.float32
        )
        frame = av.AudioFrame.from_ndarray(shaped, format=self._format, layout=LAYOUTS[self.channels])
        frame.sample_rate = self.rate
        frame.pts = None
        self._fifo.write(frame)
        size = self._stream.codec_context.frame_size or 1024
        while (part := self._fifo.read(size, partial=False)) is not None:
            self._mux(part)

    def _mux(self, frame: Any) -> None:  # noqa: ANN401 - av.AudioFrame or None
        if frame is not None:
            frame.pts = self._sent
            frame.time_base = Fraction(1, self.rate)
            self._sent += frame.samples
        for packet in self._stream.encode(frame):
            self._container.mux(packet)

    _sent = 0

    def _close(self, *, whole: bool) -> None:
        import av.error

        try:
            if whole:
                if (rest := self._fifo.read(0, partial=True)) is not None:
                    self._mux(rest)
                self._mux(None)
            self._container.close()
        except av.error.FFmpegError as error:
            if whole:
                raise OSError(getattr(error, "errno", 5), str(error)) from error
        finally:
            self._sink.close()
        if whole:
            self._sink.check()
            write_tags(self._beside.path, self._kind, self._tags)
            if self._kind == "m4a":
                put_index_first(self._beside.path)


def _any(value: Any) -> Any:  # noqa: ANN401 - a stream of the kind that its codec makes it
    return value
