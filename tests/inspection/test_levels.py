# SPDX-License-Identifier: GPL-3.0-or-later
"""Findings of levels and channels on sounds whose faults are known."""

from __future__ import annotations

from types import ModuleType

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.conftest import voice_in_noise

from pulizia.audio.source import ArraySource
from pulizia.inspection.inspect import FINDERS, PROBLEMS
from pulizia.measure.phrases import Phrases
from pulizia.tools import channels, leveller, polarity, room_tone
from pulizia.tools.finding import Finding
from pulizia.tools.registry import ALL

RATE = 8000
LEAST = round(room_tone.DROPOUT_S * RATE)


def kinds(source: ArraySource, *modules: ModuleType) -> dict[str, Finding]:
    """What the finders of these tools say."""
    return {f.kind: f for module in modules for f in module.findings(source, lambda _share: None)}


@pytest.mark.slow
@settings(max_examples=60)
@given(
    places=st.lists(
        st.tuples(st.integers(1, 45 * RATE - 2000), st.integers(1, 4 * LEAST)), max_size=6, unique_by=lambda p: p[0]
    ),
    at_a_border=st.integers(-2 * LEAST, 2 * LEAST),
)
def test_every_dropout_is_found_once_wherever_it_lies(places: list[tuple[int, int]], at_a_border: int) -> None:
    """Against a plain walk over the samples; reads end in the middle of some."""
    sound = np.full((2, 45 * RATE), 0.1, np.float32)
    for start, length in [*places, (room_tone.LOOK_S * RATE + at_a_border, LEAST + 5)]:
        sound[:, start : start + length] = 0.0
    still = "".join("s" if s else "." for s in np.logical_not(sound.any(axis=0)))
    walked, at = [], 0
    for piece in still.split("."):
        if len(piece) >= LEAST:
            walked.append((at, at + len(piece)))
        at += len(piece) + 1
    found = kinds(ArraySource(sound, RATE), room_tone).get("silence")
    assert [(m.start, m.stop) for m in (found.marks if found else ())] == walked


def test_silence_at_the_ends_or_of_everything_is_no_dropout() -> None:
    sound = np.full((1, 25 * RATE), 0.1, np.float32)
    sound[:, :RATE] = sound[:, -3000:] = 0.0
    assert kinds(ArraySource(sound, RATE), room_tone) == {}
    assert kinds(ArraySource(np.zeros((1, 50 * RATE), np.float32), RATE), room_tone) == {}


@pytest.mark.parametrize("late", [-37, -3, 0, 3, 37])
@pytest.mark.parametrize("sign", [1.0, -1.0])
def test_a_late_or_inverted_side_is_named_with_its_measure(late: int, sign: float) -> None:
    voice = voice_in_noise(4.0, rate=48_000)[0]
    sound = np.stack([np.roll(voice, max(0, late)), sign * np.roll(voice, max(0, -late))])
    found = kinds(ArraySource(sound.astype(np.float32), 48_000), channels, polarity)
    assert set(found) == ({"delay"} if late else set()) | ({"polarity"} if sign < 0 else set())
    if late:
        assert found["delay"].measure == pytest.approx(1000 * abs(late) / 48_000, abs=1e-6)
        assert ("left" if late > 0 else "right") in found["delay"].sentence
        assert found["delay"].settings["delay_ms"] == pytest.approx(-1000 * late / 48_000, abs=1e-3)
    if sign < 0:
        assert found["polarity"].measure < -0.9
        assert found["polarity"].severity == 1.0


def test_a_missing_side_is_named_and_nothing_is_said_of_silence_or_one_channel() -> None:
    voice = voice_in_noise(4.0, rate=RATE)[0]
    found = kinds(ArraySource(np.stack([voice, voice * 1e-4]).astype(np.float32), RATE), channels, polarity)
    assert set(found) == {"channel missing"}
    assert found["channel missing"].measure == pytest.approx(80.0, abs=0.1)
    assert "right" in found["channel missing"].sentence
    assert found["channel missing"].settings == {"way": "left"}
    assert kinds(ArraySource(np.zeros((2, 4 * RATE), np.float32), RATE), channels, polarity) == {}
    assert kinds(ArraySource(voice[None], RATE), channels) == {}


