# SPDX-License-Identifier: GPL-3.0-or-later
"""Recordings of one moment: lined up to the sample, put on one clock, and left alone when they heard different things."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from numpy.typing import NDArray

from pulizia.audio.aligned import AlignedSource
from pulizia.audio.source import ArraySource
from pulizia.cli.main import main
from pulizia.measure.line_up import LineUp, line_up
from pulizia.measure.line_up_coarse import coarse_lag, movement
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.lined_up import line_up_clip
from pulizia.project.programme_file import programme_of_row, programme_row

RATE = 48_000
Sound = NDArray[np.float32]


def speech(seconds: float, seed: int) -> Sound:
    """Bursts of noise in moving bands with gaps between them: the movement of speech, without its voice."""
    from scipy.signal import lfilter

    rng = np.random.default_rng(seed)
    out = np.zeros(round(seconds * RATE))
    at = 0
    while at < len(out):
        length = round(rng.uniform(0.06, 0.3) * RATE)
        angle, radius = 2 * np.pi * np.exp(rng.uniform(np.log(200), np.log(4000))) / RATE, rng.uniform(0.9, 0.99)
        burst = lfilter([1.0 - radius], [1.0, -2 * radius * np.cos(angle), radius**2], rng.normal(size=length))
        burst *= np.hanning(length) * rng.uniform(0.3, 1.0)
        stop = min(len(out), at + length)
        out[at:stop] += burst[: stop - at]
        at += length + (round(rng.uniform(0.02, 0.9) * RATE) if rng.random() < 0.4 else 0)
    return np.asarray(0.1 * out / np.std(out), dtype=np.float32)


def other(sound: Sound, began_s: float, ppm: float, *, inverted: bool, seed: int) -> ArraySource:
    """The same moment by a recorder that began later, with a faster clock, its own noise and a reflection."""
    import soxr

    rng = np.random.default_rng(seed)
    heard = sound.copy()
    heard[400:] += 0.4 * sound[:-400]
    heard += rng.normal(0, 0.004, len(heard)).astype(np.float32)
    made = soxr.resample(heard[round(began_s * RATE) :], RATE, RATE * (1 + ppm * 1e-6), quality="VHQ")
    return ArraySource((-made if inverted else made)[None].astype(np.float32), RATE)


@pytest.mark.slow
@pytest.mark.parametrize(("began_s", "ppm", "inverted"), [(3.7, 60.0, True), (12.25, -100.0, False), (0.0, 0.0, False)])
def test_offset_drift_and_sign_are_found_to_the_sample(began_s: float, ppm: float, inverted: bool) -> None:  # noqa: FBT001
    sound = speech(60.0, seed=round(began_s))
    lie = line_up(ArraySource(sound[None], RATE), other(sound, began_s, ppm, inverted=inverted, seed=1))
    assert lie.is_same
    assert lie.exact_place > 0.5
    assert lie.inverted == inverted
    assert lie.drift_ppm == pytest.approx(ppm, abs=0.3)
    t = np.linspace(began_s, 60.0, 20)
    found, true = (t - lie.offset_s) * (1 + lie.drift_ppm * 1e-6), (t - began_s) * (1 + ppm * 1e-6)
    assert np.abs(found - true).max() * RATE < 1.0


@pytest.mark.slow
def test_the_earlier_one_may_be_named_second() -> None:
    sound = speech(30.0, seed=9)
    late = other(sound, 4.0, 0.0, inverted=False, seed=2)
    lie = line_up(late, ArraySource(sound[None], RATE))
    assert lie.is_same
    assert lie.offset_s == pytest.approx(-4.0, abs=1 / RATE)


def test_different_moments_are_never_taken_for_one() -> None:
    moved = [movement(ArraySource(speech(40.0, seed=100 + n)[None], RATE)) for n in range(12)]
    scores = []
    for a in range(12):
        for b in range(a):
            found = coarse_lag(moved[a], moved[b])
            assert found is not None
            lie = LineUp(offset_s=found.lag_s, score=found.score, ratio=found.ratio)
            scores.append(found.score)
            assert not lie.is_same
    assert len(scores) == 66
    assert max(scores) < 7.0


@pytest.mark.slow
def test_a_recorder_that_stopped_in_between_is_told_in_pieces() -> None:
    sound = speech(80.0, seed=21)
    broken = np.concatenate([sound[: 40 * RATE], sound[round(40.05 * RATE) :]])
    lie = line_up(ArraySource(sound[None], RATE), ArraySource(broken[None], RATE))
    assert lie.is_same
    assert [round(p.offset_s, 3) for p in lie.pieces] == [0.0, 0.05]
    assert lie.pieces[0].stop_s < 41 < lie.pieces[1].stop_s


@pytest.mark.parametrize("frames", [0, 10, RATE])
def test_silence_and_short_sound_line_up_with_nothing(frames: int) -> None:
    quiet, sound = ArraySource(np.zeros((1, frames), np.float32), RATE), ArraySource(speech(5.0, seed=1)[None], RATE)
    for a, b in ((quiet, sound), (sound, quiet), (quiet, quiet)):
        assert not line_up(a, b).is_same


# -- the clock of the other recording


def test_an_aligned_source_reads_between_frames_however_it_is_read() -> None:
    t = np.arange(4 * RATE, dtype=np.float64)
    source = ArraySource(np.sin(2 * np.pi * 997 / RATE * t)[None].astype(np.float32), RATE)
    aligned = AlignedSource(source, 80.0, 0.37)
    whole = aligned.read(0, aligned.frames)
    place = np.arange(aligned.frames) * (1 + 80e-6) + 0.37
    inside = slice(100, aligned.frames - 100)
    assert np.abs(whole[0] - np.sin(2 * np.pi * 997 / RATE * place))[inside].max() < 2e-5  # -94 dB
    parts = np.concatenate(
        [aligned.read(a, min(aligned.frames, a + 7001)) for a in range(0, aligned.frames, 7001)], axis=1
    )
    np.testing.assert_array_equal(whole, parts)
    assert aligned.span_key(10, 500) != aligned.span_key(11, 501)
    assert not AlignedSource(ArraySource(np.zeros((2, 9999), np.float32), RATE), -90.0, -0.2).read(0, 5000).any()


@pytest.mark.slow
def test_two_microphones_on_one_clock_lose_less_than_a_decibel_when_added() -> None:
    sound = speech(60.0, seed=5)
    first, second = ArraySource(sound[None], RATE), other(sound, 2.0, 90.0, inverted=True, seed=3)
    lie = line_up(first, second)
    programme = Programme(
        name="P", rate=RATE,
        lanes=(
            Lane(name="A", clips=(Clip(recording_id="a", start=5 * RATE, inner=RATE, frames=50 * RATE),)),
            Lane(name="B", clips=(Clip(recording_id="b", start=0, inner=0, frames=second.frames, name="b"),)),
        ),
    )  # fmt: skip
    clip_a, clip_b = programme.lanes[0].clips[0], programme.lanes[1].clips[0]
    made = line_up_clip(programme, clip_a, clip_b.id, lie.offset_s, lie.drift_ppm, inverted=lie.inverted)
    moved = made.lanes[1].clips[0]
    assert moved.start == pytest.approx(6 * RATE, abs=1)
    assert moved.inverted
    assert programme_of_row(json.loads(json.dumps(programme_row(made)))) == made
    aligned = AlignedSource(second, moved.drift_ppm, moved.shift)
    length = 40 * RATE
    a = first.read(RATE + moved.start - 5 * RATE, RATE + moved.start - 5 * RATE + length)[0]
    b = -aligned.read(moved.inner, moved.inner + length)[0]
    loss = 10 * np.log10((np.var(a) + np.var(b) + 2 * np.sqrt(np.var(a) * np.var(b))) / np.var(a + b))
    assert loss < 1.0
    # without the clock the same clips drift apart by 4 samples a minute
    plain = -second.read(moved.inner, moved.inner + length)[0]
    assert np.var(a + b) > np.var(a + plain)


# -- on the command line


@pytest.mark.slow
def test_line_up_on_files(wav: Callable[..., Path], capsys: pytest.CaptureFixture[str]) -> None:
    sound = speech(30.0, seed=31)
    a, b = (
        wav(sound[None], "boom.wav"),
        wav(other(sound, 1.5, 20.0, inverted=False, seed=4).read(0, 20 * RATE), "lav.wav"),
    )
    stranger = wav(speech(30.0, seed=32)[None], "stranger.wav")
    assert main(["line-up", str(a), str(b), str(stranger), "--json"]) == 0
    lav, far = json.loads(capsys.readouterr().out)
    assert lav["same"]
    assert lav["offset_s"] == pytest.approx(1.5, abs=1 / RATE)
    assert lav["drift_ppm"] == pytest.approx(20.0, abs=1.0)
    assert not far["same"]
    assert main(["line-up", str(a), str(b), str(stranger)]) == 0
    said = capsys.readouterr().out
    assert "lav.wav: the same moment. It began 1.50000 s after the first; its clock counts 19.9" in said
    assert "ppm faster." in said
    assert "stranger.wav: nothing of the same moment was found" in said
    assert main(["line-up", str(b), str(a)]) == 0
    said = capsys.readouterr().out
    assert "It began 1.50" in said
    assert " s before the first; its clock counts 19.9" in said
    assert "ppm slower." in said
    assert main(["line-up", str(a), str(a.with_name("gone.wav"))]) != 0
    assert "gone.wav" in capsys.readouterr().err


def in_a_room(sound: Sound, direct: float, reflections: list[tuple[float, float]], tail: float, seed: int) -> Sound:
    """Direct sound after 2 ms, single reflections so many ms after it, and a tail that dies away in half a second."""
    from scipy.signal import fftconvolve

    rng, length = np.random.default_rng(seed), round(0.4 * RATE)
    response = tail * rng.normal(size=length) * 10 ** (-3.0 * np.arange(length) / RATE / 0.5)
    start = round(0.002 * RATE)
    response[: start + round(0.004 * RATE)] = 0.0
    response[start] = direct
    for ms, height in reflections:
        response[start + round(ms / 1000.0 * RATE)] += height
    heard = fftconvolve(sound, response)[: len(sound)]
    return np.asarray(heard / np.std(heard) * 0.1, dtype=np.float32)


@pytest.mark.slow
@pytest.mark.parametrize("near", ["first", "second"])
def test_the_direct_sound_is_found_under_a_reflection_that_is_twice_as_strong(near: str) -> None:
    sound = speech(24.0, seed=4)
    close = in_a_room(sound, 1.0, [(1.3, 0.1)], 0.002, seed=5)
    far = in_a_room(sound, 0.5, [(3.1, 0.4), (8.3, 1.0)], 0.02, seed=6)
    one, two = ArraySource(close[None], RATE), ArraySource(far[None, 24_000:], RATE)
    lie = line_up(one, two) if near == "first" else line_up(two, one)
    assert abs(abs(lie.offset_s) - 0.5) * RATE < 1.0
    assert lie.exact_place > 0.5
    assert not lie.inverted


@pytest.mark.slow
@pytest.mark.parametrize(("tail", "is_found"), [(0.03, True), (0.06, False)])
def test_two_far_microphones_are_laid_on_their_direct_sound_or_told_as_uncertain(tail: float, is_found: bool) -> None:  # noqa: FBT001
    sound = speech(16.0, seed=17)
    boom = in_a_room(sound, 0.8, [(5.7, 0.5), (11.9, 0.4)], tail, seed=18)
    camera = in_a_room(sound, 0.6, [(3.1, 0.5), (8.3, 0.7), (9.7, 0.6)], 1.3 * tail, seed=19)
    lie = line_up(ArraySource(boom[None], RATE), ArraySource(-camera[None, 24_000:], RATE))
    assert lie.is_same or lie.perhaps
    assert lie.exact_place < 0.5  # somebody should listen
    assert len(lie.candidates) > 1
    assert lie.candidates[0].offset_s == pytest.approx(lie.offset_s)
    if is_found:
        assert abs(lie.offset_s - 0.5) * RATE < 1.0
        assert lie.inverted
