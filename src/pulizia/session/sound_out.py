# SPDX-License-Identifier: GPL-3.0-or-later
"""The outputs that can be chosen: every device of the sound server by name, PortAudio's for the rest, or none."""

from __future__ import annotations

import threading
import time
from dataclasses import dataclass

from pulizia.audio.samples import Samples
from pulizia.session.output_protocol import SoundOut
from pulizia.session.port_audio_out import DeviceOut, devices, usual_device
from pulizia.session.pulse_out import PulseOut, server_answers
from pulizia.words import N_, tr

SIMULATED, SERVER, DEVICE = "none", "server:", "device:"
SIMULATED_WORDS = N_("No sound (simulated output)")
SERVER_WORDS = N_("The desktop's output")
DEPTH_S = 0.11
PLUGS = {"pulse", "pipewire", "default", "sysdefault"}  # ALSA's ways to the server, which is listed by itself


class SimulatedOut:
    """No device: what is written passes in real time and is dropped. What was played last can be looked at."""

    name = SIMULATED_WORDS
    exchanges = False

    def __init__(self, *, keep_s: float = 30.0) -> None:
        self._lock = threading.Lock()
        self._rate = 48_000
        self._written = self._base = 0
        self._since = 0.0
        self._keep_s = keep_s
        self._ended = False
        self.kept: list[Samples] = []
        self.underruns = 0

    def open(self, rate: int) -> None:
        """Get ready."""
        with self._lock:
            self._rate, self._ended = rate, False
            self._written = self._base = 0
            self._since = time.monotonic()
            self.kept.clear()

    def room(self) -> int:
        """Frames that may be written now."""
        with self._lock:
            heard = self._heard()
            if heard == self._written:  # dry: the clock stands until more comes
                self._base, self._since = heard, time.monotonic()
            return max(0, round(DEPTH_S * self._rate) - (self._written - heard))

    def earliest(self) -> int:
        """The next frame to be written: nothing is exchanged."""
        return self._written

    def write(self, block: Samples, at: int) -> None:
        """Queue a block."""
        del at
        with self._lock:
            if self._heard() == self._written:
                self.underruns += int(self._written > 0 and not self._ended)
                self._base, self._since = self._written, time.monotonic()
            self._written += block.shape[1]
            self.kept.append(block.copy())
            while sum(b.shape[1] for b in self.kept) > self._keep_s * self._rate:
                self.kept.pop(0)

    def finish(self) -> None:
        """No more follows."""
        self._ended = True

    def heard(self) -> int:
        """Frames heard since open."""
        with self._lock:
            return self._heard()

    def close(self, last: Samples | None = None, at: int = 0) -> None:
        """Stop."""

    def notice(self) -> str:
        """Nothing ever changes here."""
        return ""

    def _heard(self) -> int:
        elapsed = int((time.monotonic() - self._since) * self._rate)
        return min(self._written, self._base + elapsed)


@dataclass(frozen=True, slots=True)
class Choice:
    """An output by its lasting identity, and its name for people."""

    id: str
    name: str


def outputs(*, again: bool = False) -> list[Choice]:
    """Every output of this machine; ``again`` looks for devices that were plugged in."""
    found: list[Choice] = []
    if server_answers():
        found.append(Choice(SERVER, SERVER_WORDS))
        found += [Choice(SERVER + name, words) for name, words in _sinks()]
    skipped = PLUGS if found else set()
    found += [Choice(DEVICE + name, name) for name in devices(again=again) if name not in skipped]
    return found


def _sinks() -> list[tuple[str, str]]:
    """Names of the server's devices, and their descriptions."""
    try:
        import pulsectl

        with pulsectl.Pulse(tr("Pulizia, looking for outputs")) as server:
            return [(str(sink.name), str(sink.description or sink.name)) for sink in server.sink_list()]
    except Exception:  # noqa: BLE001 - library missing, server gone: many error types
        return []


def output_of(choice: str, name: str = "") -> SoundOut:
    """An output by its identity; what is not there says so when it is opened."""
    if choice.startswith(SERVER):
        sink = choice.removeprefix(SERVER)
        return PulseOut(sink or None, name or sink or SERVER_WORDS)
    if choice.startswith(DEVICE):
        device = choice.removeprefix(DEVICE)
        return DeviceOut(device, name or device)
    return SimulatedOut()


def default_choice(*, simulated: bool = False) -> Choice:
    """The desktop's output through its server, else the system's through PortAudio, else none."""
    if not simulated and server_answers():
        return Choice(SERVER, SERVER_WORDS)
    if not simulated and (device := usual_device()):
        return Choice(DEVICE + device, device)
    return Choice(SIMULATED, SIMULATED_WORDS)
