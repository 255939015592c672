# SPDX-License-Identifier: GPL-3.0-or-later
"""The sounds that the golden figures are made of."""

from __future__ import annotations

from functools import cache

import numpy as np
from scipy.signal import butter, resample_poly, sosfilt

from pulizia import api
from pulizia.audio.samples import Samples
from pulizia.media.open import open_media

RATE, SECONDS = 48_000, 7
OTHER_RATE = 44_100


@cache
def voice() -> Samples:
    """Seven seconds of a recording of the demo, its first pause lengthened; (1, frames) float32."""
    source = open_media(api.demo_files()[0]).source
    return np.concatenate(
        [source.read(0, RATE // 2), source.read(0, RATE // 2), source.read(RATE, SECONDS * RATE)], axis=1
    )


@cache
def spoiled() -> Samples:
    """The voice with hum, clicks, thumps, a ring, a beep, hard S, cut peaks and an offset; two channels, the second late."""
    rng = np.random.default_rng(11)
    x = voice()[0].astype(np.float64)
    t = np.arange(len(x)) / RATE
    x += sum(0.004 / k * np.sin(2 * np.pi * 50.02 * k * t + k) for k in range(1, 7))
    for at in (1.4, 2.2, 3.1, 4.4, 5.6, 6.3):
        n = round(at * RATE)
        x[n : n + 40] += 0.3 * rng.standard_normal(40) * np.hanning(40)
    for at in (1.9, 3.7):
        n = round(at * RATE)
        x[n : n + 4000] += 0.25 * np.sin(2 * np.pi * 60 * np.arange(4000) / RATE) * np.hanning(4000)
    x += 0.05 * np.sin(2 * np.pi * 2400 * t) * ((t > 4.6) & (t < 6.0))
    hiss = sosfilt(butter(4, (5000, 8500), "bandpass", fs=RATE, output="sos"), rng.standard_normal(len(x)))
    x += 0.03 * hiss * ((t % 1.3 > 1.0) & (t % 1.3 < 1.12))
    x = np.clip(x, -0.35, 0.35) + 0.003
    second = 0.7 * np.concatenate([np.zeros(40), x[:-40]])
    return np.stack([x, second]).astype(np.float32)


@cache
def strange() -> Samples:
    """Nine seconds at OTHER_RATE in three channels: phrases of changing level in a noise that grows; the same late and
    turned over; another talk. (3, frames) float32.
    """  # noqa: D205
    rng = np.random.default_rng(23)
    talks = []
    for number, first in ((1, 2), (2, 1)):
        source = open_media(api.demo_files()[number]).source
        x = source.read(first * source.rate, (first + 9) * source.rate)[0]
        talks.append(resample_poly(x.astype(np.float64), 147, 160)[: 9 * OTHER_RATE])
    x, other = talks
    t = np.arange(len(x)) / OTHER_RATE
    x = x * 10 ** (np.where(t % 4.0 < 2.0, 5.0, -6.0) / 20)
    x += rng.standard_normal(len(x)) * np.where(t < 4.5, 6e-4, 4e-3)
    x += 0.002 * np.sin(2 * np.pi * 60.03 * t) + 0.001 * np.sin(2 * np.pi * 180.09 * t)
    late = -0.5 * np.concatenate([np.zeros(12), x[:-12]])
    return np.stack([x, late, other]).astype(np.float32)
