# SPDX-License-Identifier: GPL-3.0-or-later
"""The voice sieve: equals its model, at any level and rate, in any order of reading, and says why when it cannot run."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.signal import resample_poly
from tests.conftest import voice_in_noise

from pulizia.audio.source import ArraySource
from pulizia.errors import AnalysisError
from pulizia.models import voice_net
from pulizia.models.voice_net import DELAY, VoiceNet
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.score.runs import CHUNK_FRAMES
from pulizia.score.steps import make_step

RATE = 48_000
SOUND = voice_in_noise(3.2, seed=11)

pytestmark = pytest.mark.skipif(bool(voice_net.why_not()), reason="the model is not installed")


def chain(samples: np.ndarray, rate: int = RATE, **settings: object) -> Chain:
    return Chain(ArraySource(samples, rate), [make_step("voice_sieve", settings)], ChunkCache(), AnalysisStore())


@pytest.mark.slow
def test_it_equals_its_model_from_40_db_below_to_12_db_above() -> None:
    """Reference: the model itself at -26 dBFS active level, its own delay taken off, from a second of silence on."""
    whole = chain(SOUND, amount=1.0)
    gain = next(iter(whole.stages.values())).analysis()
    fed = np.concatenate([np.zeros(RATE, np.float32), SOUND[0] * np.float32(gain), np.zeros(DELAY + 480, np.float32)])
    answer = VoiceNet().feed(fed[: len(fed) // 480 * 480])[RATE + DELAY :][: SOUND.shape[1]] / gain
    made = whole.after.read(0, SOUND.shape[1])[0]
    assert np.abs(made[: len(answer)] - answer[: len(made)]).max() < 1e-5
    for db in (-40.0, 12.0):
        factor = np.float32(10 ** (db / 20))
        other = chain(SOUND * factor, amount=1.0).after.read(0, SOUND.shape[1])[0] / factor
        error = 10 * np.log10(np.sum((other - made) ** 2) / np.sum(made**2))
        assert error < -40


@pytest.mark.slow
def test_reading_order_does_not_matter_and_the_amount_is_exact() -> None:
    frames = SOUND.shape[1]
    whole = chain(SOUND, amount=1.0).after.read(0, frames)
    other = chain(SOUND, amount=1.0).after
    late = other.read(CHUNK_FRAMES + 500, frames)
    early = other.read(0, CHUNK_FRAMES + 500)
    assert np.array_equal(np.concatenate([early, late], axis=1), whole)
    cut = slice(0, 60_000)  # the model lowers the noise before the voice
    noise = 20 * np.log10(np.std(whole[:, 20_000:40_000]) / np.std(SOUND[:, 20_000:40_000]))
    assert noise < -15
    assert np.array_equal(chain(SOUND, amount=0.0).after.read(0, 60_000), SOUND[:, cut])
    usual = chain(SOUND, amount=0.7).after.read(0, 60_000)
    left = 10 ** (-18.0 / 20.0)  # what is common practice as a limit for speech
    assert usual == pytest.approx(left * SOUND[:, cut] + (1.0 - left) * whole[:, cut], abs=1e-6)
    limited = chain(SOUND, amount=1.0, limit_db=12.0).after.read(20_000, 40_000)
    assert 20 * np.log10(np.std(limited) / np.std(SOUND[:, 20_000:40_000])) > -12.1


@pytest.mark.slow
@pytest.mark.parametrize(("rate", "up", "down"), [(96_000, 2, 1), (44_100, 147, 160)])
def test_other_rates_lose_and_gain_no_treble(rate: int, up: int, down: int) -> None:
    sound = resample_poly(SOUND, up, down, axis=1).astype(np.float32)
    rng = np.random.default_rng(2)
    if rate > RATE:  # a tone above the model's reach
        sound += (0.01 * np.sin(2 * np.pi * 30_000 * np.arange(sound.shape[1]) / rate) * (rng.random() > -1)).astype(
            np.float32
        )
    made = chain(sound, rate, amount=1.0).after.read(0, sound.shape[1])[0]
    reference = chain(SOUND, amount=1.0).after.read(0, SOUND.shape[1])[0]
    back = resample_poly(made, down, up)[: SOUND.shape[1]]
    error = 10 * np.log10(np.sum((back - reference[: len(back)]) ** 2) / np.sum(reference**2))
    assert error < -18
    assert chain(sound, rate, amount=0.0).after.read(0, 50_000) == pytest.approx(sound[:, :50_000], abs=0)
    if rate > RATE:
        spectrum = np.abs(np.fft.rfft(made[: 2 * rate] * np.hanning(2 * rate)))
        assert (
            spectrum[60_000 - 5 : 60_000 + 5].max()
            < 1.01 * np.abs(np.fft.rfft(sound[0, : 2 * rate] * np.hanning(2 * rate))).max()
        )


def test_without_the_model_there_is_one_sentence(monkeypatch: pytest.MonkeyPatch) -> None:
    sentence = "The voice sieve needs its model: install it."
    monkeypatch.setattr("pulizia.tools.voice_sieve.why_not", lambda: sentence)
    with pytest.raises(AnalysisError, match="needs its model"):
        chain(SOUND).after.read(0, 100)


@pytest.mark.slow
@pytest.mark.parametrize("rate", [8000, 192_000])
def test_odd_sounds_come_out_finite(rate: int) -> None:
    for samples in (np.zeros((1, 1)), np.ones((2, 3000)), np.sign(np.sin(np.arange(9000) / 9))[None]):
        made = chain(samples.astype(np.float32), rate).after.read(0, samples.shape[1])
        assert made.shape == samples.shape
        assert np.isfinite(made).all()
