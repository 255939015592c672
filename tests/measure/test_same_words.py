# SPDX-License-Identifier: GPL-3.0-or-later
"""Words said another time are found in other takes; what is fitted falls where the original fell."""

from __future__ import annotations

import json
from collections.abc import Callable
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from scipy.ndimage import uniform_filter1d
from scipy.signal import butter, resample_poly, sosfilt
from tests.cli.test_commands import run

from pulizia import api
from pulizia.audio.source import ArraySource, read_padded
from pulizia.audio.spans import Span
from pulizia.dsp.time_stretch import Stretcher
from pulizia.measure.same_words import LIKENESS, SHORTEST_S, SameWords, described, find_words
from pulizia.media.open import open_media
from pulizia.project.clips import Clip
from pulizia.project.programme_file import clip_of, clip_row
from pulizia.project.warped import WarpedSource, checked
from pulizia.session.words_service import _fitted

RATE = 48_000


def demo(number: int) -> np.ndarray:
    """One channel of a recording of the demo; (frames,) float32."""
    source = open_media(api.demo_files()[number]).source
    return source.read(0, source.frames)[0]


def retake(words: np.ndarray, seed: int) -> np.ndarray:
    """As somebody else would say them another time: other pitch and colour, slower here and faster there."""
    rng = np.random.default_rng(seed)
    spoken = resample_poly(words, int(rng.choice([94, 97, 103, 106])), 100)
    source = ArraySource(spoken[None].astype(np.float32), RATE)
    stretcher = Stretcher(lambda a, b: read_padded(source, a, b), RATE, 1.0, 0)
    blocks, speed = [], 1.0
    while stretcher.place < len(spoken):
        at = stretcher.place
        if len(blocks) % 6 == 0:
            speed = float(rng.uniform(0.75, 1.3))
        blocks.append(stretcher.block())
        stretcher.place = at + stretcher.hop * speed
    made = np.concatenate(blocks, axis=1)[0]
    return made + rng.uniform(-0.4, 0.8) * sosfilt(butter(1, rng.uniform(800, 4000), fs=RATE, output="sos"), made)


def of(samples: np.ndarray) -> ArraySource:
    return ArraySource(np.asarray(samples, dtype=np.float32)[None], RATE)


@pytest.mark.parametrize(
    ("start_s", "stop_s", "seed"), [(7.9, 9.0, 1), (12.0, 13.2, 2), (2.0, 2.8, 3), (17.5, 19.0, 4)]
)
def test_a_retake_is_found_among_other_talk_and_nothing_where_it_is_not(
    start_s: float, stop_s: float, seed: int
) -> None:
    take, other = demo(0), demo(1)
    first, last = round(start_s * RATE), round(stop_s * RATE)
    again = retake(take[first:last], seed)
    at = 6 * RATE
    known, passage = described(of(take)), Span(first, last)
    with_it = described(of(np.concatenate([other[:at], again, other[at:]])))
    found = find_words(known, passage, with_it)
    assert found
    assert abs(found[0].start - at) < 0.15 * RATE
    assert abs(found[0].stop - at - len(again)) < 0.15 * RATE
    assert found[0].likeness > LIKENESS
    steps = np.diff(np.array(found[0].path), axis=0)
    assert (steps > 0).all()  # both run on
    assert (steps[:, 1] / steps[:, 0]).max() <= 2.01  # and no moment takes more than twice its time, or less than half
    assert (steps[:, 1] / steps[:, 0]).min() >= 0.49
    assert [f for f in find_words(known, passage, described(of(other))) if f.likeness > 0.5] == []


