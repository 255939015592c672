# SPDX-License-Identifier: GPL-3.0-or-later
"""What is rare in a long recording is told, and a room is told through noise: by what it adds and not by word ends alone."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest
from scipy.signal import fftconvolve
from tests.conftest import voice_in_noise
from tests.inspection.test_ear import RATE, source_of, talk

from pulizia.audio.source import ArraySource
from pulizia.inspection import treat
from pulizia.inspection.inspect import find_kind, inspect
from pulizia.inspection.treat import treatment
from pulizia.measure import speech_activity
from pulizia.measure.room_share import HEARD_DB, likely_t60_s, reverb_db
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.score.steps import make_step
from pulizia.tools import breaths
from pulizia.tools.clicks import CLICKS
from pulizia.tools.finding import Problem
from pulizia.tools.noise_finder import NOISE


def _long_talk(seconds: int = 150) -> np.ndarray:
    samples, _phrases = talk()
    return np.tile(samples, seconds // 30)


@pytest.mark.slow
@pytest.mark.parametrize(("gain", "told"), [(0.3, True), (0.004, False)])
def test_a_single_click_is_told_however_long_the_recording_is_where_nothing_else_can_be_it(
    gain: float, *, told: bool
) -> None:
    made = _long_talk()
    assert find_kind("clicks", source_of(made)) is None
    made[70 * RATE + 1234 : 70 * RATE + 1240] += gain * np.array([1, -0.8, 0.6, -0.5, 0.3, -0.1], np.float32)
    found = find_kind("clicks", source_of(made))
    assert (found is not None) == told
    if found is not None:
        assert any(abs(mark.start - 70 * RATE - 1234) < 100 for mark in found.marks)
        assert found.measure == pytest.approx(len(found.marks) / 2.5)


@pytest.mark.slow
def test_a_single_thump_in_a_pause_is_told_and_treated() -> None:
    samples, phrases = talk(pitch=118.0)
    made = np.tile(samples, 5)
    pause = round((phrases[3][1] + 0.05) * RATE) + 60 * RATE
    t = np.arange(6000) / RATE
    made[pause : pause + 6000] += 0.5 * np.sin(2 * np.pi * 50 * t) * np.exp(-t / 0.03)
    source = source_of(made)
    found = find_kind("plosives", source)
    assert found is not None
    assert [abs(mark.start - pause) < 0.1 * RATE for mark in found.marks] == [True]
    done = treatment(source, [found])
    assert [step.tool_id for step in done.steps] == ["plosives"]
    assert done.trials[0].after is None


def _room(t60_s: float, direct: float) -> np.ndarray:
    rng = np.random.default_rng(9)
    t = np.arange(round(1.2 * t60_s * RATE)) / RATE
    made = rng.standard_normal(len(t)) * 10.0 ** (-3.0 * t / t60_s)
    made[0] = direct
    return made / np.sqrt((made**2).sum())


@pytest.mark.slow
@pytest.mark.parametrize("t60_s", [0.5, 1.0])
@pytest.mark.parametrize("snr_db", [None, 25.0, 15.0])
def test_a_room_is_told_through_noise_and_nothing_is_told_without_one(t60_s: float, snr_db: float | None) -> None:
    dry, _phrases = talk()
    noise = np.random.default_rng(3).standard_normal(len(dry))
    noise *= 0.0 if snr_db is None else np.sqrt(np.mean(dry**2)) * 10.0 ** (-snr_db / 20.0)
    wet = fftconvolve(dry, _room(t60_s, 25.0))[: len(dry)]
    levels = [reverb_db(source_of(x + noise)) for x in (dry, wet)]
    assert levels[0] is not None
    assert levels[1] is not None
    assert levels[0] < HEARD_DB - 1.0
    assert levels[1] > HEARD_DB + 0.5
    assert find_kind("room", source_of(dry + noise)) is None
    found = find_kind("room", source_of(wet + noise))
    assert found is not None
    assert found.measure == pytest.approx(levels[1])


@pytest.mark.slow
def test_noise_that_is_lowered_does_not_resolve_a_room_and_the_room_is_treated_behind_it() -> None:
    dry, _phrases = talk()
    wet = fftconvolve(dry, _room(0.6, 20.0))[: len(dry)]
    noisy = wet + 10 ** (-42 / 20) * np.random.default_rng(3).standard_normal(len(dry))
    source = source_of(noisy)
    found = [f for f in inspect(source) if f.kind in ("noise", "room")]
    assert [f.kind for f in found] == ["noise", "room"]
    chain = Chain(source, [make_step("noise", dict(found[0].settings))], ChunkCache(), AnalysisStore())
    chain.prepare()
    lowered = find_kind("room", chain.after)
    assert lowered is not None
    assert lowered.measure == pytest.approx(found[1].measure, abs=1.0)
    done = treatment(source, found)
    assert [step.tool_id for step in done.steps] == ["noise", "room_tail"]
    left = reverb_db(_after(source, done.steps))
    assert left is not None
    assert left < found[1].measure - 1.0


def _after(source: ArraySource, steps: tuple) -> object:
    chain = Chain(source, steps, ChunkCache(), AnalysisStore())
    chain.prepare()
    return chain.after


def test_the_likely_decay_grows_with_the_room_and_nothing_is_told_of_too_little() -> None:
    assert likely_t60_s(HEARD_DB) == pytest.approx(0.4)
    assert likely_t60_s(0.0) == pytest.approx(1.1)
    assert likely_t60_s(-20.0) == pytest.approx(0.4)
    assert reverb_db(ArraySource(np.zeros((1, 5 * RATE), np.float32), RATE)) is None
    assert reverb_db(ArraySource(voice_in_noise(1.0), RATE)) is None


@pytest.mark.slow
@pytest.mark.parametrize("level_db", [0.0, -30.0, -60.0, -90.0])
def test_what_is_found_can_be_treated_at_any_level(level_db: float) -> None:
    """The settings of a finding are allowed ones: a voice at -42 LUFS was told a loudness that no step takes."""
    samples, phrases = talk()
    made = samples.astype(np.float64) + 0.02 * np.sin(2 * np.pi * 50.0 * np.arange(len(samples)) / RATE)
    for a, b in phrases[::2]:
        made[round(a * RATE) : round(b * RATE)] *= 0.25
    made[3 * RATE : 4 * RATE : 9000] += 0.5
    source = source_of(made * 10.0 ** (level_db / 20.0))
    found = inspect(source)
    assert (len(found) > 0) == (level_db > -80.0)
    assert ("level" in {f.kind for f in found}) == (level_db > -40.0)
    for finding in found:
        if finding.tool_id:
            make_step(finding.tool_id, dict(finding.settings))
    done = treatment(source, found)
    assert len(done.trials) >= len([f for f in found if f.tool_id])


@pytest.mark.slow
@pytest.mark.parametrize(("quiet_db", "loud_db"), [(5.0, 5.0), (20.0, 3.0), (25.0, 6.0)])
def test_noise_as_loud_as_the_voice_is_treated_although_it_is_grave_before_and_after(
    quiet_db: float, loud_db: float
) -> None:
    """What is graver than grave can get better, and a voice may lose more level where the noise is nearly as loud."""
    samples, phrases = talk()
    said = np.concatenate([samples[round(a * RATE) : round(b * RATE)] for a, b in phrases])
    spectrum = np.fft.rfft(np.random.default_rng(6).standard_normal(len(samples)))
    pink = np.fft.irfft(spectrum / np.sqrt(np.maximum(np.fft.rfftfreq(len(samples), 1 / RATE), 30.0)), len(samples))
    noise = pink * np.sqrt(np.mean(said**2)) / pink.std()
    half = len(samples) // 2
    noise[:half] *= 10.0 ** (-quiet_db / 20.0)
    noise[half:] *= 10.0 ** (-loud_db / 20.0)
    source = source_of(samples + noise)
    (found,) = [f for f in inspect(source) if f.kind == "noise"]
    assert found.severity == 1.0
    (trial,) = treatment(source, [found]).trials
    assert trial.step is not None, trial.sentence
    assert trial.after is None or trial.after.measure > found.measure + 2.0


def test_less_is_told_of_the_gravest_and_of_the_slightest_trouble() -> None:
    """Beyond grave a tenth of the way counts as elsewhere; of a few clicks an hour, half of them."""

    def less(problem: Problem, was: float, now: float) -> bool:
        return treat._is_less(problem.found("", "", now), problem.found("", "", was))

    assert less(NOISE, 5.0, 9.0)
    assert not less(NOISE, 5.0, 6.0)
    assert less(CLICKS, 0.4, 0.2)
    assert not less(CLICKS, 0.4, 0.3)
    assert not less(CLICKS, 0.4, 0.4)


def test_breaths_of_a_long_recording_are_counted_by_the_part_that_was_listened_to(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """Levels of another moment were read before: where only a part is listened to, places begin with that part."""
    samples, phrases = talk()
    made = np.tile(samples, 3).astype(np.float64)
    rng = np.random.default_rng(5)
    hz = np.fft.rfftfreq(9600, 1 / RATE)
    for n in range(3):
        for (_, a), (b, _) in pairwise(phrases):
            if b - a > 0.3:
                puff = np.fft.irfft(np.fft.rfft(rng.standard_normal(9600)) / (1 + ((hz - 1600) / 1200) ** 2))
                at = round((30 * n + (a + b) / 2) * RATE) - 4800
                made[at : at + 9600] += 0.02 * puff / puff.std() * np.hanning(9600)
    (whole,) = breaths.findings(source_of(made), lambda _share: None)
    monkeypatch.setattr(speech_activity, "MOST_LISTENED_S", 30.0)
    (part,) = breaths.findings(source_of(made + 1e-7), lambda _share: None)
    assert part.measure == pytest.approx(whole.measure, rel=0.1)
