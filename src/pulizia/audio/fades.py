# SPDX-License-Identifier: GPL-3.0-or-later
"""How sound comes and goes at the edges of a clip, and how one clip passes into the next."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray

Law = Literal["gain", "power", "matched"]
LEAST_DIVISOR = 0.35  # sounds that nearly cancel each other are raised no further: 9 dB


def rise(share: NDArray[np.float64], law: Law, likeness: float = 0.0) -> NDArray[np.float64]:
    """Gain of what comes in, 0..1 over ``share`` 0..1; what goes out has ``rise(1 - share)``.

    Parameters
    ----------
    law
        "gain": both gains add up to 1. "power": their squares do. "matched": the level of the sum is kept for two
        sounds of equal level whose correlation is ``likeness``: with t the share, r the likeness and
        d^2 = (1-t)^2 + t^2 + 2 r t (1-t), the gains are t/d and (1-t)/d (power of a sum of correlated signals).
    """
    t = np.clip(share, 0.0, 1.0)
    if law == "gain":
        return t
    if law == "power":
        return np.asarray(np.sin(0.5 * np.pi * t))
    square = (1.0 - t) ** 2 + t**2 + 2.0 * likeness * t * (1.0 - t)
    return np.asarray(t / np.maximum(np.sqrt(np.maximum(square, 0.0)), LEAST_DIVISOR))


def likeness_of(a: NDArray[np.float32], b: NDArray[np.float32]) -> float:
    """Correlation of two stretches (channels, frames), -1..1; 0 where either is silent."""
    x, y = a.astype(np.float64).ravel(), b.astype(np.float64).ravel()
    power = float(np.sqrt(np.dot(x, x) * np.dot(y, y)))
    return float(np.clip(np.dot(x, y) / power, -1.0, 1.0)) if power > 0.0 else 0.0
