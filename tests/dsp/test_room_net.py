# SPDX-License-Identifier: GPL-3.0-or-later
"""The net of Room tail: what its mask may depend on, and what it makes of a burst that dies away in a room."""

from __future__ import annotations

import numpy as np
import pytest

from pulizia.models import cell_net, room_net

BINS = 400
HZ = np.arange(BINS) * 23.4
T60 = np.full(BINS, 0.6)
FRAMES_A_SECOND = 93.75


def dying(t60: float = 0.6) -> tuple[np.ndarray, slice, slice]:
    """Power of a burst of 0.3 s that dies away by 60 dB in t60, and where burst and tail lie."""
    rng = np.random.default_rng(1)
    level = np.full(140, -100.0)
    level[40:68] = -30.0
    level[68:] = np.maximum(-36.0 - 60.0 * np.arange(72) / (t60 * FRAMES_A_SECOND), -100.0)
    power = 10 ** (level / 10)[:, None] * rng.exponential(1.0, (140, BINS))
    return power.astype(np.float32), slice(42, 66), slice(78, 100)


def test_a_burst_stays_and_its_tail_is_lowered() -> None:
    power, burst, tail = dying()
    share = room_net.mask(power, power, T60, HZ)
    assert share[burst].mean() > 0.75
    assert share[tail].mean() < 0.6 * share[burst].mean()
    assert share.min() >= 0.0
    assert share.max() <= 1.0


def test_neither_level_nor_parts_matter(monkeypatch: pytest.MonkeyPatch) -> None:
    power, _, _ = dying()
    power += np.float32(1e-7)
    whole = room_net.mask(power, power, T60, HZ)
    assert np.abs(room_net.mask(power * 1000, power * 1000, T60, HZ) - whole).max() < 0.02
    monkeypatch.setattr(room_net, "FRAMES_AT_ONCE", 17)
    monkeypatch.setattr(cell_net, "CELLS_AT_ONCE", 1000)
    assert np.abs(room_net.mask(power, power, T60, HZ) - whole).max() < 1e-5


def test_silence_and_the_loudest_sound_give_figures() -> None:
    for power in (np.zeros((50, BINS), np.float32), np.full((50, BINS), 1e12, np.float32)):
        assert np.isfinite(room_net.mask(power, power, T60, HZ)).all()
