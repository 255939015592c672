# SPDX-License-Identifier: GPL-3.0-or-later
"""Repairs of moments: clicks, thumps and S sounds."""

from __future__ import annotations

import numpy as np
import pytest
from tests.conftest import voice_in_noise
from tests.contracts.test_repairs import RATE, power_db, treated

from pulizia.audio.source import ArraySource
from pulizia.dsp.damped import damped_part
from pulizia.score.steps import make_step
from pulizia.tools import clicks, plosives, sibilance

NOTHING = lambda _p: None  # noqa: E731


@pytest.fixture(scope="module")
def voice() -> np.ndarray:
    """A synthetic voice of twelve seconds with pauses, noise 36 dB below."""
    return voice_in_noise(12.0)[0].astype(np.float64)


def test_clicks_inside_a_vowel_are_mended_and_nothing_else_changes(voice: np.ndarray) -> None:
    rng = np.random.default_rng(5)
    sound, places = voice.copy(), []
    for at in range(RATE + 7000, len(voice) - RATE, 31_013):
        width = int(rng.choice([1, 4, 12, 30]))
        sound[at : at + width] += 0.4 * rng.normal(0, 1, width) * np.hanning(width + 2)[1:-1] + 0.2 * (width == 1)
        places.append((at, at + width))
    settings = clicks.ClicksSettings()
    found = clicks.find(sound.astype(np.float32), 0, settings, RATE)
    assert sum(any(a < q and b > p for a, b in found) for p, q in places) >= 0.95 * len(places)
    made = treated(sound, "clicks")[0].astype(np.float64)
    inside = np.zeros(len(voice), dtype=bool)
    for p, q in places:
        inside[p - 6 : q + 6] = True
    assert power_db((made - voice)[inside]) < power_db((sound - voice)[inside]) - 18
    left = [[places[0][0] / RATE - 0.01, places[0][1] / RATE + 0.01]]
    kept = treated(sound, "clicks", left_s=left)[0]
    assert np.array_equal(kept[places[0][0] : places[0][1]], sound[places[0][0] : places[0][1]].astype(np.float32))
    by_hand = treated(voice, "clicks", mend_s=[[3.0, 3.001]], sensitivity_db=-12.0)[0]
    changed = np.flatnonzero(by_hand != voice.astype(np.float32))
    changed = changed[changed > 2 * RATE]  # the voice itself begins with a step at one second
    assert changed.min() >= 3.0 * RATE
    assert changed.max() < 3.001 * RATE


def test_thumps_are_lowered_in_the_lows_and_in_their_moment_only(voice: np.ndarray) -> None:
    t = np.arange(5000) / RATE
    sound = voice.copy()
    places = [RATE + 12_000, 3 * RATE, 7 * RATE + 500]
    for at in places:
        sound[at : at + 5000] += 0.4 * np.sin(2 * np.pi * 60 * t) * np.exp(-t / 0.03) * np.minimum(1, t / 0.005)
    source = ArraySource(sound[None].astype(np.float32), RATE)
    settings = plosives.PlosivesSettings()
    voice_db = plosives.analyse(source, (), settings, lambda _: None).level_db
    found = plosives.find(source.read(0, source.frames), 0, settings, RATE, voice_db)
    assert all(any(a < p + 5000 and b > p for a, b in found) for p in places)
    made = treated(sound, "plosives")[0]
    change = made - sound
    away = np.ones(len(voice), dtype=bool)
    for a, b in found:
        away[a - 1000 : b + 1000] = False
    assert not np.any(made[away] != sound.astype(np.float32)[away])
    spectrum = np.abs(np.fft.rfft(change[places[1] - 4000 : places[1] + 12_000] * np.hanning(16_000)))
    hz = np.fft.rfftfreq(16_000, 1 / RATE)
    assert 20 * np.log10(spectrum[hz > 400].max() / spectrum.max()) < -35
    burst = slice(places[1], places[1] + 4000)
    assert power_db((made - voice)[burst]) < power_db((sound - voice)[burst]) - 10


