# SPDX-License-Identifier: GPL-3.0-or-later
"""A phone, a bell and a beep under talk: found with their places, taken out without the voice."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy.signal import lfilter
from tests.inspection.test_ear import RATE, source_of, talk

from pulizia.audio.source import ArraySource, Source
from pulizia.errors import AnalysisError
from pulizia.inspection.inspect import find_kind, inspect
from pulizia.inspection.treat import treatment
from pulizia.measure import steady_tones as module
from pulizia.measure.steady_tones import steady_tones
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.score.steps import make_step

Shape = Callable[[NDArray[np.float64], float], NDArray[np.float64]]
AT_S, LENGTH_S = 5.0, 1.6


def phone(t: NDArray[np.float64], hz: float) -> NDArray[np.float64]:
    return (t % 0.8 < 0.4) * (np.sin(2 * np.pi * hz * t) + np.sin(2 * np.pi * 1.26 * hz * t))


def bell(t: NDArray[np.float64], hz: float) -> NDArray[np.float64]:
    return np.exp(-t / 0.35) * (np.sin(2 * np.pi * hz * t) + 0.5 * np.sin(2 * np.pi * 2.76 * hz * t))


def beep(t: NDArray[np.float64], hz: float) -> NDArray[np.float64]:
    return (t < 0.5) * np.sin(2 * np.pi * hz * t)


def with_sound(shape: Shape, hz: float, level_db: float) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Talk with a sound from AT_S on, so far under the mean level of the talk; and the sound alone."""
    samples, _phrases = talk()
    t = np.arange(round(LENGTH_S * RATE)) / RATE
    alone = np.zeros(len(samples))
    alone[round(AT_S * RATE) : round(AT_S * RATE) + len(t)] = shape(t, hz)
    alone *= 10 ** (level_db / 20) * float(np.sqrt(np.mean(samples**2)))
    return samples + alone, alone


def made_by(source: Source, *, way: str, areas: list[object]) -> NDArray[np.float32]:
    step = make_step("areas", {"areas": areas, "way": way})
    chain = Chain(source, [step], ChunkCache(1 << 28), AnalysisStore(), lambda _name: None)
    chain.prepare()
    return chain.after.read(0, source.frames)


@pytest.mark.slow
@pytest.mark.parametrize(("shape", "hz"), [(phone, 1240.0), (bell, 905.0), (beep, 1660.0)])
def test_a_sound_of_steady_pitch_is_found_and_taken_out_and_the_voice_stays(shape: Shape, hz: float) -> None:
    sound, alone = with_sound(shape, hz, -3.0)
    source = source_of(sound)
    finding = find_kind("sound", source)
    assert finding is not None
    assert abs(finding.marks[0].start / RATE - AT_S) < 0.15
    assert f"{hz:.0f} Hz" in finding.sentence
    (trial,) = treatment(source, [finding]).trials
    assert trial.step is not None, trial.sentence
    assert trial.after is None
    made = made_by(source, way="tones", areas=finding.settings["areas"])[0]
    lost = np.sum((made - (sound - alone)) ** 2) / np.sum(alone**2)
    assert 10 * np.log10(lost) < (
        -5.0 if shape is bell else -12.0
    )  # what is left of the sound, and what was taken from the voice
    first = round((AT_S - 0.5) * RATE)
    assert np.array_equal(made[:first], source.read(0, first)[0])


