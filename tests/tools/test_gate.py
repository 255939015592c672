# SPDX-License-Identifier: GPL-3.0-or-later
"""The gate against what its settings say in plain figures: when it opens and closes, how far, and for what."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.conftest import voice_in_noise

from pulizia.audio.source import ArraySource
from pulizia.tools import gate
from pulizia.tools.base import Block
from pulizia.tools.gate import GateSettings

RATE = 48_000
WINDOW_S = 0.006  # the level is a mean over 6 ms, taken each millisecond


def tone(levels: list[tuple[float, float]], hz: float = 1000.0) -> np.ndarray:
    """A tone in stretches of (seconds, level of its RMS in dBFS)."""
    gains = np.concatenate([np.full(round(s * RATE), np.sqrt(2.0) * 10 ** (db / 20)) for s, db in levels])
    return (gains * np.sin(2 * np.pi * hz * np.arange(len(gains)) / RATE)).astype(np.float32)


def gain_db(sound: np.ndarray, chosen: GateSettings) -> np.ndarray:
    """What the gate does to each millisecond, in dB: (channels, milliseconds), or (milliseconds,) of one channel."""
    rows = np.atleast_2d(sound)
    made = gate.process(Block(rows, 0, RATE), chosen, None)
    within = rows[:, : rows.shape[1] // 48 * 48].reshape(len(rows), -1, 48)
    after = made[:, : rows.shape[1] // 48 * 48].reshape(len(rows), -1, 48)
    gains = 20 * np.log10(np.sum(within * after, axis=2) / np.sum(within**2, axis=2))
    return gains if sound.ndim == 2 else gains[0]


@settings(max_examples=25, deadline=None)
@given(
    st.floats(3.0, 60.0), st.integers(1, 12), st.integers(0, 60), st.integers(5, 60), st.integers(20, 100)
)  # fmt: skip
def test_it_opens_and_closes_when_its_settings_say(
    range_db: float, attack_ms: int, hold_ms: int, release_ms: int, look_ahead_ms: int
) -> None:
    chosen = GateSettings(
        threshold_db=-45.0, range_db=range_db, attack_ms=attack_ms, hold_ms=5.0 * hold_ms, release_ms=5.0 * release_ms,
        look_ahead_ms=look_ahead_ms,
    )  # fmt: skip
    gain = gain_db(tone([(0.5, -70.0), (0.5, -20.0), (1.0, -70.0)]), chosen)
    begins, full = 500 - look_ahead_ms, 500 - look_ahead_ms + attack_ms
    holds, closed = 1000 + 5 * hold_ms, 1000 + 5 * hold_ms + 5 * release_ms
    assert gain[50 : begins - 5] == pytest.approx(-range_db, abs=0.01)  # closed, by its range
    assert gain[full + 5 : holds - 5] == pytest.approx(0.0, abs=0.001)  # open before the word, until the hold is over
    assert gain[closed + 7 : 1900] == pytest.approx(-range_db, abs=0.01)
    assert np.all(np.diff(gain[begins - 5 : full + 5]) >= -1e-3)  # one ramp up, one down
    assert np.all(np.diff(gain[holds - 5 : closed + 7]) <= 1e-3)
    at_half = round((holds + closed) / 2)
    assert gain[at_half - 6 : at_half + 7].max() >= -range_db / 2 >= gain[at_half - 6 : at_half + 7].min()


def test_it_stays_as_it_is_between_its_two_thresholds() -> None:
    chosen = GateSettings(threshold_db=-45.0, hysteresis_db=6.0, hold_ms=0.0, release_ms=5.0, look_ahead_ms=0.0)
    levels = [(0.4, -47.0), (0.2, -43.0), (0.4, -50.0), (0.4, -53.0), (0.4, -47.0)]
    gain = gain_db(tone(levels), chosen)
    for start, stop, wanted in ((50, 390, -12.0), (410, 990, 0.0), (1020, 1390, -12.0), (1420, 1790, -12.0)):
        assert gain[start:stop] == pytest.approx(wanted, abs=0.01), start
    chatter = gain_db(tone(levels), GateSettings(threshold_db=-45.0, hysteresis_db=1.0, hold_ms=0.0, release_ms=5.0))
    assert chatter[700:900] == pytest.approx(-12.0, abs=0.01)  # the lower threshold is at -46 then


def test_what_lies_between_the_thresholds_holds_it_open_for_half_its_memory() -> None:
    chosen = GateSettings(threshold_db=-45.0, hold_ms=0.0, release_ms=5.0, look_ahead_ms=0.0)
    gain = gain_db(tone([(0.5, -40.0), (3.0, -48.0)]), chosen)
    last_open = np.flatnonzero(gain > -6.0)[-1]
    assert last_open == pytest.approx(500 + 1000 * gate.MEMORY_S / 2, abs=10)


def test_breaths_open_it_only_when_they_are_kept_and_clicks_never() -> None:
    sound = tone([(0.5, -70.0), (0.3, -52.0), (0.7, -70.0), (0.06, -52.0), (0.5, -70.0)])
    without = gain_db(sound, GateSettings(threshold_db=-45.0, hold_ms=0.0))
    assert without[20:-20] == pytest.approx(-12.0, abs=0.01)
    kept = gain_db(sound, GateSettings(threshold_db=-45.0, hold_ms=0.0, keep_breaths=True))
    assert kept[600:700] == pytest.approx(0.0, abs=0.01)
    assert kept[1100:] == pytest.approx(-12.0, abs=0.01)  # 60 ms are a click
    too_quiet = gain_db(tone([(0.5, -70.0), (0.3, -56.0), (0.5, -70.0)]), GateSettings(keep_breaths=True))
    assert too_quiet[20:-20] == pytest.approx(-12.0, abs=0.01)  # 10 dB under the threshold at most


@pytest.mark.parametrize("hz", [60.0, 12_000.0])
def test_what_lies_outside_the_band_that_it_listens_to_does_not_open_it(hz: float) -> None:
    loud = tone([(0.5, -70.0), (0.5, -28.0), (0.5, -70.0)], hz)
    narrow = GateSettings(threshold_db=-45.0, low_hz=500.0, high_hz=3000.0, hold_ms=0.0)
    wide = GateSettings(threshold_db=-45.0, low_hz=20.0, high_hz=20_000.0, hold_ms=0.0)
    # measured over whole periods of 60 Hz
    assert gain_db(loud, narrow)[600:900] == pytest.approx(-12.0, abs=0.01)
    assert gain_db(loud, wide)[600:900] == pytest.approx(0.0, abs=0.01)
    middle = gain_db(tone([(0.5, -70.0), (0.5, -43.0)], 1200.0), narrow)
    assert middle[600:900] == pytest.approx(0.0, abs=0.01)  # the middle of the band as loud as it is


def test_linked_channels_open_together_and_others_each_for_itself() -> None:
    one = tone([(0.5, -70.0), (0.5, -20.0), (0.5, -70.0)])
    other = tone([(1.5, -60.0)])
    linked = gain_db(np.stack([one, other]), GateSettings(threshold_db=-45.0))
    assert np.allclose(linked[0], linked[1], atol=0.01)
    assert linked[1, 600:900] == pytest.approx(0.0, abs=0.01)
    apart = gain_db(np.stack([one, other]), GateSettings(threshold_db=-45.0, linked=False))
    assert apart[0] == pytest.approx(linked[0], abs=0.01)
    assert apart[1, 20:-20] == pytest.approx(-12.0, abs=0.01)


def test_the_survey_counts_openings_and_how_long_it_is_open() -> None:
    sound = tone([(4.0, -70.0), (1.0, -20.0), (10.0, -70.0), (2.0, -20.0), (8.0, -70.0)])  # 25 s: two parts
    source = ArraySource(sound[None], RATE)
    chosen = GateSettings(threshold_db=-45.0, hold_ms=100.0, look_ahead_ms=50.0)
    told = gate.survey(source, source, (), chosen, None, lambda _share: None)
    rows = dict(told.table.rows)
    assert rows["openings"] == "2"
    assert rows["open"] == "13 %"  # (1.15 + 2.15) of 25 s
    (first, second) = told.lane
    for (start, stop), (wanted, until) in zip((first, second), ((3.95, 5.1), (14.95, 17.1)), strict=True):
        assert start / RATE == pytest.approx(wanted, abs=WINDOW_S)
        assert stop / RATE == pytest.approx(until, abs=WINDOW_S)
    assert not told.stands_first
    assert gate.survey(source, source, (), GateSettings(range_db=0.0), None, lambda _share: None).stands_first is False


def test_the_proposed_threshold_lies_between_pause_and_voice() -> None:
    def proposed(pause_db: float, voice_db: float) -> dict[str, float]:
        sound = voice_in_noise(12.0)[0]
        voiced = sound * 10 ** ((voice_db + 20.0) / 20)
        hiss = np.random.default_rng(1).normal(0, 10 ** (pause_db / 20), len(sound))
        source = ArraySource((voiced + hiss)[None].astype(np.float32), RATE)
        return gate.suggest(source, (), GateSettings(), lambda _share: None).changes

    clear, close = proposed(-60.0, -20.0), proposed(-44.0, -20.0)
    for chosen, pause_db in ((clear, -59.5), (close, -48.7)):  # what its detector hears of white noise
        assert pause_db < chosen["threshold_db"] < -25.0
        assert pause_db < chosen["threshold_db"] - chosen["hysteresis_db"] + 5.0  # it closes again in the pauses
    assert clear["threshold_db"] < close["threshold_db"]
    assert clear["look_ahead_ms"] < close["look_ahead_ms"]  # a first consonant is told later beside more noise
    silent = np.where(np.abs(voice_in_noise(12.0)) > 0.01, voice_in_noise(12.0), 0.0).astype(np.float32)
    silent[:, :RATE] = 0.0
    assert gate.suggest(ArraySource(silent, RATE), (), GateSettings(), lambda _share: None).changes
    nothing = ArraySource(np.zeros((1, 5 * RATE), dtype=np.float32), RATE)
    assert gate.suggest(nothing, (), GateSettings(), lambda _share: None).changes == {}
