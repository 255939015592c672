# SPDX-License-Identifier: GPL-3.0-or-later
"""The C reference library for loudness (Debian package libebur128-1), through ctypes."""

from __future__ import annotations

import ctypes
import ctypes.util

import numpy as np

MODE_I, MODE_LRA, MODE_TRUE_PEAK = (1 << 2) | 1, (1 << 3) | (1 << 1) | 1, (1 << 5) | (1 << 4) | 1


def library() -> ctypes.CDLL | None:
    """The library, or None when it is not installed."""
    name = ctypes.util.find_library("ebur128")
    if name is None:
        return None
    lib = ctypes.CDLL(name)
    lib.ebur128_init.restype = ctypes.c_void_p
    lib.ebur128_init.argtypes = [ctypes.c_uint, ctypes.c_ulong, ctypes.c_int]
    lib.ebur128_add_frames_float.argtypes = [ctypes.c_void_p, ctypes.c_void_p, ctypes.c_size_t]
    double = ctypes.POINTER(ctypes.c_double)
    lib.ebur128_loudness_global.argtypes = [ctypes.c_void_p, double]
    lib.ebur128_loudness_range.argtypes = [ctypes.c_void_p, double]
    lib.ebur128_true_peak.argtypes = [ctypes.c_void_p, ctypes.c_uint, double]
    lib.ebur128_destroy.argtypes = [ctypes.POINTER(ctypes.c_void_p)]
    return lib


def measure(lib: ctypes.CDLL, samples: np.ndarray, rate: int) -> tuple[float, float, float]:
    """Integrated loudness, range and true peak (dBTP) of (channels, frames) float32."""
    channels = samples.shape[0]
    state = ctypes.c_void_p(lib.ebur128_init(channels, rate, MODE_I | MODE_LRA | MODE_TRUE_PEAK))
    interleaved = np.ascontiguousarray(samples.T)
    lib.ebur128_add_frames_float(state, interleaved.ctypes.data, len(interleaved))
    value = ctypes.c_double()
    lib.ebur128_loudness_global(state, ctypes.byref(value))
    integrated = value.value
    lib.ebur128_loudness_range(state, ctypes.byref(value))
    spread = value.value
    peaks = []
    for channel in range(channels):
        lib.ebur128_true_peak(state, channel, ctypes.byref(value))
        peaks.append(value.value)
    lib.ebur128_destroy(ctypes.byref(state))
    return integrated, spread, 20 * np.log10(max(peaks))
