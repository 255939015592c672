# SPDX-License-Identifier: GPL-3.0-or-later
"""A private sound server: PulseAudio with null sinks, in a folder of its own, and a recorder on a sink's monitor."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
import pytest

from pulizia.audio.samples import Samples
from pulizia.session.pulse_out import server_answers

RATE = 48_000
WIDTH = 8  # bytes of a stereo frame of floats


class Server:
    """The daemon with two sinks: "desk" at 48 kHz, and "phones"."""

    def __init__(self, folder: Path) -> None:
        self.socket = folder / "native"
        self.environment = os.environ | {
            "XDG_RUNTIME_DIR": str(folder),
            "HOME": str(folder),
            "PULSE_SERVER": f"unix:{self.socket}",
        }
        self.process: subprocess.Popen[bytes] | None = None

    def start(self) -> None:
        """Start it, and wait until it answers."""
        sink = "module-null-sink rate=48000 format=float32le norewinds=1 sink_name={} sink_properties=device.description={}"
        modules = [
            f"module-native-protocol-unix socket={self.socket} auth-anonymous=1",
            sink.format("desk", "Desk"), sink.format("phones", "Headphones"),
        ]  # fmt: skip
        options = ["-n", "--daemonize=no", "--use-pid-file=no", "--exit-idle-time=-1", "--disable-shm=yes", "--log-level=error"]  # fmt: skip
        for module in modules:
            options += ["-L", module]
        self.process = subprocess.Popen(
            ["pulseaudio", *options], env=self.environment, stderr=subprocess.DEVNULL, stdout=subprocess.DEVNULL
        )
        end = time.monotonic() + 10
        while not server_answers():
            assert time.monotonic() < end, "the sound server did not start"
            time.sleep(0.02)

    def kill(self) -> None:
        """Take it away without a word."""
        if self.process is not None:
            self.process.kill()
            self.process.wait()
            self.socket.unlink(missing_ok=True)
            self.process = None

    def say(self, *words: str) -> str:
        """One command of the server's own tool."""
        done = subprocess.run(["pactl", *words], env=self.environment, check=True, capture_output=True, text=True)
        return done.stdout

    @contextmanager
    def recording(self, sink: str = "desk") -> Iterator[Recorder]:
        """What a sink plays, from now to the end of the block."""
        made = Recorder(self, sink)
        try:
            yield made
        finally:
            made.end()


class Recorder:
    """The server's own recorder on the monitor of a sink, with the moment at which each piece came."""

    def __init__(self, server: Server, sink: str) -> None:
        self._parts: list[bytes] = []
        self.came: list[tuple[float, int]] = []  # by the clock, frames so far
        self._process = subprocess.Popen(
            ["parec", "--raw", "-d", f"{sink}.monitor", "--format=float32le", f"--rate={RATE}", "--channels=2",
             "--latency-msec=10"],
            env=server.environment, stdout=subprocess.PIPE,
        )  # fmt: skip
        self._thread = threading.Thread(target=self._read, daemon=True)
        self._thread.start()
        end = time.monotonic() + 10
        while not self.came:
            assert time.monotonic() < end, "nothing was recorded"
            time.sleep(0.005)

    def _read(self) -> None:
        assert self._process.stdout is not None
        count = 0
        while part := os.read(self._process.stdout.fileno(), 1 << 16):
            self._parts.append(part)
            count += len(part)
            self.came.append((time.monotonic(), count // WIDTH))

    def end(self) -> None:
        """Stop recording."""
        time.sleep(0.15)  # what is on its way
        self._process.terminate()
        self._process.wait()
        self._thread.join(timeout=5)
        self._process.stdout.close()

    def sound(self) -> Samples:
        """(2, frames) float32."""
        whole = b"".join(self._parts)
        return np.frombuffer(whole[: len(whole) // WIDTH * WIDTH], np.float32).reshape(-1, 2).T

    def heard(self) -> Samples:
        """From the first to the last sample that is not silence."""
        sound = self.sound()
        loud = np.flatnonzero(np.abs(sound).max(axis=0) > 0)
        return sound[:, loud[0] : loud[-1] + 1] if len(loud) else sound[:, :0]


@contextmanager
def running_server(monkeypatch: pytest.MonkeyPatch) -> Iterator[Server]:
    """A server for one test; where none can be had the test is left out, but never on a build machine."""
    if shutil.which("pulseaudio") is None or shutil.which("parec") is None:
        if os.environ.get("CI"):
            pytest.fail("PulseAudio must be installed on a build machine")
        pytest.skip("PulseAudio is not installed (packages pulseaudio and pulseaudio-utils)")
    folder = Path(tempfile.mkdtemp(prefix="sound-"))  # a socket's path must be short
    server = Server(folder)
    monkeypatch.setenv("PULSE_SERVER", f"unix:{server.socket}")
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(folder))
    try:
        server.start()
        yield server
    finally:
        server.kill()
        shutil.rmtree(folder, ignore_errors=True)
