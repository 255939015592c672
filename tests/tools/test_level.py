# SPDX-License-Identifier: GPL-3.0-or-later
"""Level: the plain figures of their settings, over sections, channels and blocks."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from pulizia.audio.source import ArraySource
from pulizia.audio.spans import Span
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.score.steps import make_step
from pulizia.tools import level
from pulizia.tools.level import LevelSettings

RATE = 48_000
QUIET, LOUD = Span(0, 2 * RATE), Span(2 * RATE, 4 * RATE)


def nothing(_share: float) -> None:
    pass


@pytest.fixture
def sound() -> np.ndarray:
    """Two channels: the first peaks at 0.1 and 0.4, the second at 0.2 and 0.05, in two sections of two seconds."""
    made = np.random.default_rng(2).uniform(-0.01, 0.01, (2, 4 * RATE)).astype(np.float32)
    for channel, frame, peak in ((0, 500, 0.1), (1, 900, -0.2), (0, 3 * RATE, -0.4), (1, 3 * RATE + 7, 0.05)):
        made[channel, frame] = peak
    return made


def treated(
    sound: np.ndarray, spans: tuple[Span, ...] | None = None, tool: str = "level", **chosen: object
) -> np.ndarray:
    made = Chain(ArraySource(sound, RATE), [make_step(tool, chosen, spans=spans)], ChunkCache(), AnalysisStore())
    return made.after.read(0, sound.shape[1])


@pytest.mark.parametrize(
    ("linked", "each", "factors"),  # of the first and second section, for both channels
    [
        (True, False, ((0.5 / 0.4, 0.5 / 0.4), (0.5 / 0.4, 0.5 / 0.4))),
        (False, False, ((0.5 / 0.4, 0.5 / 0.4), (0.5 / 0.2, 0.5 / 0.2))),
        (True, True, ((0.5 / 0.2, 0.5 / 0.4), (0.5 / 0.2, 0.5 / 0.4))),
        (False, True, ((0.5 / 0.1, 0.5 / 0.4), (0.5 / 0.2, 0.5 / 0.05))),
    ],
)
def test_sections_and_channels_come_to_the_peak_together_or_each_for_itself(
    sound: np.ndarray, *, linked: bool, each: bool, factors: tuple[tuple[float, float], ...]
) -> None:
    chosen = LevelSettings(peak_dbfs=20 * np.log10(0.5), linked=linked, each=each)
    found = level.analyse(ArraySource(sound, RATE), (QUIET, LOUD), chosen, nothing)
    assert found.peaks == pytest.approx(np.array([[0.1, 0.2], [0.4, 0.05]]))
    assert pytest.approx(np.array(factors), rel=1e-5) == level.gains_of(chosen, found).T


@settings(max_examples=30, deadline=None)
@given(st.floats(-40.0, 0.0), st.integers(1, 3 * RATE))
def test_the_loudest_sample_lies_at_the_peak_wherever_it_is(peak_dbfs: float, frame: int) -> None:
    sound = np.full((1, 3 * RATE + 1), 1e-4, dtype=np.float32)
    sound[0, frame] = -0.03
    made = treated(sound, way="peak", peak_dbfs=peak_dbfs)
    assert 20 * np.log10(np.abs(made).max()) == pytest.approx(peak_dbfs, abs=1e-3)
    assert np.allclose(made, sound * (made[0, frame] / sound[0, frame]), rtol=1e-5)


def test_silence_stays_silent_and_what_lies_outside_the_selection_as_it_is(sound: np.ndarray) -> None:
    assert not treated(np.zeros((2, RATE), dtype=np.float32), way="peak").any()
    made = treated(sound, (Span(2 * RATE, 4 * RATE),), way="peak", peak_dbfs=0.0)
    edge = round(0.1 * RATE)  # a step fades in and out at its ends
    assert np.array_equal(made[:, : 2 * RATE - edge], sound[:, : 2 * RATE - edge])
    assert np.abs(made).max() == pytest.approx(1.0, abs=1e-5)


@pytest.mark.parametrize(("gain_db", "words"), [(-6.0, "\u22126.0 dB"), (12.5, "+12.5 dB"), (0.0, "0.0 dB")])
def test_a_gain_is_that_gain_and_the_strip_says_it(sound: np.ndarray, gain_db: float, words: str) -> None:
    made = treated(sound, way="gain", gain_db=gain_db)
    assert np.allclose(made, sound * 10 ** (gain_db / 20), rtol=1e-5)
    assert level.caption(LevelSettings(way="gain", gain_db=gain_db)) == words
    assert level.caption(LevelSettings(peak_dbfs=-3.0)) == "peak \u22123.0 dBFS"
    assert level.analysis_places(LevelSettings(way="gain"), RATE) == ()
    assert level.analysis_places(LevelSettings(), RATE) is None
