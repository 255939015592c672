# SPDX-License-Identifier: GPL-3.0-or-later
"""Timecode after SMPTE ST 12-1, and times as they are typed."""

from __future__ import annotations

from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pulizia.audio.timecode import TimecodeError, frame_of, timecode, typed_seconds

NTSC, FILM = Fraction(30000, 1001), Fraction(24000, 1001)
RATES = (FILM, Fraction(24), Fraction(25), NTSC, Fraction(30), Fraction(50), Fraction(60000, 1001), Fraction(60))


def test_drop_frame_leaves_out_two_numbers_a_minute_but_not_at_each_tenth() -> None:
    # ST 12-1: an hour of drop-frame timecode counts 107 892 frames, 108 fewer than 30 x 3600
    assert frame_of("01:00:00;00", NTSC) == 107_892
    assert timecode(1799, NTSC, drop=True) == "00:00:59;29"
    assert timecode(1800, NTSC, drop=True) == "00:01:00;02"
    assert timecode(17_982, NTSC, drop=True) == "00:10:00;00"
    assert frame_of("01:00:00:00", NTSC) == 108_000  # non-drop counts every number
    with pytest.raises(TimecodeError, match="does not exist in drop-frame"):
        frame_of("00:01:00;01", NTSC)


@given(st.sampled_from(RATES), st.integers(0, 86_399), st.booleans())
def test_every_frame_has_one_timecode_and_every_timecode_one_frame(rate: Fraction, second: int, drop: bool) -> None:  # noqa: FBT001 - Hypothesis
    dropping = drop and rate.denominator == 1001 and rate > 25
    frame = int(second * rate)
    assert frame_of(timecode(frame, rate, drop=dropping), rate, drop=dropping) == frame


@pytest.mark.parametrize(
    ("text", "seconds"),
    [
        ("83.4", 83.4), ("83,4 s", 83.4), ("1:23.4", 83.4), ("1:02:03.5", 3723.5), ("400 ms", 0.4), ("1.5 min", 90.0),
        ("12 f", 0.48), ("10:01:23:10", 83.4),
    ],
)  # fmt: skip
def test_times_are_read_as_people_write_them(text: str, seconds: float) -> None:
    assert float(typed_seconds(text, Fraction(25), 10 * 3600 * 25)) == pytest.approx(seconds)


@pytest.mark.parametrize("text", ["", "abc", "1:2:3:4:5", "12 x", "25:61:00:00", "1:30 ms", "10:00:00:25"])
def test_what_is_no_time_is_refused_in_a_sentence(text: str) -> None:
    with pytest.raises(TimecodeError):
        typed_seconds(text, Fraction(25))
