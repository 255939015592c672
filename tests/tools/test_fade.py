# SPDX-License-Identifier: GPL-3.0-or-later
"""Fades: the shapes by their formulas, and where each way begins and ends."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from pulizia.audio.spans import Span
from pulizia.tools import fade
from pulizia.tools.base import Block
from pulizia.tools.fade import FadeSettings

RATE = 48_000
SHAPES = ("smooth", "power", "linear", "decibel")


def gains(settings: FadeSettings, span: Span, frames: int = RATE, start: int = 0) -> np.ndarray:
    block = Block(np.ones((2, frames), dtype=np.float32), start, RATE)
    made = fade.process(block, settings, (span,))
    assert np.array_equal(made[0], made[1])
    return made[0].astype(np.float64)


@pytest.mark.parametrize(
    ("shape", "at_quarter", "at_half"),
    [
        ("linear", 0.25, 0.5),
        ("smooth", 0.5 - 0.5 * np.cos(np.pi / 4), 0.5),  # half a period of a cosine
        ("power", np.sin(np.pi / 8), np.sqrt(0.5)),  # -3.01 dB in the middle
        ("decibel", 10 ** (-45 / 20), 10 ** (-30 / 20)),  # straight from -60 dB
    ],
)
def test_each_shape_follows_its_formula(shape: str, at_quarter: float, at_half: float) -> None:
    made = fade.gain_at(np.array([-0.5, 0.0, 0.25, 0.5, 1.0, 1.5]), shape)
    assert made == pytest.approx([0.0, 0.0, at_quarter, at_half, 1.0, 1.0], abs=1e-9)
    assert np.all(np.diff(fade.gain_at(np.linspace(0.0, 1.0, 500), shape)) > 0.0)


@given(st.floats(0.0, 1.0))
def test_two_fades_of_equal_power_keep_the_power_and_linear_ones_the_level(share: float) -> None:
    at = np.array([share, 1.0 - share])
    assert np.sum(fade.gain_at(at, "power") ** 2) == pytest.approx(1.0)
    assert np.sum(fade.gain_at(at, "linear")) == pytest.approx(1.0)
    assert np.sum(fade.gain_at(at, "smooth")) == pytest.approx(1.0)


@pytest.mark.parametrize("shape", SHAPES)
def test_in_and_out_are_mirrors_and_both_meet_in_the_middle(shape: str) -> None:
    span = Span(1000, 25_000)
    into, out = gains(FadeSettings(way="in", shape=shape), span), gains(FadeSettings(way="out", shape=shape), span)
    assert np.allclose(into[1000:25_000], out[1000:25_000][::-1])
    both = gains(FadeSettings(way="both", shape=shape), span)
    assert np.allclose(both[1000:25_000], both[1000:25_000][::-1])
    assert both[13_000] == pytest.approx(both[1000:25_000].max(), abs=1e-6)
    for made in (into, out, both):
        assert np.all(made[:1000] == 1.0)
        assert np.all(made[25_000:] == 1.0)


def test_a_length_is_taken_from_the_end_it_belongs_to_and_no_longer_than_there_is() -> None:
    span, tenth = Span(0, RATE), RATE // 10
    into = gains(FadeSettings(way="in", shape="linear", length_s=0.1), span)
    assert into[tenth // 2] == pytest.approx(0.5, abs=1e-3)
    assert np.all(into[tenth:] == 1.0)
    out = gains(FadeSettings(way="out", shape="linear", length_s=0.1), span)
    assert np.all(out[: RATE - tenth] == 1.0)
    assert out[RATE - tenth // 2] == pytest.approx(0.5, abs=1e-3)
    long = gains(FadeSettings(way="both", shape="linear", length_s=60.0), span)
    assert np.allclose(long, gains(FadeSettings(way="both", shape="linear"), span))


@example(30_000, 15_000, "linear", "out")  # a block that goes on behind the fade
@given(st.integers(0, 30_000), st.integers(1, 20_000), st.sampled_from(SHAPES), st.sampled_from(("in", "out", "both")))
def test_a_fade_is_the_same_in_whatever_blocks_it_is_made(start: int, frames: int, shape: str, way: str) -> None:
    settings, span = FadeSettings(way=way, shape=shape), Span(5000, 40_000)
    whole = gains(settings, span)
    part = gains(settings, span, min(frames, RATE - start), start)
    assert np.array_equal(part, whole[start : start + len(part)])
