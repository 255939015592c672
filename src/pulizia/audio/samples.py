# SPDX-License-Identifier: GPL-3.0-or-later
"""The one layout of sound in memory."""

from __future__ import annotations

from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray

Samples: TypeAlias = NDArray[np.float32]
"""float32, shape (channels, frames), full scale 1.0, C order; also for mono."""


def silence(channels: int, frames: int) -> Samples:
    """Digital silence of the given shape."""
    return np.zeros((channels, frames), dtype=np.float32)
