# SPDX-License-Identifier: GPL-3.0-or-later
"""Second-order sections of an equaliser, and what they do to each frequency.

R. Bristow-Johnson, "Cookbook formulae for audio EQ biquad filter coefficients"; Butterworth cascades
for slopes. Rows are b0 b1 b2 a0 a1 a2 with a0 = 1.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

Sections = NDArray[np.float64]
HIGHEST_SHARE = 0.495  # of the sample rate: a corner above is taken down to it


def bell(hz: float, gain_db: float, q: float, rate: int) -> Sections:
    """A bell of a gain and width."""
    a, (c, alpha) = 10.0 ** (gain_db / 40.0), _turn(hz, q, rate)
    return _row([1 + alpha * a, -2 * c, 1 - alpha * a], [1 + alpha / a, -2 * c, 1 - alpha / a])


def notch(hz: float, q: float, rate: int) -> Sections:
    """A notch that is q wide."""
    c, alpha = _turn(hz, q, rate)
    return _row([1, -2 * c, 1], [1 + alpha, -2 * c, 1 - alpha])


def band(hz: float, q: float, rate: int) -> Sections:
    """A band-pass with 0 dB at its middle."""
    c, alpha = _turn(hz, q, rate)
    return _row([alpha, 0.0, -alpha], [1 + alpha, -2 * c, 1 - alpha])


def shelf(hz: float, gain_db: float, q: float, rate: int, *, high: bool) -> Sections:
    """A shelf with half its gain at its corner; q 0.707 is the steepest without a bump."""
    a, (c, alpha) = 10.0 ** (gain_db / 40.0), _turn(hz, q, rate)
    root, s = 2 * math.sqrt(a) * alpha, -1.0 if high else 1.0
    return _row(
        [
            a * ((a + 1) - s * (a - 1) * c + root),
            s * 2 * a * ((a - 1) - s * (a + 1) * c),
            a * ((a + 1) - s * (a - 1) * c - root),
        ],
        [(a + 1) + s * (a - 1) * c + root, -s * 2 * ((a - 1) + s * (a + 1) * c), (a + 1) + s * (a - 1) * c - root],
    )


def passes(hz: float, order: int, rate: int, *, high: bool) -> Sections:
    """A Butterworth high-pass or low-pass of order 1 to 8: 6 dB per octave for each."""
    rows = []
    if order % 2:
        k = math.tan(math.pi * min(hz / rate, HIGHEST_SHARE))
        b = [1.0, -1.0, 0.0] if high else [k, k, 0.0]
        rows.append(_row(b, [1 + k, k - 1, 0.0]))
    for n in range(order // 2):
        angle = math.pi * (2 * n + 1 + (order % 2)) / (2 * order) if order % 2 == 0 else math.pi * (n + 1) / order
        q = 1.0 / (2.0 * math.cos(angle)) if order % 2 else 1.0 / (2.0 * math.sin(angle))
        c, alpha = _turn(hz, q, rate)
        side = (1 + c) / 2 if high else (1 - c) / 2
        rows.append(_row([side, -2 * side if high else 2 * side, side], [1 + alpha, -2 * c, 1 - alpha]))
    return np.concatenate(rows)


def response_db(sections: Sections, hz: NDArray[np.float64], rate: int) -> NDArray[np.float64]:
    """Level of a cascade at each frequency."""
    z = np.exp(-2j * np.pi * np.asarray(hz) / rate)
    total = np.zeros(len(z))
    for b0, b1, b2, a0, a1, a2 in sections:
        value = (b0 + b1 * z + b2 * z * z) / (a0 + a1 * z + a2 * z * z)
        total += 20.0 * np.log10(np.maximum(np.abs(value), 1e-12))
    return total


def ring_frames(sections: Sections, down_db: float) -> int:
    """Frames until the slowest pole has died away by this much."""
    slowest = 0.0
    for _, _, _, _, a1, a2 in sections:
        slowest = max(slowest, float(np.abs(np.roots([1.0, a1, a2])).max(initial=0.0)))
    if slowest <= 0.0:
        return 0
    return math.ceil(down_db / 20.0 * math.log(10.0) / -math.log(min(slowest, 1.0 - 1e-9)))


def _turn(hz: float, q: float, rate: int) -> tuple[float, float]:
    w = 2 * math.pi * min(hz / rate, HIGHEST_SHARE)
    return math.cos(w), math.sin(w) / (2 * q)


def _row(b: list[float], a: list[float]) -> Sections:
    return np.array([[b[0] / a[0], b[1] / a[0], b[2] / a[0], 1.0, a[1] / a[0], a[2] / a[0]]])
