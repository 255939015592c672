# SPDX-License-Identifier: GPL-3.0-or-later
"""Playing through a sound server (PulseAudio, or PipeWire with its pulse face).

The server holds what was written and plays it by itself, so a busy interpreter is not heard: two
thousandths of a second are enough to hand over a second of sound. What waits there can still be
exchanged up to a few hundredths of a second before it is heard, so a deep queue costs no time when
a setting is turned.
"""

from __future__ import annotations

import contextlib
import ctypes
import threading
import time
from collections.abc import Iterator
from typing import Any

import numpy as np

from pulizia.audio.samples import Samples
from pulizia.session import pulse_library as pulse
from pulizia.session.output_protocol import LOUDSPEAKERS, OutputError
from pulizia.words import N_, tr

DEPTH_S, DEEPEST_S = 1.5, 2.0  # of sound that waits at the server; deeper once it ran dry
START_S = 0.3  # so much must wait before the server begins: read much faster than it is heard
REQUEST_S = 0.02  # how far ahead the server fetches sound for the device
SAFE_S = 0.08  # what lies nearer than this is on its way to the device and cannot be exchanged
PATIENCE_S = 3.0
ENDING_S = 1.0  # longer than any device needs after what was written has passed
UNSAID = 0xFFFFFFFF  # the server's own choice
ASK_S = 0.1  # between two questions for the server's clock
LONGEST_SINCE_S = 0.5  # a server that has not answered for so long does not play either
LOOK_S = 0.5  # between two looks at which device the stream is on


class _Connection:
    """One thread of the library and its connection to the server."""

    def __init__(self, library: ctypes.CDLL) -> None:
        self.library = library
        self._loop = library.pa_threaded_mainloop_new()
        self.context = library.pa_context_new(library.pa_threaded_mainloop_get_api(self._loop), b"Pulizia")
        started = library.pa_context_connect(self.context, None, pulse.NO_AUTOSPAWN, None) >= 0
        if not started or library.pa_threaded_mainloop_start(self._loop) < 0:
            self.close()
            raise OutputError(NO_SERVER)

    @contextlib.contextmanager
    def locked(self) -> Iterator[None]:
        """Calls of the library belong inside."""
        self.library.pa_threaded_mainloop_lock(self._loop)
        try:
            yield
        finally:
            self.library.pa_threaded_mainloop_unlock(self._loop)

    def wait(self, state: Any, of: int, wanted: int, bad: tuple[int, ...]) -> bool:  # noqa: ANN401 - a C function
        """Wait until a state is reached; False when it never will be."""
        end = time.monotonic() + PATIENCE_S
        while time.monotonic() < end:
            with self.locked():
                now = state(of)
            if now == wanted:
                return True
            if now in bad:
                return False
            time.sleep(0.002)
        return False

    def close(self) -> None:
        """End the connection and its thread."""
        self.library.pa_threaded_mainloop_stop(self._loop)
        self.library.pa_context_disconnect(self.context)
        self.library.pa_context_unref(self.context)
        self.library.pa_threaded_mainloop_free(self._loop)


NO_SERVER = N_("The sound server does not answer. Start it, or choose another output under Sound output.")


def connected(library: ctypes.CDLL) -> _Connection:
    """A connection to the server of this desktop; OutputError when none answers."""
    made = _Connection(library)
    bad = (pulse.CONTEXT_FAILED, pulse.CONTEXT_TERMINATED)
    if not made.wait(library.pa_context_get_state, made.context, pulse.CONTEXT_READY, bad):
        made.close()
        raise OutputError(NO_SERVER)
    return made


def server_answers() -> bool:
    """Whether a sound server can be played through."""
    library = pulse.library()
    if library is None:
        return False
    try:
        connected(library).close()
    except OutputError:
        return False
    return True