def test_s_sounds_are_lowered_by_the_amount_and_vowels_stay_identical(voice: np.ndarray) -> None:
    rng = np.random.default_rng(6)
    sound, places = voice.copy(), []
    for at in range(RATE + 20_000, len(voice) - RATE, 61_000):
        hiss = np.diff(np.diff(rng.normal(0, 0.02, 6002))) * np.hanning(6000)
        sound[at : at + 6000] = 0.05 * sound[at : at + 6000] + hiss
        places.append(at)
    settings = sibilance.SibilanceSettings(
        aim="median", reduction_db=6.0, threshold_db=-6.0, width="wide", low_hz=3000.0
    )
    source = ArraySource(sound[None].astype(np.float32), RATE)
    speaker = sibilance.analyse(source, (), settings, NOTHING)
    assert speaker.count > 10
    made = treated(sound, "sibilance", reduction_db=6.0, threshold_db=-6.0, width="wide", low_hz=3000.0)[0]
    for at in places[1:-1]:
        inner = slice(at + 1500, at + 4500)
        assert power_db(made[inner]) == pytest.approx(power_db(sound[inner]) - 6, abs=1.0)
    vowels = np.ones(len(voice), dtype=bool)
    for at in places:
        vowels[at - 2000 : at + 8000] = False
    assert np.array_equal(made[vowels], sound.astype(np.float32)[vowels])
    marks = sibilance.survey(source, source, (), settings, speaker, NOTHING).marks
    assert abs(len(marks) - len(places)) <= 1


def test_the_shape_of_the_s_is_lowered_most_where_it_stands_highest(voice: np.ndarray) -> None:
    rng = np.random.default_rng(9)
    hz = np.fft.rfftfreq(6000, 1 / RATE)
    peak = np.maximum(
        10 ** (-np.abs(np.log2(np.maximum(hz, 1) / 6500.0)) * 12 / 20), 0.05
    )  # 12 dB per octave around 6.5 kHz
    sound, places = voice.copy(), range(RATE + 20_000, len(voice) - RATE, 61_000)
    for at in places:
        hiss = np.fft.irfft(np.fft.rfft(rng.normal(0, 0.05, 6000)) * peak) * np.hanning(6000)
        sound[at : at + 6000] = 0.05 * sound[at : at + 6000] + hiss
    made = treated(sound, "sibilance", reduction_db=8.0, threshold_db=-8.0, width="shape")[0]

    def fall_db(low: float, high: float) -> float:
        inside = (hz > low) & (hz < high)
        before, after = (
            sum(
                np.sum(np.abs(np.fft.rfft(x[at : at + 6000] * np.hanning(6000))[inside]) ** 2)
                for at in list(places)[1:-1]
            )
            for x in (sound, made)
        )
        return float(10 * np.log10(before / after))

    assert fall_db(6200, 6800) == pytest.approx(8.0, abs=1.5)
    assert fall_db(4300, 4900) < fall_db(6200, 6800) - 1.5
    assert fall_db(500, 2500) < 0.3
    untouched = np.ones(len(voice), dtype=bool)
    for at in places:
        untouched[at - 2000 : at + 8000] = False
    assert np.array_equal(made[untouched], sound.astype(np.float32)[untouched])


def with_s(voice: np.ndarray, over_db: float) -> tuple[np.ndarray, list[slice]]:
    """S sounds whose band, 5 to 9 kHz, stands over the treble on both sides by 5 dB and what is given; where they are."""
    hz = np.fft.rfftfreq(6000, 1 / RATE)
    shape = np.where((hz > 5000) & (hz < 9000), 10 ** ((5.0 + over_db) / 20), 1.0) * (hz > 2500)
    rng, sound, inside = np.random.default_rng(6), voice.copy(), []
    for at in range(RATE + 20_000, len(voice) - RATE, 61_000):
        hiss = np.fft.irfft(np.fft.rfft(rng.normal(0, 0.015, 6000)) * shape) * np.minimum(1.0, 8 * np.hanning(6000))
        sound[at : at + 6000] = 0.01 * sound[at : at + 6000] + hiss
        inside.append(slice(at + 1000, at + 5000))
    return sound, inside


