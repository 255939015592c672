# SPDX-License-Identifier: GPL-3.0-or-later
"""Pictures of a video file by time: the very frame that is shown at a moment, or the nearest key frame while scrubbing (av)."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from pulizia.errors import MediaError
from pulizia.media.coded import ATTACHED
from pulizia.words import tr

LINES = 360  # what is decoded is scaled to this height
AHEAD_S = 2.0  # farther on, a seek to the key frame before is cheaper than decoding all between


@dataclass(frozen=True, slots=True)
class Still:
    """A picture: (height, width, 3) RGB bytes, and from when to when it is shown, in seconds of the file's sound."""

    pixels: NDArray[np.uint8]
    start_s: float
    stop_s: float

    def holds(self, seconds: float) -> bool:
        """Whether this is the picture of a moment."""
        return self.start_s <= seconds < self.stop_s


class Film:
    """A video file that is open for looking. Not safe for several threads at once.

    Variable frame rates are obeyed: every frame is shown from its own time to that of the next.
    """

    def __init__(self, path: Path) -> None:
        """MediaError when the file cannot be opened or shows no picture."""
        import av
        import av.error

        self.path = path
        try:
            self._file: Any = av.open(str(path))
        except (av.error.FFmpegError, OSError, ValueError) as error:
            message = tr("{name} cannot be opened as a video. Choose another file.", name=path.name)
            raise MediaError(message) from error
        streams = [s for s in self._file.streams.video if not s.disposition & ATTACHED]
        if not streams or not streams[0].width or not streams[0].time_base:
            self._file.close()
            message = tr("{name} shows no picture. Choose a video file.", name=path.name)
            raise MediaError(message)
        self._stream = streams[0]
        self._stream.thread_type = "AUTO"
        self.rate = Fraction(self._stream.average_rate or 25)
        sound = next(iter(self._file.streams.audio), None)
        begun = sound if sound is not None and sound.start_time is not None else self._stream
        # time 0 is where the sound begins, as it is for everything else that is made of this file
        self._zero = float((begun.start_time or 0) * (begun.time_base or 0))
        self._tick = Fraction(self._stream.time_base or Fraction(1, 1000))
        height = min(LINES, self._stream.height)
        self._size = max(2, round(self._stream.width * self._shape() * height / self._stream.height / 2) * 2), height
        self._decoded: Any = None  # frames from the last seek on
        self._next: Any = None  # the frame behind the current one
        self._current: Still | None = None

    def _shape(self) -> float:
        ratio = self._stream.sample_aspect_ratio
        return float(ratio) if ratio else 1.0

    def close(self) -> None:
        """Let the file go."""
        self._file.close()

    def at(self, seconds: float) -> Still | None:
        """The picture of a moment; the first before the beginning, the last behind the end. None when nothing can be decoded."""
        known = self._current
        if known is not None and known.holds(seconds):
            return known
        if self.is_far(seconds):
            self._seek(seconds)
        return self._forward(seconds)

    def is_far(self, seconds: float) -> bool:
        """Whether the picture of a moment needs a seek: it lies before the current one, or too far ahead of it."""
        known = self._current
        return known is None or seconds < known.start_s or seconds > known.stop_s + AHEAD_S

    def near(self, seconds: float) -> Still | None:
        """The picture of the key frame at or before a moment."""
        self._seek(seconds)
        return self._forward(float("-inf"))

    def _seek(self, seconds: float) -> None:
        import av.error

        wanted = max(0.0, seconds + self._zero)
        self._current = self._next = None
        with suppress(av.error.FFmpegError):
            self._file.seek(int(wanted / self._tick), stream=self._stream, backward=True)
        self._decoded = self._file.decode(self._stream)

    def _read(self) -> Any:  # noqa: ANN401 - a frame of the library
        import av.error

        while True:
            try:
                frame = next(self._decoded)
            except StopIteration:
                return None
            except (av.error.FFmpegError, ValueError):
                return None
            if frame.pts is not None:
                return frame

    def _time(self, frame: Any) -> float:  # noqa: ANN401
        return float(frame.pts * frame.time_base) - self._zero

    def _forward(self, seconds: float) -> Still | None:
        frame = self._next if self._next is not None else self._read()
        if frame is None:
            return self._current
        behind = self._read()
        while behind is not None and self._time(behind) <= seconds:
            frame, behind = behind, self._read()
        self._next = behind
        start = self._time(frame)
        stop = self._time(behind) if behind is not None else float("inf")
        small = frame.reformat(width=self._size[0], height=self._size[1], format="rgb24")
        self._current = Still(np.ascontiguousarray(small.to_ndarray()), start, max(stop, start + 1e-6))
        return self._current
