# SPDX-License-Identifier: GPL-3.0-or-later
"""Needles: how quickly classic level meters follow.

VU: a second-order movement over the rectified mean; 99 % of a step after 300 ms, then 1.25 % beyond
it (IEC 60268-17, from memory: 1 to 1.5 %). PPM: a full-wave rectifier that charges quickly and
discharges slowly (IEC 60268-10, from memory). With one charging time both types meet the tone-burst
tables of the standard within their tolerances; the tests hold them to that.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from functools import cache

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.words import N_

VU_DAMPING, VU_RAD_PER_S = 0.81272, 13.512
VU_STEPS_PER_S = 1000
SINE_OVER_RECTIFIED_MEAN = math.pi / 2


@dataclass(frozen=True, slots=True)
class PpmType:
    """Charging time constant and fall of one type of IEC 60268-10."""

    name: str
    charge_s: float
    fall_db_per_s: float


PPM_TYPES = {
    "I": PpmType(N_("type I"), 0.0015, 20.0 / 1.7),
    "IIa": PpmType(N_("type IIa"), 0.00225, 24.0 / 2.8),
}


@dataclass(slots=True)
class VuNeedle:
    """One movement per channel; reads the amplitude of a steady sine."""

    rate: int
    channels: int
    _state: list[tuple[float, float]] = field(init=False)  # value and speed
    _left: Samples = field(init=False)

    def __post_init__(self) -> None:
        self._state = [(0.0, 0.0)] * self.channels
        self._left = np.zeros((self.channels, 0), dtype=np.float32)

    def feed(self, block: Samples) -> NDArray[np.float64]:
        """Move on by a block; the amplitude shown at its end, (channels,)."""
        step = max(1, self.rate // VU_STEPS_PER_S)
        x = np.concatenate([self._left, np.abs(block)], axis=1)
        count = x.shape[1] // step
        self._left = x[:, count * step :]
        means = x[:, : count * step].reshape(self.channels, count, step).mean(axis=2)
        (a, b), (c, d), (to_value, to_speed) = _vu_step(step / self.rate)
        for channel, row in enumerate(means.tolist()):
            value, speed = self._state[channel]
            for mean in row:
                value, speed = a * value + b * speed + to_value * mean, c * value + d * speed + to_speed * mean
            self._state[channel] = (value, speed)
        return np.array([max(value, 0.0) * SINE_OVER_RECTIFIED_MEAN for value, _ in self._state])

    def copied(self) -> VuNeedle:
        """A needle in the same place."""
        made = VuNeedle(self.rate, self.channels)
        made._state, made._left = self._state.copy(), self._left
        return made


@cache
def _vu_step(seconds: float) -> tuple[tuple[float, float], tuple[float, float], tuple[float, float]]:
    """Exact step of y'' + 2 d w y' + w^2 y = w^2 x for x held constant: two matrix rows and the drive."""
    d, w = VU_DAMPING, VU_RAD_PER_S
    decay, turn = math.exp(-d * w * seconds), w * math.sqrt(1 - d * d)
    c, s = math.cos(turn * seconds), math.sin(turn * seconds)
    a = decay * (c + d * w / turn * s)
    b = decay * s / turn
    return (a, b), (-w * w * b, decay * (c - d * w / turn * s)), (1.0 - a, w * w * b)


@dataclass(slots=True)
class PpmNeedle:
    """One rectifier per channel; reads the amplitude of a steady sine."""

    rate: int
    channels: int
    kind: str = "IIa"
    _value: list[float] = field(init=False)

    def __post_init__(self) -> None:
        self._value = [0.0] * self.channels

    def feed(self, block: Samples) -> NDArray[np.float64]:
        """Move on by a block; the highest amplitude shown in it, (channels,)."""
        of = PPM_TYPES[self.kind]
        charge = 1.0 - math.exp(-1.0 / (self.rate * of.charge_s))
        fall = 10.0 ** (-of.fall_db_per_s / 20.0 / self.rate)
        shown = np.zeros(self.channels)
        frames = block.shape[1]
        for channel in range(self.channels):
            value, highest, last = self._value[channel], 0.0, -1
            x = np.abs(block[channel])
            above = np.flatnonzero(x > value * fall**frames)
            for n, level in zip(above.tolist(), x[above].tolist(), strict=True):
                now = value * fall ** (n - last)
                if level > now:
                    value, last = now + (level - now) * charge, n
                    highest = max(highest, value)
            value *= fall ** (frames - 1 - last)
            self._value[channel] = value
            shown[channel] = max(highest, value)
        return shown * _steady_factor(self.kind, self.rate)

    def copied(self) -> PpmNeedle:
        """A needle in the same place."""
        made = PpmNeedle(self.rate, self.channels, self.kind)
        made._value = self._value.copy()
        return made


@cache
def _steady_factor(kind: str, rate: int) -> float:
    """What a needle must be multiplied with to read the amplitude of a steady 1 kHz sine."""
    of = PPM_TYPES[kind]
    charge = 1.0 - math.exp(-1.0 / (rate * of.charge_s))
    fall = 10.0 ** (-of.fall_db_per_s / 20.0 / rate)
    value = highest = 0.0
    for n in range(rate // 5):
        level = abs(math.sin(2 * math.pi * 1000.0 * n / rate))
        value *= fall
        if level > value:
            value += (level - value) * charge
        highest = value if n < rate // 10 else max(highest, value)
    return 1.0 / highest
