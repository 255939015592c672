# SPDX-License-Identifier: GPL-3.0-or-later
"""The gain of Noise: the classical estimate (:mod:`pulizia.dsp.spectral_gain`), and the net's share of the voice beside it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from pulizia.dsp.spectral_gain import noise_gain
from pulizia.models import noise_net
from pulizia.units import db_to_gain

XI_MIN = db_to_gain(-25.0) ** 2  # common practice between -15 and -25 dB
LEARNED_LOWEST = db_to_gain(-30.0)  # of the classical estimate that the net was learned with
SHARE_POWER = 0.8  # of the share that the net tells, in the gain that acts


def told_gain(
    gamma: NDArray[np.float32], alpha: float, bin_hz: float, lowest: float | NDArray[np.float32]
) -> NDArray[np.float32]:
    """The gain that the net tells beside the classical estimate, which alone holds above what it has learned."""
    deep = np.minimum(np.asarray(lowest, dtype=np.float32), np.float32(LEARNED_LOWEST))
    classical = noise_gain(gamma, alpha=alpha, xi_min=XI_MIN, bin_hz=bin_hz, lowest=deep)
    hz = np.arange(gamma.shape[1]) * bin_hz
    top = int(np.searchsorted(hz, noise_net.HIGHEST_HZ))
    share = noise_net.share(gamma[:, :top], np.maximum(classical[:, :top], np.float32(LEARNED_LOWEST)), hz[:top])
    gain = classical
    np.power(share, np.float32(SHARE_POWER), out=gain[:, :top])
    return np.maximum(gain, lowest, out=gain)


def spread(pair_gain: NDArray[np.float32]) -> NDArray[np.float32]:
    """Gains of single frames, between those of neighbouring pairs."""
    quarter = pair_gain * np.float32(0.25)
    gain = np.empty((len(pair_gain), 2, pair_gain.shape[1]), dtype=np.float32)
    np.multiply(pair_gain, np.float32(0.75), out=gain[:, 0])
    gain[:, 1] = gain[:, 0]
    gain[1:, 0] += quarter[:-1]
    gain[0, 0] += quarter[0]
    gain[:-1, 1] += quarter[1:]
    gain[-1, 1] += quarter[-1]
    return gain.reshape(-1, pair_gain.shape[1])


def pair_power(spectrum: NDArray[np.complex64]) -> NDArray[np.float32]:
    """Mean power of frames 2k and 2k + 1, which overlap by three quarters."""
    squares = np.square(spectrum.view(np.float32))
    pairs = squares[0::2] + squares[1::2]
    power = pairs[:, 0::2] + pairs[:, 1::2]
    return np.asarray(power * np.float32(0.5))