def test_the_passage_itself_is_no_other_take_and_level_and_rate_do_not_matter() -> None:
    take = demo(0)
    known, passage = described(of(take)), Span(8 * RATE, 9 * RATE)
    assert not any(f.start < passage.stop and passage.start < f.stop for f in find_words(known, passage, known))
    half = described(ArraySource(0.05 * resample_poly(take, 1, 2)[None].astype(np.float32), RATE // 2))
    found = find_words(known, passage, half)[0]
    assert found.likeness > 0.8
    assert (found.start / half.rate, found.stop / half.rate) == (
        pytest.approx(8.0, abs=0.02),
        pytest.approx(9.0, abs=0.02),
    )


@pytest.mark.parametrize(
    "sound", [np.zeros(RATE), np.zeros(0), np.random.default_rng(1).normal(0, 0.01, 3 * RATE), np.zeros(RATE // 10)]
)
def test_sounds_without_words_hold_none(sound: np.ndarray) -> None:
    known = described(of(demo(0)))
    assert find_words(known, Span(8 * RATE, 9 * RATE), described(of(sound))) == []


def test_too_short_a_passage_is_refused() -> None:
    known = described(of(demo(0)))
    with pytest.raises(ValueError, match="cannot be looked for"):
        find_words(known, Span(0, round(0.5 * SHORTEST_S * RATE)), known)


# -- fitted


def envelope(samples: np.ndarray) -> np.ndarray:
    """What is seen of the level, every 5 ms over 30 ms: not the periods of the voice."""
    return np.sqrt(uniform_filter1d(np.square(samples, dtype=np.float64), 1440)[::240])


def test_a_warped_source_is_itself_around_its_stretch_and_the_same_however_it_is_read() -> None:
    take = of(demo(0))
    at = 8 * RATE
    anchors = checked(((at, at), (at + 24_000, at + 18_000), (at + 48_000, at + 52_000)))
    warped = WarpedSource(take, anchors)
    assert warped.frames == take.frames - 4000
    whole = warped.read(0, warped.frames)
    assert np.array_equal(whole[:, :at], take.read(0, at))  # bit for bit
    assert np.array_equal(whole[:, at + 48_000 :], take.read(at + 52_000, take.frames))
    edges = [0, 1000, at - 1, at + 1, at + 20_000, at + 47_999, at + 48_007, warped.frames]
    parts = [WarpedSource(take, anchors).read(a, b) for a, b in pairwise(edges)]
    assert np.array_equal(np.concatenate(parts, axis=1), whole)
    part = warped.read(at, at + 100)
    part *= 0.0  # who reads may change what it was given
    assert np.array_equal(warped.read(at, at + 100), whole[:, at : at + 100])
    middle = whole[0, at : at + 24_000]
    slower = np.interp(np.linspace(0, 1, 24_000), np.linspace(0, 1, 18_000), np.arange(18_000))
    wanted = np.abs(take.read(at, at + 18_000)[0])[slower.astype(int)]
    assert np.corrcoef(envelope(middle), envelope(wanted))[0, 1] > 0.9  # moments lie where the anchors say
    assert warped.span_key(0, 1000) == WarpedSource(take, anchors).span_key(0, 1000)
    assert warped.span_key(at, at + 100) != WarpedSource(take, (*anchors[:1], *anchors[2:])).span_key(RATE, at + 100)
    silent = WarpedSource(of(np.zeros(12 * RATE)), anchors)
    assert not silent.read(0, silent.frames).any()


@pytest.mark.parametrize(
    "anchors", [(), ((0, 0),), ((5, 6), (10, 11)), ((0, 0), (10, 0)), ((0, 0), (10, 40)), ((0, 0), (100, 10)), ((0, 0), (20_000_000, 20_000_000))]
)  # fmt: skip
def test_anchors_that_cannot_be_are_refused(anchors: tuple[tuple[int, int], ...]) -> None:
    with pytest.raises(ValueError, match=r"fitted|faster"):
        checked(anchors)


def test_words_are_found_by_the_command(capsys, wav: Callable[..., Path], tmp_path: Path) -> None:
    take = demo(0)
    again = retake(take[8 * RATE : round(9.2 * RATE)], 5)
    one = wav(take[None], "one.wav")
    wav(np.concatenate([demo(1)[: 5 * RATE], again])[None], "two.wav")
    (tmp_path / "notes.txt").write_text("no sound")
    code, out, _ = run(capsys, "find", one, "--words", "8.0", "9.2", "--among", tmp_path, "--json")
    assert code == 0
    best = json.loads(out)[0]
    assert Path(best["file"]).name == "two.wav"
    assert best["start_s"] == pytest.approx(5.0, abs=0.15)
    code, out, _ = run(capsys, "find", one, "--words", "8.0", "9.2", "--among", tmp_path)
    assert "two.wav: 0:05" in out
    code, out, err = run(capsys, "find", one, "--words", "6.95", "7.6", "--among", tmp_path)
    assert (code, "Hardly anything is said" in err) == (1, True)
    for words in (("8.0", "8.1"), ("-1", "1"), ("20", "90")):
        code, out, err = run(capsys, "find", one, "--words", *words, "--among", tmp_path)
        assert (code, out, err.count("\n")) == (1, "", 1)
        assert "must lie inside one.wav" in err
    code, _, err = run(capsys, "find", one, "--words", "1", "2", "--among", tmp_path, "-o", tmp_path / "x.wav")
    assert code == 1


@pytest.mark.parametrize("seed", range(6))
def test_whatever_way_is_found_its_fit_can_be_kept_and_opened_again(seed: int) -> None:
    """Ways as crooked as the steps allow, of short and of long passages: a project that holds them must open."""
    rng = np.random.default_rng(seed)
    for _ in range(60):
        moves = rng.choice([(1, 1), (1, 2), (2, 1)], size=rng.integers(8, 200), p=rng.dirichlet(np.ones(3)))
        path = np.concatenate([[[0, 0]], np.cumsum(moves, axis=0)]) * 0.01
        their_rate = int(rng.choice([44_100, 48_000]))
        start = int(rng.integers(0, 10_000))
        same = SameWords(start, start + round(path[-1, 1] * their_rate), 0.6, tuple(map(tuple, path.tolist())))
        span = Span(7000, 7000 + max(2400, round(path[-1, 0] * RATE) + int(rng.integers(-240, 240))))
        warp = _fitted(same, span, their_rate, RATE)
        assert checked(warp) == warp
        assert warp[-1][0] - warp[0][0] == span.frames
        clip = Clip(recording_id="a", start=0, inner=warp[0][0], frames=span.frames, warp=warp)
        assert clip_of(clip_row(clip)).warp == warp


@pytest.mark.parametrize(
    "warp", [[[0, 0], [10**30, 10**30]], [["a", 1]], [[1, 2, 3]], [[0, 0], None], "no", [[0, 0], [float("inf"), 5]]]
)
def test_a_damaged_fit_is_a_damaged_project_not_a_fault(warp: object) -> None:
    row = clip_row(Clip(recording_id="a", start=0, inner=0, frames=100)) | {"warp": warp}
    with pytest.raises((ValueError, TypeError, KeyError)):
        clip_of(row)


def test_words_at_the_very_beginning_of_the_recording_they_are_looked_for_in_are_no_fault() -> None:
    """The pause that comes along before them would begin before the recording does."""
    take = demo(0)
    words, still = take[round(7.9 * RATE) : round(9.0 * RATE)], 0.0005 * np.random.default_rng(1).standard_normal(RATE)
    sound = np.concatenate([words, take[10 * RATE : 14 * RATE], still, words, take[14 * RATE : 16 * RATE]])
    known = described(of(sound))
    first = len(words) + 4 * RATE
    passage = Span(first + RATE // 2, first + RATE + len(words))
    assert find_words(known, passage, known) == []
    without_pause = Span(first + RATE, first + RATE + len(words))
    assert [s.start / RATE for s in find_words(known, without_pause, known)] == [pytest.approx(0.0, abs=0.1)]
