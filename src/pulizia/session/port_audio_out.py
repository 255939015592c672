# SPDX-License-Identifier: GPL-3.0-or-later
"""Playing through PortAudio where no sound server answers. The only importer of sounddevice."""

from __future__ import annotations

import threading
import time
from typing import Any

import numpy as np

from pulizia.audio.samples import Samples
from pulizia.session.output_protocol import LOUDSPEAKERS, OutputError
from pulizia.words import tr

DEPTH_S, DEEPEST_S = (
    0.25,
    1.0,
)  # what waits cannot be exchanged here: deep enough for a busy machine, and deeper once it ran dry
BEHIND_S = 0.25  # what a server or driver may hold beyond the latency that it tells
STUCK_S = 3.0  # longer than any device takes for its whole queue


class DeviceOut:
    """A device of the system by its name."""

    exchanges = False

    def __init__(self, device: str, name: str) -> None:
        self.name = name
        self.underruns = 0
        self._device = device
        self._depth_s = DEPTH_S
        self._stream: Any = None
        self._lock = threading.RLock()
        self._rate = 48_000
        self._written = self._heard = 0
        self._base, self._since = 0, 0.0
        self._moved_at = self._ends_at = 0.0

    def open(self, rate: int) -> None:
        """Open the device; OutputError with one sentence."""
        with self._lock:
            self.close()
            try:
                import sounddevice

                self._stream = sounddevice.OutputStream(
                    samplerate=rate, channels=LOUDSPEAKERS, dtype="float32", device=_number(self._device),
                    latency=self._depth_s,
                )  # fmt: skip
                self._stream.start()
            except Exception as error:
                self.close()
                message = tr(
                    "{name} is not there, is in use, or cannot play {rate:g} kHz. Choose another under Sound output.",
                    name=self.name,
                    rate=rate / 1000,
                )
                raise OutputError(message) from error
            self._rate, self._written, self._heard, self._base = rate, 0, 0, 0
            self._since = self._moved_at = time.monotonic()
            self._ends_at = 0.0

    def room(self) -> int:
        """Frames that may be written now; OutputError when the device takes nothing any more."""
        with self._lock:
            if self._stream is None:
                return 0
            try:
                free = int(self._stream.write_available)
            except Exception as error:
                raise self._gone() from error
            if free > 0:
                self._moved_at = time.monotonic()
            elif time.monotonic() - self._moved_at > STUCK_S:
                raise self._gone()
            return free

    def earliest(self) -> int:
        """The next frame to be written: what waits cannot be exchanged."""
        return self._written

    def write(self, block: Samples, at: int) -> None:
        """Queue (2, frames) samples."""
        del at
        with self._lock:
            if self._stream is None:
                return
            try:
                dry = self._stream.write(np.ascontiguousarray(block.T, dtype=np.float32))
            except Exception as error:
                raise self._gone() from error
            if dry and self._written:
                self.underruns += 1
                self._depth_s = DEEPEST_S  # from the next start on
            self._ends_at = 0.0
            self._written += block.shape[1]
            now = time.monotonic()
            waiting = max(0, round(float(self._stream.latency) * self._rate) - int(self._stream.write_available))
            self._base, self._since = max(self.heard(), self._written - max(waiting, block.shape[1])), now

    def finish(self) -> None:
        """No more follows; silence is fed until what was written has left the device for certain."""
        with self._lock:
            if not self._ends_at:
                waiting = (self._written - self.heard()) / self._rate
                self._ends_at = time.monotonic() + waiting + BEHIND_S

    def heard(self) -> int:
        """Frames heard since open: what was not waiting at the last write, and the time since then."""
        with self._lock:
            if self._stream is not None:
                passed = int((time.monotonic() - self._since) * self._rate)
                most = self._written - 1 if self._ends_at else self._written
                self._heard = max(self._heard, min(most, self._base + passed))
                if self._ends_at:
                    self._feed_silence()
                    if time.monotonic() >= self._ends_at:
                        self._heard = self._written
            return self._heard

    def _feed_silence(self) -> None:
        try:
            free = min(int(self._stream.write_available), self._rate // 50)
            if free > 0:
                self._stream.write(np.zeros((free, LOUDSPEAKERS), np.float32))
        except Exception:  # noqa: BLE001 - the device has gone: the end is reached by the clock
            self._ends_at = time.monotonic()

    def close(self, last: Samples | None = None, at: int = 0) -> None:
        """Stop at once."""
        del last, at
        with self._lock:
            stream, self._stream = self._stream, None
        if stream is not None:
            try:
                stream.abort()
                stream.close()
            except Exception:  # noqa: BLE001, S110 - the device has gone: there is nothing left to close
                pass

    def notice(self) -> str:
        """Devices tell nothing by themselves."""
        return ""

    def _gone(self) -> OutputError:
        self.close()
        return OutputError(
            tr(
                "{name} is gone: playback stopped. Choose another output, or play again once it is back.",
                name=self.name,
            )
        )


def devices(*, again: bool = False) -> list[str]:
    """Names of the system's outputs; ``again`` looks for devices that were plugged in."""
    try:
        import sounddevice

        if again:
            sounddevice._terminate()  # noqa: SLF001 - PortAudio lists devices only when it starts
            sounddevice._initialize()  # noqa: SLF001
        return [str(d["name"]) for d in sounddevice.query_devices() if d["max_output_channels"] > 0]
    except Exception:  # noqa: BLE001 - PortAudio missing: many error types
        return []


def usual_device() -> str:
    """The name of the system's usual output; "" where there is none."""
    try:
        import sounddevice

        return str(sounddevice.query_devices(kind="output")["name"])
    except Exception:  # noqa: BLE001 - PortAudio missing or no device: many error types
        return ""


def _number(name: str) -> int:
    import sounddevice

    for number, device in enumerate(sounddevice.query_devices()):
        if device["name"] == name and device["max_output_channels"] > 0:
            return number
    raise LookupError(name)