@pytest.mark.slow
def test_offset_lopsided_and_uneven_speech_are_found_by_their_measures() -> None:
    voice = voice_in_noise(30.0, rate=48_000)
    clean = kinds(ArraySource(voice, 48_000), polarity, leveller)
    assert "offset" not in clean
    moved = kinds(ArraySource(voice + np.float32(0.01), 48_000), polarity, leveller)
    assert moved["offset"].measure == pytest.approx(-40.0, abs=0.2)
    assert moved["offset"].tool_id == "polarity"
    time = np.arange(30 * 48_000) / 48_000
    pulses = sum(np.cos(2 * np.pi * 120 * k * time) for k in range(1, 12))[None] * 0.03
    for side, words in ((1.0, "positive"), (-1.0, "negative")):
        found = kinds(ArraySource((side * pulses).astype(np.float32), 48_000), polarity, leveller)
        assert words in found["lopsided"].sentence
        assert 0.0 < found["lopsided"].severity <= 1.0
    assert clean["level"].measure == pytest.approx(12.0, abs=2.0)  # the second half is 12 dB quieter
    assert clean["level"].tool_id == "leveller"
    even = kinds(ArraySource(voice[:, : 15 * 48_000], 48_000), polarity, leveller)
    assert "level" not in even


@pytest.mark.parametrize("kind", sorted(PROBLEMS))
def test_severity_runs_from_nothing_to_one(kind: str) -> None:
    problem = PROBLEMS[kind]
    shares = (-0.1, 0, 0.5, 1, 1.1)
    steps = [problem.found("", "", problem.mild + s * (problem.grave - problem.mild)).severity for s in shares]
    assert steps == pytest.approx([0, 0, 0.5, 1, 1])


def test_every_kind_has_one_tool_that_finds_it() -> None:
    kinds_of = [problem.kind for tool in FINDERS for problem in tool.problems]
    assert len(set(kinds_of)) == len(kinds_of) == len(PROBLEMS)
    assert [tool.id for tool in FINDERS] == [tool.id for tool in sorted(FINDERS, key=lambda tool: tool.order)]
    assert all(tool.find is None and not tool.problems for tool in ALL if tool not in FINDERS)


def test_the_spread_of_phrases_is_one_figure_wherever_it_is_told() -> None:
    """The finding and the sheet of the step tell the same: from the tenth to the ninetieth of a hundred seconds of speech."""
    source = ArraySource(voice_in_noise(16.0), 48_000)  # its second half is 12 dB softer
    (found,) = leveller.findings(source, lambda _share: None)
    values = leveller.LevellerSettings()
    phrases = leveller.analyse(source, (), values, lambda _share: None)
    survey = leveller.survey(source, source, (), values, phrases, lambda _share: None)
    before, after = (float(row[1].removesuffix(" LU")) for row in survey.table.rows)
    assert before == pytest.approx(found.measure, abs=0.05)
    assert found.measure == pytest.approx(float(found.sentence.split()[3]), abs=0.05)
    assert after < 0.5 * before


def test_what_is_far_softer_than_the_voice_is_not_lifted_unless_by_hand() -> None:
    """A breath, a noise, or a voice at another microphone; a phrase that is a little softer is."""
    spans = np.array([[0, 300], [320, 600], [620, 700], [720, 760], [780, 800]], dtype=np.int64)
    phrases = Phrases(spans, np.array([-24.0, -23.0, -31.0, -40.0, -46.0]), np.ones(900, np.float32))
    gains = leveller.phrase_gains(phrases, leveller.LevellerSettings())
    assert gains.tolist() == pytest.approx([0.0, -1.0, 7.0, 12.0 * 4 / 6, 0.0])
    wanted = leveller.LevellerSettings(way="loudness", target_lufs=-16.0, ride_levels=((7.9, 5.0),))
    assert leveller.phrase_gains(phrases, wanted).tolist() == pytest.approx([8.0, 7.0, 12.0, 8.0, 5.0])
    low = leveller.LevellerSettings(way="loudness", target_lufs=-50.0)
    assert leveller.phrase_gains(phrases, low).tolist() == pytest.approx([-12.0, -12.0, -12.0, -10.0, -4.0])


def test_a_gain_dies_away_in_a_pause_and_never_jumps() -> None:
    """A lowered voice keeps its gain through a short pause; in a long one it is let go within 0.75 s of each phrase."""
    settings = leveller.LevellerSettings(way="loudness", target_lufs=-30.0)
    spans = np.array([[0, 300], [400, 700], [1700, 2000]], dtype=np.int64)
    speech = np.zeros(2000, np.float32)
    for first, last in spans:
        speech[first:last] = 1.0
    ride = leveller.ride_db(Phrases(spans, np.array([-24.0, -22.0, -26.0]), speech), settings)
    assert ride[[150, 550, 1850]].tolist() == pytest.approx([-6.0, -8.0, -4.0])
    assert np.all(np.diff(ride[300:400]) <= 1e-5)  # from the one phrase down to the other
    assert ride[350] == pytest.approx(-7.0, abs=0.1)
    assert ride[720] == pytest.approx(-8.0 * (1 - 20 / 75) ** 2, abs=0.3)
    assert np.abs(ride[780:1620]).max() < 0.01
    assert ride[1680] == pytest.approx(-4.0 * (1 - 20 / 75) ** 2, abs=0.3)
    assert np.abs(np.diff(ride)).max() < 0.5