def test_talk_and_music_hold_no_isolated_sound() -> None:
    samples, _phrases = talk()
    assert steady_tones(source_of(samples)) == []
    rng = np.random.default_rng(2)
    t = np.arange(RATE // 2) / RATE
    music = np.concatenate([beep(t, 440.0 * 2 ** (k / 12)) for k in rng.integers(4, 30, 24)])
    assert steady_tones(source_of(0.1 * music)) == []
    for short in (np.zeros(100), np.zeros(RATE), rng.standard_normal(2 * RATE)):
        assert steady_tones(source_of(short)) == []
        assert [f for f in inspect(source_of(short)) if f.kind == "sound"] == []


def cry(t: NDArray[np.float64], hz: float) -> NDArray[np.float64]:
    """A voice that holds a note: harmonics that fall by 6 dB an octave, with two formants."""
    made = np.zeros(len(t))
    for k in range(1, 12):
        formants = sum(np.exp(-(((k * hz - place) / 300.0) ** 2)) for place in (900.0, 1900.0))
        made += (0.15 + formants) / k * np.sin(2 * np.pi * k * hz * t + k)
    return (t < 0.7) * np.minimum(1.0, np.minimum(t, np.maximum(0.7 - t, 0.0)) / 0.03) * made


def struck(t: NDArray[np.float64], hz: float) -> NDArray[np.float64]:
    """A church bell: hum, prime, tierce, quint, nominal and two more (ratios from memory of handbooks)."""
    partials = ((0.5, 0.5, 0.9), (1, 1, 0.6), (1.2, 0.8, 0.5), (1.5, 0.5, 0.4), (2, 0.9, 0.4), (2.5, 0.4, 0.3))
    return np.sum([a * np.exp(-t / d) * np.sin(2 * np.pi * hz * ratio * t) for ratio, a, d in partials], axis=0)


@pytest.mark.parametrize("hz", [300.0, 381.0, 452.0])
def test_a_note_that_a_voice_holds_is_no_isolated_sound(hz: float) -> None:
    held, _alone = with_sound(cry, hz, 3.0)
    assert steady_tones(source_of(held)) == []
    tone = with_sound(beep, 3 * hz, 3.0)[0]  # where one of its harmonics would be
    assert len(steady_tones(source_of(tone))) == 1


def in_a_body(samples: NDArray[np.float64], hz: float, t60_s: float, level_db: float) -> NDArray[np.float64]:
    """With one mode of a room or a body, that rings after every word; its level against the samples' own."""
    radius, turn = 10 ** (-3.0 / (t60_s * RATE)), 2 * np.pi * hz / RATE
    ringing = lfilter([1.0], [1.0, -2 * radius * np.cos(turn), radius**2], samples)
    return samples + ringing * 10 ** (level_db / 20) * np.sqrt(np.mean(samples**2) / np.mean(ringing**2))


@pytest.mark.parametrize(("hz", "t60_s", "level_db"), [(1087.0, 0.7, -8.0), (1446.0, 1.0, -2.0), (2171.0, 0.7, -8.0)])
def test_what_rings_on_after_words_is_no_isolated_sound(hz: float, t60_s: float, level_db: float) -> None:
    samples, _phrases = talk()
    assert steady_tones(source_of(in_a_body(samples, hz, t60_s, level_db))) == []
    once = np.where((np.arange(len(samples)) / RATE > 6.0) & (np.arange(len(samples)) / RATE < 6.8), samples, 0.0)
    rings = source_of(samples + in_a_body(once, hz, t60_s, 3.0) - once)  # one word of all rings on
    assert steady_tones(rings) == []
    with_beep = with_sound(beep, hz + 150.0, 0.0)[0]
    beeps = steady_tones(source_of(in_a_body(with_beep, hz, t60_s, level_db)))
    assert beeps
    assert all(abs(tone.hz - hz - 150.0) < 4.0 for tone in beeps)


def test_a_phone_that_rings_at_both_ends_is_found_both_times() -> None:
    samples, _phrases = talk(seconds=60.0)
    t = np.arange(round(3.2 * RATE)) / RATE
    calls = np.zeros(len(samples))
    for at_s in (4.0, 52.0):
        calls[round(at_s * RATE) : round(at_s * RATE) + len(t)] = phone(t, 1240.0)
    tones = steady_tones(source_of(samples + 0.5 * calls * float(np.sqrt(np.mean(samples**2)))))
    starts = [tone.start / RATE for tone in tones]
    assert min(starts) == pytest.approx(4.0, abs=0.15)
    assert max(starts) == pytest.approx(52.0 + 2.4, abs=0.15)  # its last ring
    assert all(s < 7.3 or s > 51.9 for s in starts)


def test_a_bell_with_whole_ratios_among_its_partials_is_found() -> None:
    tones = steady_tones(source_of(with_sound(struck, 1010.0, 0.0)[0]))
    assert {round(tone.hz / 1010.0, 1) for tone in tones} >= {1.0, 1.2, 2.0}
    assert all(AT_S - 0.1 < tone.start / RATE < AT_S + 2.5 for tone in tones)


def test_only_the_tone_goes_from_a_roughly_drawn_area_whatever_is_read_first() -> None:
    sound, alone = with_sound(phone, 1240.0, -8.0)
    two = np.stack([sound, np.roll(sound, 3)]).astype(np.float32)
    source = ArraySource(two, RATE)
    area = [[AT_S - 0.1, 1000.0], [AT_S + LENGTH_S + 0.1, 1900.0]]
    made = made_by(source, way="tones", areas=[area])
    clean = sound - alone
    assert 10 * np.log10(np.sum((made[0] - clean) ** 2) / np.sum(alone**2)) < -12.0
    inside = slice(round(AT_S * RATE), round((AT_S + LENGTH_S) * RATE))
    power = [np.sum(np.abs(np.fft.rfft(x[inside]))[1600:3040] ** 2) for x in (made[0], clean)]
    assert abs(10 * np.log10(power[0] / power[1])) < 1.0  # 1000 to 1900 Hz
    step = make_step("areas", {"areas": [area], "way": "tones"})
    chain = Chain(source, [step], ChunkCache(1 << 28), AnalysisStore(), lambda _name: None)
    chain.prepare()
    a = round(AT_S * RATE) + 777
    assert np.array_equal(chain.after.read(a, a + 5000), made[:, a : a + 5000])
    nothing = made_by(source, way="tones", areas=[[[2.0, 3000.0], [2.5, 3400.0]]])
    assert np.array_equal(nothing, two)


def test_what_cannot_be_done_is_one_sentence_and_silence_before_room_tone_stays_silence() -> None:
    samples, _phrases = talk()
    source = source_of(np.tile(samples, 6))
    with pytest.raises(AnalysisError, match="only the tone works up to 120 s"):
        made_by(source, way="tones", areas=[[[1.0, 900.0], [140.0, 1900.0]]])
    steps = [make_step("silence", {}), make_step("room_tone", {})]
    chain = Chain(source_of(samples), steps, ChunkCache(1 << 28), AnalysisStore(), lambda _name: None)
    chain.prepare()
    assert not chain.after.read(0, RATE).any()


@pytest.mark.slow
@pytest.mark.parametrize("part_s", [4.0, 7.0])
def test_what_is_listened_to_in_parts_has_the_sounds_of_the_whole(
    monkeypatch: pytest.MonkeyPatch, part_s: float
) -> None:
    """Tones inside a part, over the border of two, and longer than what parts have in common."""
    sound = talk()[0].copy()
    level = 1.5 * float(np.sqrt(np.mean(sound**2)))
    placed = ((2.0, 0.5, 1660.0), (3.8, 0.6, 1240.0), (13.7, 0.5, 2100.0), (19.0, 3.5, 1511.0), (26.0, 0.4, 1240.0))
    for at, length, hz in placed:
        t = np.arange(round(length * RATE)) / RATE
        sound[round(at * RATE) : round(at * RATE) + len(t)] += level * np.sin(2 * np.pi * hz * t)
    whole = steady_tones(source_of(sound))
    assert [round(tone.hz) for tone in whole] == pytest.approx([hz for *_, hz in placed], abs=3)
    shares: list[float] = []
    monkeypatch.setattr(module, "PART_S", part_s)
    monkeypatch.setattr(module, "MARGIN_S", 1.0)
    parts = steady_tones(source_of(sound), shares.append)
    assert len(parts) == len(whole)
    for one, other in zip(parts, whole, strict=True):
        assert one.hz == pytest.approx(other.hz, abs=0.5)
        assert (one.start, one.stop) == pytest.approx((other.start, other.stop), abs=0.03 * RATE)
    assert shares == sorted(shares)
    assert 0.9 < shares[-1] <= 1.0
