# SPDX-License-Identifier: GPL-3.0-or-later
"""Clicks as disturbances that were added to the voice: against the closed form, and on talk with known clicks."""

from __future__ import annotations

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy.linalg import toeplitz
from scipy.signal import lfilter
from tests.inspection.test_ear import RATE, talk

from pulizia.dsp.autoregression import _quantiles, fill, left_over
from pulizia.tools.base import Block
from pulizia.tools.clicks import ClicksSettings, process

COEFFICIENTS = np.array([1.0, -1.6, 1.1, -0.4])


def test_what_is_held_to_its_sample_is_the_mean_of_the_gaussian_posterior() -> None:
    """Oracle: the conditional mean of a joint Gaussian, from the dense covariance of the process (textbook formula)."""
    rng = np.random.default_rng(7)
    x = lfilter([1.0], COEFFICIENTS, rng.standard_normal(400))[200:]
    missing = np.zeros(200, dtype=bool)
    missing[90:110] = True
    spread = np.full(20, 4.0) * np.exp(-np.arange(20) / 6.0)  # variance of the disturbance over that of the innovation
    heard = x.copy()
    heard[missing] += rng.standard_normal(20) * np.sqrt(spread)
    made = fill(heard, missing, COEFFICIENTS, 1.0 / spread)

    impulse = lfilter([1.0], COEFFICIENTS, np.r_[1.0, np.zeros(3000)])
    covariance = toeplitz([impulse[: len(impulse) - k] @ impulse[k:] for k in range(200)])
    seen = covariance + np.diag(np.where(missing, 0.0, 1e-9))
    seen[np.ix_(missing, missing)] += np.diag(spread)
    mean = covariance @ np.linalg.solve(seen, heard)
    assert made[missing] == pytest.approx(mean[missing], abs=1e-5)
    assert np.sum((made - x) ** 2) < np.sum((heard - x) ** 2)


def burst(rng: np.random.Generator) -> NDArray[np.float64]:
    """A crack of up to 3 ms that dies away."""
    n = int(rng.uniform(0.0004, 0.003) * RATE)
    made = rng.standard_normal(n) * np.exp(-np.arange(n) / (n / 3.0))
    return made / np.abs(made).max()


def smack(rng: np.random.Generator) -> NDArray[np.float64]:
    """A short ring of 2 to 6 kHz, as lips and tongue make it."""
    hz, dies_s = rng.uniform(2000, 6000), rng.uniform(0.0004, 0.0012)
    t = np.arange(int(5 * dies_s * RATE)) / RATE
    return np.sin(2 * np.pi * hz * t) * np.exp(-t / dies_s)


@pytest.mark.slow
@pytest.mark.parametrize(("shape", "least_db", "least_share"), [(burst, 9.0, 0.9), (smack, 5.0, 0.6)])
def test_clicks_of_each_kind_are_taken_from_talk_at_the_default_settings(
    shape, least_db: float, least_share: float
) -> None:
    voice = talk()[0].astype(np.float64)
    rng = np.random.default_rng(12)
    sound, inside, places = voice.copy(), np.zeros(len(voice), dtype=bool), []
    loud = float(np.sqrt(np.mean(voice**2)))
    for at in np.arange(1.3, 27.0, 0.61):
        click = shape(rng) * loud * 10 ** (rng.uniform(0, 12) / 20)
        a = round(at * RATE)
        sound[a : a + len(click)] += click
        inside[a - 24 : a + len(click) + 48] = True
        places.append((a - 24, a + len(click) + 48))
    made = process(Block(sound[None].astype(np.float32), 0, RATE), ClicksSettings(), None)[0]
    was, now = (sound - voice) ** 2, (made - voice) ** 2
    assert 10 * np.log10(was[inside].sum() / now[inside].sum()) >= least_db
    better = [was[a:b].sum() >= 4.0 * now[a:b].sum() for a, b in places]
    assert np.mean(better) >= least_share
    elsewhere = (made - sound.astype(np.float32))[~inside]
    assert np.sum(elsewhere.astype(np.float64) ** 2) < 1e-5 * np.sum(voice**2)


@pytest.mark.parametrize("count", [1, 2, 3, 10, 101, 3000])
def test_quantiles_are_those_of_numpy(count: int) -> None:
    values = np.abs(np.random.default_rng(count).standard_normal(count))
    assert _quantiles(values, 0.5, 0.995) == pytest.approx([np.median(values), np.quantile(values, 0.995)], rel=1e-12)


def test_where_nothing_is_known_no_end_of_a_click_is_looked_for() -> None:
    whole = np.ones(30, dtype=bool)
    assert not left_over(np.ones(30), np.zeros(30), whole, order=44, reach=5).any()
