# SPDX-License-Identifier: GPL-3.0-or-later
"""Breaths: which sounds between phrases count as one, and how far they are lowered."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.signal import butter, sosfilt

from pulizia.audio.source import ArraySource
from pulizia.tools import breaths
from pulizia.tools.base import Block
from pulizia.tools.breaths import BreathsSettings

RATE = 48_000
VOICE_DB, ROOM_DB = -20.0, -70.0
AT = 3.0  # where the pause holds something, in seconds


def noise(seconds: float, db: float, low: float = 400.0, high: float = 5000.0, seed: int = 3) -> np.ndarray:
    """A band of noise of a level."""
    band = butter(4, (low, high), "bandpass", fs=RATE, output="sos")
    made = sosfilt(band, np.random.default_rng(seed).normal(0, 1, round(seconds * RATE)))
    return np.asarray(made / made.std() * 10 ** (db / 20))


def swelling(sound: np.ndarray, edge_s: float = 0.04) -> np.ndarray:
    edge = round(edge_s * RATE)
    shape = np.ones(len(sound))
    shape[:edge] = np.hanning(2 * edge)[:edge]
    shape[-edge:] = np.hanning(2 * edge)[edge:]
    return sound * shape


def phrases(inside: np.ndarray, at: float = AT) -> np.ndarray:
    """Two phrases of two seconds with a pause of two seconds between them, and a sound in the pause."""
    t = np.arange(6 * RATE) / RATE
    voiced = sum(np.sin(2 * np.pi * 140 * k * t) / k for k in range(1, 20)) * (0.75 + 0.25 * np.sin(2 * np.pi * 4 * t))
    voiced *= 10 ** (VOICE_DB / 20) / np.sqrt(np.mean(voiced**2))
    voiced[2 * RATE : 4 * RATE] = 0.0
    sound = voiced + noise(6.0, ROOM_DB, 60.0, 16_000.0, seed=5)
    start = round(at * RATE)
    sound[start : start + len(inside)] += inside
    return np.asarray(sound[None].astype(np.float32))


def found(sound: np.ndarray, **chosen: object) -> list[breaths.Breath]:
    return breaths.find(sound, 0, BreathsSettings(**chosen), RATE)


def test_a_breath_is_found_where_it_lies_and_how_far_it_stands_over_the_room() -> None:
    (one,) = found(phrases(swelling(noise(0.3, -45.0))))
    assert one.start / RATE == pytest.approx(AT, abs=0.04)
    assert one.stop / RATE == pytest.approx(AT + 0.3, abs=0.04)
    assert one.over_room_db == pytest.approx(-45.0 - ROOM_DB, abs=3.0)


@pytest.mark.parametrize(
    ("what", "inside", "at"),
    [
        ("nothing", np.zeros(0), AT),
        ("too short", swelling(noise(0.07, -45.0), 0.02), AT),
        ("too long", swelling(noise(1.1, -45.0)), AT - 0.6),
        ("as loud as the voice", swelling(noise(0.3, -26.0)), AT),
        ("lost in the room", swelling(noise(0.3, -69.0)), AT),
        ("an S", swelling(noise(0.3, -45.0, 5500.0, 11_000.0)), AT),
        ("a rumble", swelling(noise(0.3, -45.0, 90.0, 350.0)), AT),
        ("at once, like a knock", noise(0.3, -45.0), AT),
        ("touching the next word", swelling(noise(0.3, -45.0), 0.01), 3.7),
    ],
    ids=lambda value: value if isinstance(value, str) else "",
)
def test_what_is_no_breath_is_left_as_it_is(what: str, inside: np.ndarray, at: float) -> None:
    sound = phrases(inside, at)
    assert found(sound) == [], what
    made = breaths.process(Block(sound, 0, RATE), BreathsSettings(), None)
    assert np.array_equal(made, sound)


@pytest.mark.parametrize(
    ("seconds", "too_little", "enough"), [(0.09, 3.0, 6.0), (0.11, 0.0, 3.0), (0.13, -3.0, 0.0), (0.3, -6.0, 0.0)]
)
def test_more_sensitivity_finds_shorter_and_rougher_ones(seconds: float, too_little: float, enough: float) -> None:
    sound = phrases(swelling(noise(seconds, -45.0)))
    assert found(sound, sensitivity_db=too_little) == []
    assert len(found(sound, sensitivity_db=enough)) == 1


@pytest.mark.parametrize("range_db", [0.0, 6.0, 12.0, 40.0])
def test_it_is_lowered_by_the_range_and_nothing_else_is_touched(range_db: float) -> None:
    sound = phrases(swelling(noise(0.3, -45.0)))
    made = breaths.process(Block(sound, 0, RATE), BreathsSettings(range_db=range_db), None)
    (one,) = found(sound)
    middle = slice(one.start + round(0.05 * RATE), one.stop - round(0.05 * RATE))
    assert np.allclose(made[:, middle], sound[:, middle] * 10 ** (-range_db / 20), rtol=1e-5, atol=1e-9)
    outside = np.ones(sound.shape[1], dtype=bool)
    outside[one.start : one.stop] = False
    assert np.array_equal(made[:, outside], sound[:, outside])


def test_to_room_tone_brings_it_to_the_level_of_the_room() -> None:
    sound = phrases(swelling(noise(0.3, -45.0)))
    made = breaths.process(Block(sound, 0, RATE), BreathsSettings(way="room", range_db=3.0), None)
    middle = slice(round((AT + 0.08) * RATE), round((AT + 0.22) * RATE))
    level = 10 * np.log10(np.mean(made[:, middle].astype(np.float64) ** 2))
    assert level == pytest.approx(ROOM_DB, abs=4.0)


def test_one_that_is_skipped_or_reaches_into_the_block_is_treated_as_the_whole_says() -> None:
    sound = phrases(swelling(noise(0.3, -45.0)))
    skipped = BreathsSettings(left_s=((AT - 0.1, AT + 0.5),))
    assert np.array_equal(breaths.process(Block(sound, 0, RATE), skipped, None), sound)
    elsewhere = BreathsSettings(left_s=((1.0, 2.0),))
    assert not np.array_equal(breaths.process(Block(sound, 0, RATE), elsewhere, None), sound)
    later = breaths.process(Block(sound, 7 * RATE, RATE), BreathsSettings(), None)  # on the same grid of steps
    assert np.allclose(later, breaths.process(Block(sound, 0, RATE), BreathsSettings(), None), atol=1e-7)


def test_the_survey_and_the_finding_tell_how_many() -> None:
    parts = [phrases(swelling(noise(0.3, -45.0, seed=n))) for n in range(4)]
    source = ArraySource(np.concatenate(parts, axis=1), RATE)
    nothing = lambda _share: None  # noqa: E731
    told = breaths.survey(source, source, (), BreathsSettings(), None, nothing)
    assert [round(m.start / RATE, 1) for m in told.marks] == pytest.approx([3.0, 9.0, 15.0, 21.0], abs=0.1)
    assert told.sentence == "4 breaths found, 4 lowered."
    assert breaths.suggest(source, (), BreathsSettings(), nothing).changes == {"way": "lower", "range_db": 12.0}
    (finding,) = breaths.findings(source, nothing)
    assert finding.measure == pytest.approx(10.0)  # four in 24 s
    without = ArraySource(np.concatenate([phrases(np.zeros(0))] * 4, axis=1), RATE)
    assert breaths.findings(without, nothing) == []
    assert breaths.suggest(without, (), BreathsSettings(), nothing).changes == {}
