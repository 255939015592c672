"""Where sound goes: the system's device, or a simulated one that keeps real time.

The only importer of sounddevice.
"""

from __future__ import annotations

import threading
import time
from typing import Any, Protocol

import numpy as np

from pulizia.audio.samples import Samples

BUFFER_S = 0.11


class SoundOut(Protocol):
    """An output that takes blocks and tells how many frames have been heard."""

    name: str

    def open(self, rate: int, channels: int) -> None:
        """Get ready for blocks of this rate and number of channels."""

    def write(self, block: Samples) -> None:
        """Queue a block; waits while the buffer is full."""

    def heard(self) -> int:
        """Frames heard since open, latency taken off."""

    def close(self) -> None:
        """Stop at once and forget what is queued."""


class SimulatedOut:
    """No card: blocks are taken in real time and dropped. What was played last can be looked at."""

    name = "simulated output"

    def __init__(self, *, keep_s: float = 30.0) -> None:
        self._lock = threading.Lock()
        self._rate, self._capacity = 48_000, 4096
        self._written = self._base = 0
        self._since = 0.0
        self._keep_s = keep_s
        self.kept: list[Samples] = []
        self.underruns = 0

    def open(self, rate: int, channels: int) -> None:
        """Get ready."""
        del channels
        with self._lock:
            self._rate, self._capacity = rate, round(BUFFER_S * rate)
            self._written = self._base = 0
            self._since = time.monotonic()
            self.kept.clear()

    def write(self, block: Samples) -> None:
        """Queue a block; waits while the buffer is full."""
        frames = block.shape[1]
        while True:
            with self._lock:
                heard = self._heard()
                if heard == self._written and self._written > 0:
                    self.underruns += 1
                if heard == self._written:
                    self._base, self._since = heard, time.monotonic()
                free = self._capacity - (self._written - heard)
                if frames <= free or self._written == heard:
                    self._written += frames
                    self.kept.append(block.copy())
                    while sum(b.shape[1] for b in self.kept) > self._keep_s * self._rate:
                        self.kept.pop(0)
                    return
                wait = (frames - free) / self._rate
            time.sleep(min(max(wait, 0.001), 0.05))

    def heard(self) -> int:
        """Frames heard since open."""
        with self._lock:
            return self._heard()

    def close(self) -> None:
        """Stop."""

    def _heard(self) -> int:
        elapsed = int((time.monotonic() - self._since) * self._rate)
        return min(self._written, self._base + elapsed)


class DeviceOut:
    """A device of the system through PortAudio."""

    def __init__(self, device: int | None, name: str) -> None:
        self.name = name
        self._device = device
        self._stream: Any = None
        self._written = 0
        self._channels = 2
        self._rate = 48_000
        self._started = 0.0

    def open(self, rate: int, channels: int) -> None:
        """Open the device."""
        import sounddevice

        self._channels = max(2, channels) if channels <= 2 else 2
        self._rate, self._written = rate, 0
        self._stream = sounddevice.OutputStream(
            samplerate=rate, channels=self._channels, dtype="float32", device=self._device,
            latency=BUFFER_S,
        )  # fmt: skip
        self._stream.start()

    def write(self, block: Samples) -> None:
        """Queue a block; waits while the device's buffer is full."""
        frames = folded(block, self._channels)
        self._stream.write(np.ascontiguousarray(frames.T))
        self._written += block.shape[1]

    def heard(self) -> int:
        """Frames heard since open, the device's latency taken off."""
        latency = round(float(self._stream.latency) * self._rate) if self._stream else 0
        return max(0, self._written - latency)

    def close(self) -> None:
        """Stop at once."""
        if self._stream is not None:
            stream, self._stream = self._stream, None
            stream.abort()
            stream.close()


def folded(block: Samples, channels: int) -> Samples:
    """Fit a block to two loudspeakers: mono to both, surround to the nearer side."""
    have = block.shape[0]
    if have == channels:
        return block
    if have == 1:
        return np.repeat(block, channels, axis=0)
    return np.stack([block[0::2].mean(axis=0), block[1::2].mean(axis=0)])


def outputs(*, again: bool = False) -> list[tuple[int, str]]:
    """Numbers and names of the system's outputs; ``again`` looks for devices that were plugged in."""
    try:
        import sounddevice

        if again:
            sounddevice._terminate()  # noqa: SLF001 - PortAudio lists devices only when it starts
            sounddevice._initialize()  # noqa: SLF001
        devices = sounddevice.query_devices()
        return [(n, str(d["name"])) for n, d in enumerate(devices) if d["max_output_channels"] > 0]
    except Exception:  # noqa: BLE001 - PortAudio missing: many error types
        return []


def output_of(number: int | None, name: str) -> SoundOut:
    """An output by number; None is the simulated one."""
    return SimulatedOut() if number is None else DeviceOut(number, name)


def default_output(*, simulated: bool = False) -> SoundOut:
    """The system's output, or the simulated one where there is none."""
    if not simulated:
        try:
            import sounddevice

            device = sounddevice.query_devices(kind="output")
            return DeviceOut(None, str(device["name"]))
        except Exception:  # noqa: BLE001, S110 - PortAudio missing or no device: many error types
            pass
    return SimulatedOut()
