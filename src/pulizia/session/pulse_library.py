# SPDX-License-Identifier: GPL-3.0-or-later
"""The few functions of libpulse that playing needs, called without the interpreter's lock (PulseAudio's C interface, version 12).

PipeWire answers the same calls. No function of ours is ever called back from the library's own thread:
states are asked for, so that the library never waits for the interpreter.
"""

from __future__ import annotations

import ctypes
from ctypes import POINTER, c_char_p, c_int, c_int64, c_long, c_size_t, c_uint8, c_uint32, c_uint64, c_void_p
from functools import cache

FLOAT32LE = 5
CONTEXT_READY, CONTEXT_FAILED, CONTEXT_TERMINATED = 4, 5, 6
STREAM_READY, STREAM_FAILED, STREAM_TERMINATED = 2, 3, 4
NO_AUTOSPAWN = 0x0001
AUTO_TIMING_UPDATE, EARLY_REQUESTS = 0x0008, 0x4000
SEEK_ABSOLUTE = 1
OPERATION_RUNNING = 0


class SampleSpec(ctypes.Structure):
    """``pa_sample_spec``."""

    _fields_ = [("format", c_int), ("rate", c_uint32), ("channels", c_uint8)]


class BufferAttributes(ctypes.Structure):
    """``pa_buffer_attr``, in bytes."""

    _fields_ = [(name, c_uint32) for name in ("maxlength", "tlength", "prebuf", "minreq", "fragsize")]


class TimingInfo(ctypes.Structure):
    """``pa_timing_info``: where the server's clock stood at a moment of ours."""

    _fields_ = [
        ("seconds", c_long), ("microseconds", c_long), ("synchronized_clocks", c_int), ("sink_usec", c_uint64),
        ("source_usec", c_uint64), ("transport_usec", c_uint64), ("playing", c_int), ("write_index_corrupt", c_int),
        ("write_index", c_int64), ("read_index_corrupt", c_int), ("read_index", c_int64),
    ]  # fmt: skip


_SIGNATURES: dict[str, tuple[object, list[object]]] = {
    "pa_threaded_mainloop_new": (c_void_p, []),
    "pa_threaded_mainloop_start": (c_int, [c_void_p]),
    "pa_threaded_mainloop_stop": (None, [c_void_p]),
    "pa_threaded_mainloop_free": (None, [c_void_p]),
    "pa_threaded_mainloop_lock": (None, [c_void_p]),
    "pa_threaded_mainloop_unlock": (None, [c_void_p]),
    "pa_threaded_mainloop_get_api": (c_void_p, [c_void_p]),
    "pa_context_new": (c_void_p, [c_void_p, c_char_p]),
    "pa_context_connect": (c_int, [c_void_p, c_char_p, c_int, c_void_p]),
    "pa_context_disconnect": (None, [c_void_p]),
    "pa_context_unref": (None, [c_void_p]),
    "pa_context_get_state": (c_int, [c_void_p]),
    "pa_stream_new": (c_void_p, [c_void_p, c_char_p, POINTER(SampleSpec), c_void_p]),
    "pa_stream_connect_playback": (
        c_int,
        [c_void_p, c_char_p, POINTER(BufferAttributes), c_int, c_void_p, c_void_p],
    ),
    "pa_stream_disconnect": (c_int, [c_void_p]),
    "pa_stream_unref": (None, [c_void_p]),
    "pa_stream_get_state": (c_int, [c_void_p]),
    "pa_stream_write": (c_int, [c_void_p, c_void_p, c_size_t, c_void_p, c_int64, c_int]),
    "pa_stream_get_timing_info": (POINTER(TimingInfo), [c_void_p]),
    "pa_stream_update_timing_info": (c_void_p, [c_void_p, c_void_p, c_void_p]),
    "pa_stream_get_underflow_index": (c_int64, [c_void_p]),
    "pa_stream_get_device_name": (c_char_p, [c_void_p]),
    "pa_stream_is_suspended": (c_int, [c_void_p]),
    "pa_stream_drain": (c_void_p, [c_void_p, c_void_p, c_void_p]),
    "pa_operation_get_state": (c_int, [c_void_p]),
    "pa_operation_cancel": (None, [c_void_p]),
    "pa_operation_unref": (None, [c_void_p]),
}


@cache
def library() -> ctypes.CDLL | None:
    """The library with its functions declared; None where it is not installed."""
    try:
        loaded = ctypes.CDLL("libpulse.so.0")
        for name, (result, arguments) in _SIGNATURES.items():
            function = getattr(loaded, name)
            function.restype, function.argtypes = result, arguments
    except (OSError, AttributeError):
        return None
    return loaded