def test_by_default_an_s_is_lowered_as_far_as_it_is_harder_than_a_natural_one(voice: np.ndarray) -> None:
    natural, _ = with_s(voice, 0.0)
    assert np.array_equal(treated(natural, "sibilance")[0], natural.astype(np.float32))
    hard, inside = with_s(voice, 8.0)
    made = treated(hard, "sibilance")[0]
    hz = np.fft.rfftfreq(4000, 1 / RATE)
    band = (hz > 5500) & (hz < 8500)
    before, after = (sum(np.sum(np.abs(np.fft.rfft(x[at])[band]) ** 2) for at in inside) for x in (hard, made))
    assert 10 * np.log10(before / after) == pytest.approx(8.0, abs=1.5)
    old = make_step("sibilance", {"reduction_db": 6.0, "threshold_db": -6.0})
    assert old.settings.aim == "median"  # what an earlier version wrote sounds as it did


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


def test_crackle_in_a_pause_does_not_hide_itself() -> None:
    """Five clicks within 20 ms are a row of pulses as a voice has one, but far higher."""
    rng = np.random.default_rng(4)
    sound = (rng.standard_normal(2 * RATE) * 10 ** (-70 / 20)).astype(np.float32)
    places = [RATE + k for k in (0, 190, 430, 610, 900)]
    for at in places:
        sound[at : at + 3] += np.array([0.05, -0.04, 0.02], dtype=np.float32)
    found = clicks.find(sound, 0, clicks.ClicksSettings(), RATE)
    assert all(any(a <= at < b for a, b in found) for at in places)
    assert len(found) == len(places)
    assert np.abs(treated(sound, "clicks")[0]).max() < 0.003


@pytest.mark.parametrize("parts", [1, 2])
def test_clicks_of_the_mouth_are_taken_out_as_the_resonances_that_they_are(voice: np.ndarray, parts: int) -> None:
    """Damped sinusoids of 2 to 6 kHz that last 2 to 8 ms, one or two in a row; and what stands outside them stays."""
    rng = np.random.default_rng(7)
    sound, places = voice.copy(), []
    for at in range(RATE + 9000, len(voice) - RATE, 47_013):
        tau, hz = rng.uniform(0.0004, 0.0013), rng.uniform(2000, 6000)
        t = np.arange(round(6 * tau * RATE)) / RATE
        ring = 0.3 * np.exp(-t / tau) * np.sin(2 * np.pi * hz * t)
        spots = [at, at + round(rng.uniform(0.003, 0.005) * RATE)][:parts]
        for k, spot in enumerate(spots):
            sound[spot : spot + len(ring)] += ring * (1.0 if k == 0 else 0.6)
        places.append((at, spots[-1] + len(ring)))
    made = treated(sound, "clicks")[0].astype(np.float64)
    cuts = [power_db(sound[a:b] - voice[a:b]) - power_db(made[a:b] - voice[a:b]) for a, b in places]
    assert np.median(cuts) > 25.0
    assert np.quantile(cuts, 0.25) > 10.0
    far = np.ones(len(voice), dtype=bool)
    for a, b in places:
        far[a - 600 : b + 1500] = False
    far[: RATE + 4000] = False  # the voice itself begins with a step at one second
    assert np.array_equal(made[far], sound[far].astype(np.float32))


def test_what_is_no_resonance_is_not_taken_for_one() -> None:
    rng = np.random.default_rng(3)
    model = np.concatenate([[1.0, -1.6, 0.8], np.zeros(6)])
    noise = rng.standard_normal(4000)
    assert damped_part(noise, model, 2000, 2200, RATE).share == 0.0
    impulse = noise.copy()
    impulse[2000:2012] += 300.0 * rng.standard_normal(12)
    assert damped_part(impulse, model, 1997, 2020, RATE).strongest < 0.9
    t = np.arange(200) / RATE
    ringing = noise.copy()
    ringing[2001:2201] += 80.0 * np.exp(-t / 0.0009) * np.sin(2 * np.pi * 3700 * t)
    fit = damped_part(ringing, model, 1997, 2120, RATE)
    assert fit.strongest > 0.95
    assert not fit.wave[:1995].any()
    assert power_db(fit.wave - (ringing - noise)) < power_db(ringing - noise) - 20
