# SPDX-License-Identifier: GPL-3.0-or-later
"""Parts on a timeline: what is read is the same however it is read, and fades do what they say."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
import soxr
from hypothesis import given, settings
from hypothesis import strategies as st

from pulizia.audio.fades import likeness_of, rise
from pulizia.audio.source import ArraySource
from pulizia.audio.timeline import Edge, MixSource, Part, TimelineSource
from pulizia.media.pulled_rate import PulledRateSource

RATE = 48_000
ONE = np.ones((1, 1), np.float32)
SOUND = np.random.default_rng(5).normal(0, 0.1, (1, 6000)).astype(np.float32)
SOURCE = ArraySource(SOUND, RATE)


def timeline(*parts: Part, frames: int = 20_000) -> TimelineSource:
    return TimelineSource.of_parts(parts, rate=RATE, channels=1, frames=frames)


edges = st.builds(Edge, st.integers(0, 300), st.sampled_from(["gain", "power", "matched"]))


@st.composite
def rows(draw: st.DrawFn) -> list[Part]:
    """Parts in a row, with gaps, cuts and cross-fades; some reach over the ends of their source."""
    at, made, room = draw(st.integers(0, 500)), [], 0
    for _ in range(draw(st.integers(1, 6))):
        frames = draw(st.integers(400, 2500))
        line = draw(st.sampled_from([(), ((0, -3.0), (350, 6.0)), ((100, 0.0),)]))
        made.append(Part(SOURCE, at, draw(st.integers(-300, 5500)), frames, ONE, line, draw(edges), draw(edges)))
        overlap = draw(st.integers(0, min(180, frames - room - 1)))
        room = overlap
        at += frames + (draw(st.integers(0, 400)) if draw(st.booleans()) else -overlap)
    return made


@settings(max_examples=120, deadline=None)
@given(rows(), st.lists(st.integers(0, 20_000), max_size=5), st.integers(1, 4000))
def test_pieces_are_the_whole_silence_lies_outside_and_a_moved_row_is_moved_samples(
    row: list[Part], cuts: list[int], shift: int
) -> None:
    made = timeline(*row)
    whole = made.read(0, made.frames)
    assert np.isfinite(whole).all()
    places = sorted({0, made.frames, *cuts})
    pieces = [made.read(a, b) for a, b in itertools.pairwise(places)]
    assert np.array_equal(np.concatenate(pieces, axis=1), whole)
    covered = np.zeros(made.frames, bool)
    for part in row:
        covered[part.start : part.stop] = True
    assert not whole[:, ~covered].any()
    later = [
        Part(p.source, p.start + shift, p.inner, p.frames, p.weights, p.gain_line, p.fade_in, p.fade_out) for p in row
    ]
    moved = timeline(*later, frames=30_000)
    assert np.array_equal(moved.read(shift, shift + 15_000), whole[:, :15_000])
    assert moved.span_key(shift, shift + 15_000) == made.span_key(0, 15_000)


@settings(max_examples=60, deadline=None)
@given(st.integers(1, 2999))
def test_a_cut_without_a_fade_is_heard_by_nobody(at: int) -> None:
    whole = timeline(Part(SOURCE, 100, 50, 3000, ONE))
    parted = timeline(Part(SOURCE, 100, 50, at, ONE), Part(SOURCE, 100 + at, 50 + at, 3000 - at, ONE))
    assert np.array_equal(whole.read(0, 5000), parted.read(0, 5000))


@pytest.mark.parametrize("likeness", [-0.7, -0.3, 0.0, 0.4, 0.9, 1.0])
def test_a_matched_cross_fade_keeps_the_level(likeness: float) -> None:
    """Two noises of equal level and known correlation: the power of their sum follows from the definition of correlation."""
    rng = np.random.default_rng(11)
    frames = 96_000
    a, own = rng.standard_normal((2, frames))
    b = likeness * a + np.sqrt(1 - likeness**2) * own
    first, second = (ArraySource((0.1 * x)[None].astype(np.float32), RATE) for x in (a, b))
    length = 60_000
    made = timeline(
        Part(first, 0, 0, 78_000, ONE), Part(second, 18_000, 18_000, 78_000, ONE, (), Edge(0, "matched")), frames=frames
    )
    assert likeness_of(first.read(18_000, 78_000), second.read(18_000, 78_000)) == pytest.approx(likeness, abs=0.02)
    sound = made.read(0, frames)[0].astype(float)
    for at in range(18_000, 18_000 + length, 6000):
        assert 10 * np.log10(np.mean(sound[at : at + 6000] ** 2) / 0.01) == pytest.approx(0.0, abs=0.5)


def test_laws_and_gain_lines_are_what_they_say() -> None:
    share = np.linspace(0.0, 1.0, 11)
    assert np.allclose(rise(share, "gain") + rise(1 - share, "gain"), 1.0)
    assert np.allclose(rise(share, "power") ** 2 + rise(1 - share, "power") ** 2, 1.0)
    level = ArraySource(np.full((1, 1000), 0.5, np.float32), RATE)
    made = timeline(Part(level, 0, 0, 1000, ONE, ((0, 0.0), (1000, -20.0))), frames=1000).read(0, 1000)[0]
    assert 20 * np.log10(made[499] / 0.5) == pytest.approx(-10.0, abs=0.02)
    stereo = Part(level, 0, 0, 1000, np.array([[0.5], [-0.25]], np.float32))
    assert TimelineSource.of_parts([stereo], rate=RATE, channels=2, frames=1000).read(10, 11).tolist() == [
        [0.25],
        [-0.125],
    ]
    both = MixSource([(level, 1.0), (SOURCE, 0.5)], rate=RATE, channels=1, frames=6000)
    assert np.allclose(both.read(0, 1000), 0.5 + 0.5 * SOUND[:, :1000])
    assert np.allclose(both.read(2000, 3000), 0.5 * SOUND[:, 2000:3000])


def test_parts_that_cannot_lie_so_are_refused() -> None:
    a, inside = Part(SOURCE, 0, 0, 1000, ONE), Part(SOURCE, 100, 0, 200, ONE)
    with pytest.raises(ValueError, match="inside"):
        timeline(a, inside)
    with pytest.raises(ValueError, match="three"):
        timeline(a, Part(SOURCE, 500, 0, 1000, ONE), Part(SOURCE, 900, 0, 1000, ONE))


@pytest.mark.parametrize(("have", "want"), [(44_100, 48_000), (48_000, 44_100), (96_000, 48_000), (32_000, 48_000)])
def test_a_pulled_rate_is_the_same_however_it_is_read_and_that_of_the_library(have: int, want: int) -> None:
    """The reference converts the whole at once (soxr, VHQ)."""
    sound = np.random.default_rng(2).normal(0, 0.1, (2, 3 * have)).astype(np.float32)
    made = PulledRateSource(ArraySource(sound, have), want)
    whole = made.read(0, made.frames)
    places = [0, 17, 40_000, 40_001, 100_003, made.frames]
    pieces = [made.read(a, b) for a, b in itertools.pairwise(places)]
    assert np.array_equal(np.concatenate(pieces, axis=1), whole)
    reference = soxr.resample(sound.T, have, want, quality="VHQ").T
    inner = slice(2000, min(whole.shape[1], reference.shape[1]) - 2000)
    assert np.abs(whole[:, inner] - reference[:, inner]).max() < 2e-6
    assert made.frames == -(-3 * have * want // have)
