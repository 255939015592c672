# SPDX-License-Identifier: GPL-3.0-or-later
"""Where the noise changes: told of noises only, never of a voice, and at the moment at which it does."""

from __future__ import annotations

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy.stats import gamma

from pulizia.audio.source import ArraySource
from pulizia.measure import noise_changes
from pulizia.measure.noise_changes import (
    BANDS,
    LOOKS_PER_S,
    SHORTEST_S,
    band_powers,
    change_between_s,
    changes_s,
    quantile_bias,
    quantile_spectrum,
)

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


@pytest.mark.parametrize("rate", [8_000, 22_050, 48_000])
def test_band_powers_are_those_of_white_noise(rate: int) -> None:
    """A bin of a sine window holds 2 s^2 / size of a noise of variance s^2 (its mean square is a half; handbook value)."""
    rng = np.random.default_rng(2)
    loud = rng.normal(0, 0.1, (2, 20 * rate)).astype(np.float32)
    loud[1] *= 0.5
    size = int(2 ** round(np.log2(0.04 * rate)))
    power = band_powers(ArraySource(loud, rate))
    assert power.shape == (20 * LOOKS_PER_S, BANDS) if rate % LOOKS_PER_S == 0 else len(power) >= 20 * LOOKS_PER_S
    inside = power[:-2].mean(axis=0)  # the last look reads beyond the end
    expected = 2.0 * (0.1**2 + 0.05**2) / 2 / size
    assert inside == pytest.approx(np.full(BANDS, expected), rel=0.12)
    assert inside.mean() == pytest.approx(expected, rel=0.03)


def test_band_powers_tell_where_and_how_high() -> None:
    rate, t = 48_000, np.arange(6 * 48_000) / 48_000
    edges = np.geomspace(90.0, 12_000.0, BANDS + 1)
    for band in (2, 7, 12):
        hz = np.sqrt(edges[band] * edges[band + 1])
        tone = np.where((t >= 2.0) & (t < 3.0), np.sin(2 * np.pi * hz * t), 0.0)
        power = band_powers(ArraySource(tone[None].astype(np.float32), rate))
        assert int(power.sum(axis=0).argmax()) == band
        loud = np.flatnonzero(power[:, band] > 0.5 * power[:, band].max())
        assert (loud[0], loud[-1]) == (2 * LOOKS_PER_S, 3 * LOOKS_PER_S - 1)
        assert not power[: 2 * LOOKS_PER_S - 1].any()
    assert band_powers(ArraySource(np.zeros((1, 100), dtype=np.float32), rate)).shape == (1, BANDS)
    shares: list[float] = []
    band_powers(ArraySource(np.zeros((1, 30 * rate), dtype=np.float32), rate), shares.append)
    assert shares[-1] == 1.0
    assert shares == sorted(shares)


@pytest.mark.parametrize(
    ("seconds", "jump_db", "told_once"),
    [(30.0, 2.2, 0), (30.0, 4.0, 1), (4.0, 6.0, 0), (4.0, 8.5, 1), (1.6, 12.0, 0), (56.0, 8.5, 1)],
)
def test_small_and_brief_changes_are_not_told(seconds: float, jump_db: float, told_once: int) -> None:
    """CHANGE_DB, and more where one of the two lasts for less than BRIEF_S."""
    floor = -70.0 + np.random.default_rng(6).normal(0, 3, (SECONDS * LOOKS_PER_S, BANDS))
    floor[round(seconds * LOOKS_PER_S) :] += jump_db
    assert told(floor) == (pytest.approx([seconds], abs=0.1) if told_once else [])


def test_all_of_a_restless_noise_is_told_up_to_a_number(monkeypatch: pytest.MonkeyPatch) -> None:
    floor = -70.0 + np.random.default_rng(7).normal(0, 2, (SECONDS * LOOKS_PER_S, BANDS))
    for first in range(6, SECONDS, 12):
        floor[first * LOOKS_PER_S : (first + 6) * LOOKS_PER_S] += 15.0
    every = told(floor)
    assert every == pytest.approx(list(range(6, SECONDS, 6)), abs=0.1)
    monkeypatch.setattr(noise_changes, "MOST_CHANGES", 3)
    assert len(told(floor)) == 3
    assert set(told(floor)) <= set(every)
    two = -70.0 + np.random.default_rng(7).normal(0, 2, (SECONDS * LOOKS_PER_S, BANDS))
    two[20 * LOOKS_PER_S :] += 6.0
    two[45 * LOOKS_PER_S :] += 14.0
    assert told(two) == pytest.approx([20.0, 45.0], abs=0.1)
    monkeypatch.setattr(noise_changes, "MOST_CHANGES", 1)
    assert told(two) == pytest.approx([45.0], abs=0.1)  # the clearest


def test_the_change_between_two_known_places() -> None:
    rng = np.random.default_rng(8)
    floor = -60.0 + rng.normal(0, 3, (20 * LOOKS_PER_S, BANDS))
    floor[13 * LOOKS_PER_S :, BANDS // 2 :] += 12.0
    voice = floor.copy()
    voice[6 * LOOKS_PER_S : 15 * LOOKS_PER_S : 3] = -20.0  # a voice over most of it
    power = (10 ** (voice / 10)).astype(np.float32)
    assert change_between_s(power, 2.0, 18.0) == pytest.approx(13.0, abs=0.1)
    assert change_between_s(power, -5.0, 99.0) == pytest.approx(13.0, abs=0.1)  # as far as it goes
    assert change_between_s(power, 2.0, 5.0) is None  # the same noise at both
    assert change_between_s(power, 18.0, 18.04) is None
    assert change_between_s(power, 18.0, 2.0) is None
    weak = floor.copy()
    weak[13 * LOOKS_PER_S :, BANDS // 2 :] -= 9.0  # 3 dB are left in half of the bands, 2.1 dB on the whole
    assert change_between_s((10 ** (weak / 10)).astype(np.float32), 2.0, 18.0) is None


def test_the_spectrum_of_a_noise_under_a_voice_has_no_bias() -> None:
    """Powers of Gaussian noise are exponential; two thirds of the frames are covered by a voice in groups, as words are."""
    rng = np.random.default_rng(9)
    noise = np.linspace(1.0, 4.0, 40).astype(np.float32)
    alone = (rng.exponential(1.0, (6000, 40)) * noise).astype(np.float32)
    spectrum = quantile_spectrum(alone)
    assert spectrum == pytest.approx(noise, rel=0.1)
    assert float(np.mean(spectrum / noise)) == pytest.approx(1.0, abs=0.03)
    voiced = alone.copy()
    voiced.reshape(-1, 60, 40)[:, 40:] *= 50.0
    assert float(np.mean(quantile_spectrum(voiced) / noise)) == pytest.approx(1.1, abs=0.15)
    few = alone[:23]
    assert quantile_spectrum(few) == pytest.approx(few.mean(axis=0), rel=1e-5)
    assert quantile_spectrum(few) != pytest.approx(quantile_spectrum(alone[:24]), rel=1e-3)
    assert quantile_bias() == pytest.approx(1.0 / (gamma.ppf(0.15, 6) / 6), rel=1e-9)
