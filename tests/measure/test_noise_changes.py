# SPDX-License-Identifier: GPL-3.0-or-later
"""Where the noise changes: told of noises only, never of a voice, and at the moment at which it does."""

from __future__ import annotations

import numpy as np
import pytest
from numpy.typing import NDArray

from pulizia.measure.noise_changes import BANDS, LOOKS_PER_S, SHORTEST_S, changes_s

SECONDS = 60
FLOOR_DB = -99.0


def voice_db(
    rng: np.random.Generator, floor: NDArray[np.float64], *, pauses_until_s: float, fall_db_s: float
) -> NDArray[np.float64]:
    """(looks, bands) phrases of 2.4 s that die away; a pause of 0.4 s behind each in the first part alone."""
    level = np.full((SECONDS * LOOKS_PER_S, BANDS), -np.inf)
    at = 0
    while at + 70 < len(level):
        colour = rng.normal(0, 5, BANDS) - 1.5 * np.arange(BANDS)
        level[at : at + 48] = -45 + colour + rng.normal(0, 6, (48, BANDS))
        falling = -fall_db_s * np.arange(14)[:, None] / LOOKS_PER_S
        level[at + 48 : at + 62] = -62 + colour + falling + rng.normal(0, 2.5, (14, BANDS))
        at += 70 if at < pauses_until_s * LOOKS_PER_S else 62
    return np.asarray(10 * np.log10(10 ** (level / 10) + 10 ** (floor / 10)))


def told(level_db: NDArray[np.float64]) -> list[float]:
    return changes_s((10 ** (level_db / 10)).astype(np.float32))


@pytest.mark.parametrize("seed", range(4))
@pytest.mark.parametrize("pauses_until_s", [0.0, 30.0, 60.0])
def test_words_that_die_away_are_no_noise(seed: int, pauses_until_s: float) -> None:
    rng = np.random.default_rng(seed)
    floor = FLOOR_DB + rng.normal(0, 3, (SECONDS * LOOKS_PER_S, BANDS))
    assert told(voice_db(rng, floor, pauses_until_s=pauses_until_s, fall_db_s=30.0)) == []


@pytest.mark.parametrize("jump_db", [-14.0, -8.0, 8.0, 14.0])
@pytest.mark.parametrize("seed", range(3))
def test_a_change_inside_a_phrase_is_told_at_its_moment(seed: int, jump_db: float) -> None:
    rng = np.random.default_rng(seed)
    place = 31.0 + rng.uniform(0.0, 2.0)
    tilt = np.linspace(6, -6, BANDS)
    floor = -74.0 + tilt + rng.normal(0, 3, (SECONDS * LOOKS_PER_S, BANDS))
    floor[round(place * LOOKS_PER_S) :] += jump_db
    voice = voice_db(rng, floor, pauses_until_s=60.0, fall_db_s=30.0)
    voice[:, :3] = floor[:, :3]  # nothing of the voice lies below its pitch: the noise is heard through it
    (change,) = told(voice)
    assert change == pytest.approx(place, abs=0.1)


def test_what_is_too_short_or_near_an_end_is_not_told() -> None:
    rng = np.random.default_rng(5)
    floor = -70.0 + rng.normal(0, 3, (SECONDS * LOOKS_PER_S, BANDS))
    assert told(floor) == []
    assert told(floor[: round(2 * SHORTEST_S * LOOKS_PER_S) - 1]) == []
    brief = floor.copy()
    brief[30 * LOOKS_PER_S : 32 * LOOKS_PER_S] += 12.0  # shorter than SHORTEST_S
    assert told(brief) == []
    late = floor.copy()
    late[-LOOKS_PER_S:] += 12.0
    assert told(late) == []
    twice = floor.copy()
    twice[20 * LOOKS_PER_S : 40 * LOOKS_PER_S] += 6.0
    assert told(twice) == pytest.approx([20.0, 40.0], abs=0.1)
    assert told(np.full_like(floor, -130.0)) == []  # digital silence holds no noise that could change
