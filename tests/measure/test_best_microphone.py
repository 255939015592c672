# SPDX-License-Identifier: GPL-3.0-or-later
"""Two talkers with a microphone each: who is heard, in spite of bleed, other gains and rustle; and what is done with it."""

from __future__ import annotations

import itertools
import json

import numpy as np
import pytest
from tests.measure.test_line_up import RATE, speech

from pulizia.audio.source import ArraySource
from pulizia.measure.best_microphone import best_microphones
from pulizia.project.clips import Clip, Lane, Programme, level_at
from pulizia.project.ducking import duck
from pulizia.project.programme_file import programme_of_row, programme_row

TURNS = ((0.5, 4.0, 0), (4.4, 7.0, 1), (7.3, 9.0, 0), (9.5, 14.0, 1), (14.3, 19.0, 0))


def microphones(gain_db: float, bleed_db: float, shift: int, rustle: int) -> list[ArraySource]:
    """Two lavaliers 2 m apart: each hears the other talker later and weaker, and both hear the room."""
    count = 20 * RATE
    said = [np.zeros(count), np.zeros(count)]
    for n, (a, b, who) in enumerate(TURNS):
        part = speech(b - a, seed=50 + n)
        said[who][round(a * RATE) : round(a * RATE) + len(part)] += part
    late, bleed = round(0.006 * RATE), 10 ** (bleed_db / 20)
    rng = np.random.default_rng(7)
    found = []
    for near in (0, 1):
        far = np.roll(said[1 - near], late) * bleed
        heard = said[near] + far
        for delay, share in ((631, 0.1), (1390, 0.08), (2777, 0.06)):  # the same room for both
            heard = heard + share * np.roll(said[0] + said[1], delay)
        found.append(heard + rng.normal(0, 0.002, count))
    if rustle:
        for at in (2.0, 11.0, 16.0):
            piece = slice(round(at * RATE), round((at + 0.6) * RATE))
            low = np.cumsum(rng.normal(size=piece.stop - piece.start))
            found[1 if at != 11.0 else 0][piece] += 0.2 * (low - low.mean()) / low.std() * np.hanning(len(low))
    found[1] = np.roll(found[1], -shift) * 10 ** (gain_db / 20)
    return [ArraySource(x[None].astype(np.float32), RATE) for x in found]


@pytest.mark.parametrize(
    ("gain_db", "bleed_db", "shift", "rustle"),
    [(0.0, -9.0, 0, 0), (8.0, -9.0, 0, 0), (-8.0, -7.0, 0, 1), (0.0, -9.0, 288, 1)],
)
def test_the_nearer_microphone_is_chosen_in_every_turn(
    gain_db: float, bleed_db: float, shift: int, rustle: int
) -> None:
    turns = best_microphones(microphones(gain_db, bleed_db, shift, rustle))
    assert (turns[0].start, turns[-1].stop) == (0, 20 * RATE)
    assert all(a.stop == b.start for a, b in itertools.pairwise(turns))
    right = 0.0
    for a, b, who in TURNS:
        first, last = round(a * RATE), round(b * RATE)
        right += sum(max(0, min(last, t.stop) - max(first, t.start)) for t in turns if t.microphone == who)
    spoken = sum(b - a for a, b, _ in TURNS) * RATE
    assert right / spoken > 0.93


def test_silence_and_one_microphone_twice_are_no_fault() -> None:
    quiet = ArraySource(np.zeros((1, RATE), np.float32), RATE)
    assert [t.microphone for t in best_microphones([quiet, quiet])] == [0]
    assert best_microphones([ArraySource(np.zeros((1, 0), np.float32), RATE)] * 2) == []
    same = ArraySource(speech(6.0, seed=3)[None], RATE)
    assert len(best_microphones([same, same])) == 1
    with pytest.raises(ValueError, match="two or more"):
        best_microphones([quiet])


def test_the_others_give_way_by_points_that_keep_what_was_there() -> None:
    line = ((0, 0.0), (1000, -4.0))
    programme = Programme(
        name="P", rate=RATE,
        lanes=(
            Lane(name="A", id="a", clips=(Clip(recording_id="x", start=500, inner=0, frames=3000, gain_line=line),)),
            Lane(name="B", id="b", clips=(Clip(recording_id="y", start=0, inner=0, frames=1500), Clip(recording_id="y", start=2500, inner=0, frames=1000))),
        ),
    )  # fmt: skip
    made = duck(programme, [(0, 2000, "a"), (2000, 4000, "b")], ["a", "b"], 9.0, 100)
    (a,), (b, c) = made.lanes[0].clips, made.lanes[1].clips
    assert [level_at(a.gain_line, at - 500) for at in (500, 1500, 1950, 2000, 2050, 3400)] == [
        0.0,
        -4.0,
        -4.0,
        -8.5,
        -13.0,
        -13.0,
    ]
    assert {db for _, db in b.gain_line} == {-9.0}
    assert c.gain_line == ()
    assert programme_of_row(json.loads(json.dumps(programme_row(made)))) == made
    assert duck(programme, [(0, 4000, "a")], ["a"], 9.0, 100) == programme
