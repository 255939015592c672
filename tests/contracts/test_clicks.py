"""What Clicks puts back."""

from __future__ import annotations

import numpy as np
from tests.conftest import voice_in_noise
from tests.contracts.test_repairs import RATE, treated

from pulizia.tools import clicks


def test_the_last_swings_of_a_click_are_not_left_behind() -> None:
    """Short ringing clicks in voiced sound: what is left is less than a tenth, and none of it counts as a click."""
    rng = np.random.default_rng(4)
    clean = voice_in_noise(6.0)
    ringing = np.array([0.2, -0.35, 0.3, -0.2, 0.1, -0.05], np.float32)
    sound = clean.copy()
    places = np.sort(rng.choice(np.arange(RATE, 6 * RATE - RATE, RATE // 8), 20, replace=False))
    for place in places:
        sound[0, place : place + 6] += ringing * rng.choice([-1.0, 1.0])
    made = treated(sound, "clicks")
    inside = np.zeros(clean.shape[1], dtype=bool)
    for place in places:
        inside[place : place + 6] = True
    left = ((made - clean)[0, inside] ** 2).sum() / ((sound - clean)[0, inside] ** 2).sum()
    assert left < 0.01
    assert not clicks.find(made[0], 0, clicks.ClicksSettings(), RATE)