class PulseOut:
    """One device of the server, or the one that the desktop has chosen (``sink`` None)."""

    exchanges = True

    def __init__(self, sink: str | None, name: str) -> None:
        self.name, self.sink = name, sink
        self.underruns = 0
        self.depth_s = DEPTH_S
        self._lock = threading.RLock()
        self._connection: _Connection | None = None
        self._stream: int | None = None
        self._drain: int | None = None
        self._rate = 48_000
        self._written = self._furthest = self._heard = 0
        self._dry_at = -1
        self._finished_at = self._ends_at = 0.0
        self._device = b""
        self._suspended = False
        self._looked = self._asked = 0.0

    def open(self, rate: int) -> None:
        """Get ready for a run; OutputError with one sentence when the server or the device refuses."""
        library = pulse.library()
        if library is None:
            message = tr("{name} needs the library libpulse. Choose another output under Sound output.", name=self.name)
            raise OutputError(message)
        with self._lock:
            self._dispose()
            self._connection = connection = connected(library)
            self._rate, self._written, self._furthest, self._heard = rate, 0, 0, 0
            self._dry_at, self._finished_at, self._ends_at = -1, 0.0, float("inf")
            self._device, self._suspended = b"", False
            width = 4 * LOUDSPEAKERS
            spec = pulse.SampleSpec(pulse.FLOAT32LE, rate, LOUDSPEAKERS)
            sizes = [round(seconds * rate) * width for seconds in (DEEPEST_S, START_S, REQUEST_S)]
            wanted = pulse.BufferAttributes(UNSAID, *sizes, UNSAID)
            flags = pulse.AUTO_TIMING_UPDATE | pulse.EARLY_REQUESTS
            sink = None if self.sink is None else self.sink.encode()
            with connection.locked():
                stream = library.pa_stream_new(connection.context, b"Playing", ctypes.byref(spec), None)
                refused = not stream
                if stream:
                    refused = (
                        library.pa_stream_connect_playback(stream, sink, ctypes.byref(wanted), flags, None, None) < 0
                    )
                    self._stream = stream
            bad = (pulse.STREAM_FAILED, pulse.STREAM_TERMINATED)
            if refused or not connection.wait(library.pa_stream_get_state, stream, pulse.STREAM_READY, bad):
                self._dispose()
                message = tr(
                    "{name} is not there or cannot play {rate:g} kHz. Choose another under Sound output.",
                    name=self.name,
                    rate=rate / 1000,
                )
                raise OutputError(message)

    def room(self) -> int:
        """Frames that may be written now; OutputError when the device or the server has gone."""
        with self._lock:
            self._check()
            return max(0, round(self.depth_s * self._rate) - (self._written - self.heard()))

    def earliest(self) -> int:
        """The first frame that can still be exchanged."""
        with self._lock:
            return min(self._written, self.heard() + round(SAFE_S * self._rate))

    def write(self, block: Samples, at: int) -> None:
        """Queue (2, frames) samples to be heard from frame ``at`` of the run on, in place of what was there."""
        with self._lock:
            if self._stream is None or self._connection is None:
                return
            library = self._connection.library
            data = np.ascontiguousarray(block.T, dtype=np.float32)
            width = 4 * LOUDSPEAKERS
            with self._connection.locked():
                self._forget_drain(library)
                library.pa_stream_write(
                    self._stream, data.ctypes.data, data.nbytes, None, at * width, pulse.SEEK_ABSOLUTE
                )
            self._written = at + block.shape[1]
            self._furthest = max(self._furthest, self._written)
            self._finished_at, self._ends_at = 0.0, float("inf")

    def finish(self) -> None:
        """No more follows: what waits is played to its end."""
        with self._lock:
            if self._finished_at or self._stream is None or self._connection is None:
                return
            end = self._written
            if self._furthest > end:  # what was exchanged for something shorter must not be heard
                self.write(np.zeros((LOUDSPEAKERS, self._furthest - end), np.float32), end)
                self._written = end
            with self._connection.locked():
                self._drain = self._connection.library.pa_stream_drain(self._stream, None, None)
            self._finished_at = time.monotonic()
            self._ends_at = self._finished_at + (self._furthest - self.heard()) / self._rate + ENDING_S

    def heard(self) -> int:
        """Frames that have been heard, the device's own latency taken off."""
        with self._lock:
            if self._stream is None or self._connection is None:
                return self._heard
            library = self._connection.library
            with self._connection.locked():
                self._ask_for_time(library)
                known = self._by_clock(library)
                drained = self._drain is not None and (
                    library.pa_operation_get_state(self._drain) != pulse.OPERATION_RUNNING
                )
            # the end is reached when the server says so, not by a clock that may be a moment ahead
            most = self._written - 1 if self._finished_at else self._written
            self._heard = max(self._heard, min(known, most))
            if self._finished_at and (drained or time.monotonic() > self._ends_at):
                self._heard = self._written
            return self._heard

    def _ask_for_time(self, library: ctypes.CDLL) -> None:
        now = time.monotonic()
        if now - self._asked >= ASK_S:
            self._asked = now
            if operation := library.pa_stream_update_timing_info(self._stream, None, None):
                library.pa_operation_unref(operation)

    def _by_clock(self, library: ctypes.CDLL) -> int:
        """Frames heard by the server's last word and the time since then."""
        pointer = library.pa_stream_get_timing_info(self._stream)
        if not pointer:
            return 0
        timing: pulse.TimingInfo = pointer.contents
        if timing.read_index_corrupt or timing.read_index <= 0:
            return 0
        since = time.time() - (timing.seconds + timing.microseconds * 1e-6) if timing.playing else 0.0
        passed = min(max(since, 0.0), LONGEST_SINCE_S) - timing.sink_usec * 1e-6
        read: int = timing.read_index // (4 * LOUDSPEAKERS)
        return max(0, read + round(float(passed) * self._rate))

    def close(self, last: Samples | None = None, at: int = 0) -> None:
        """Stop; ``last`` is what is still heard from frame ``at`` on (a short fade), nothing after it."""
        with self._lock:
            if self._stream is None:
                return
            if last is None:
                self._dispose()
                return
            with contextlib.suppress(OutputError):
                self._check()
                silent = max(self._furthest - at - last.shape[1], round(SAFE_S * self._rate))
                self.write(np.concatenate([last, np.zeros((LOUDSPEAKERS, silent), np.float32)], axis=1), at)
            wait_s = (at + last.shape[1] - self._heard) / self._rate + 2 * SAFE_S
            connection, stream = self._connection, self._stream
            self._connection = self._stream = self._drain = None
            timer = threading.Timer(wait_s, _end, (connection, stream))
            timer.daemon = True
            timer.start()

    def notice(self) -> str:
        """One sentence about something that has just changed at the server; "" when nothing has."""
        with self._lock:
            now = time.monotonic()
            if self._stream is None or self._connection is None or now - self._looked < LOOK_S:
                return ""
            self._looked = now
            library = self._connection.library
            with self._connection.locked():
                device = library.pa_stream_get_device_name(self._stream) or b""
                suspended = library.pa_stream_is_suspended(self._stream) > 0
            before, self._device = self._device, device
            asleep, self._suspended = self._suspended, suspended
        if suspended and not asleep:
            return tr("{name} was suspended: playback waits until it returns.", name=self.name)
        if before and device and device != before:
            return tr("Playback continues through another output: {device}.", device=device.decode(errors="replace"))
        return ""

    def _check(self) -> None:
        if self._stream is None or self._connection is None:
            return
        library = self._connection.library
        with self._connection.locked():
            context = library.pa_context_get_state(self._connection.context)
            stream = library.pa_stream_get_state(self._stream)
            dry_at = library.pa_stream_get_underflow_index(self._stream)
        if context != pulse.CONTEXT_READY:
            self._dispose()
            message = tr("The sound server is gone: playback stopped. Play again once it is back.")
            raise OutputError(message)
        if stream != pulse.STREAM_READY:
            self._dispose()
            message = tr(
                "{name} is gone: playback stopped. Choose another output, or play again once it is back.",
                name=self.name,
            )
            raise OutputError(message)
        if dry_at != self._dry_at:
            self._dry_at = dry_at
            if dry_at > 0 and not self._finished_at:
                self.underruns += 1
                self.depth_s = DEEPEST_S

    def _forget_drain(self, library: ctypes.CDLL) -> None:
        if self._drain is not None:
            library.pa_operation_cancel(self._drain)
            library.pa_operation_unref(self._drain)
            self._drain = None

    def _dispose(self) -> None:
        connection, stream = self._connection, self._stream
        if connection is not None:
            with connection.locked():
                self._forget_drain(connection.library)
        self._connection = self._stream = self._drain = None
        _end(connection, stream)


def _end(connection: _Connection | None, stream: int | None) -> None:
    if connection is None:
        return
    if stream is not None:
        with connection.locked():
            connection.library.pa_stream_disconnect(stream)
            connection.library.pa_stream_unref(stream)
    connection.close()
