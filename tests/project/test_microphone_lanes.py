# SPDX-License-Identifier: GPL-3.0-or-later
"""Clips of a recorder's file laid out: each microphone on a lane of its own, heard as it was."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from pulizia.audio.source import ArraySource
from pulizia.audio.timeline import Edge
from pulizia.errors import ProjectError
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.microphone_lanes import on_lanes
from pulizia.project.programme_sound import sound_of
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore

RATE = 48_000
SOUND = ArraySource(np.random.default_rng(3).normal(0, 0.1, (3, 4 * RATE)).astype(np.float32), RATE)
NAMES = {"poly": ("Boom", "Anna", "Bert"), "mono": ("M",)}


def clip(recording: str, start: int, frames: int, **more: object) -> Clip:
    return Clip(recording_id=recording, start=start, inner=start, frames=frames, **more)


def programme() -> Programme:
    """Two crossing clips of three microphones, one of a single one, and a lane that is called like one of the three."""
    voice = Lane(name="Voice", placement="C", group="Set").with_clips([
        clip("poly", 0, RATE, gain_db=-3.0), clip("poly", RATE - 4800, RATE, fade_in=Edge(4800)), clip("mono", 3 * RATE, 100),
    ])  # fmt: skip
    return Programme(
        name="Scene", rate=RATE, channels=1, lanes=(voice, Lane(name="Bert"), Lane(name="Air", kind="atmosphere"))
    )


def heard(made: Programme) -> list[np.ndarray]:
    """The sound of each lane, before its gain."""
    sound = sound_of(made, lambda i: (SOUND, NAMES[i]) if i == "poly" else None, ChunkCache(), AnalysisStore())
    return [lane.chain.before.read(0, 2 * RATE - 4800)[0] for lane in sound.lanes if lane.lane.clips]


def test_each_microphone_gets_a_lane_below_and_the_clips_stay_where_they_are() -> None:
    before = programme()
    chosen = {c.id for c in before.lanes[0].clips}
    made, count = on_lanes(before, chosen, NAMES.__getitem__)
    assert count == 2
    assert [(la.name, la.kind, la.placement, la.group) for la in made.lanes] == [
        ("Voice", "voice", "C", "Set"), ("Anna", "voice", "C", "Set"), ("Bert", "voice", "", ""), ("Air", "atmosphere", "", ""),
    ]  # fmt: skip
    rows = [[(c.channel, c.start, c.frames, c.gain_db, c.fade_in) for c in la.clips] for la in made.lanes]
    same = [(0, RATE, -3.0, Edge()), (RATE - 4800, RATE, 0.0, Edge(4800))]
    assert rows[0] == [*((0, *one) for one in same), (None, 3 * RATE, 100, 0.0, Edge())]
    assert rows[1] == [(1, *one) for one in same]
    assert rows[2] == [(2, *one) for one in same]
    ids = [c.id for la in made.lanes for c in la.clips]
    assert len(set(ids)) == len(ids)
    for lane, channel in zip(heard(made), SOUND.read(0, 2 * RATE - 4800), strict=True):
        last = 2 * RATE - 4800 - 240  # a cut passes over 5 ms
        np.testing.assert_allclose(lane[RATE:last], channel[RATE:last], atol=1e-6)
        np.testing.assert_allclose(lane[: RATE - 4800], channel[: RATE - 4800] * 10 ** (-3 / 20), atol=1e-6)


def test_a_clip_whose_recording_is_missing_stays_as_it_is() -> None:
    gone = clip("gone", 2 * RATE, 100, channel=0)
    before = Programme(
        name="Scene", rate=RATE, channels=1, lanes=(Lane(name="A1").with_clips([clip("poly", 0, RATE), gone]),)
    )
    made, count = on_lanes(before, {c.id for c in before.lanes[0].clips}, lambda i: NAMES.get(i, ()))
    assert count == 1
    assert made.lanes[0].clips[1] == gone
    assert [la.name for la in made.lanes] == ["A1", "Anna", "Bert"]  # whose microphone the other is nobody knows


def test_what_hears_one_channel_already_is_refused_and_a_lane_without_room_says_so() -> None:
    before = programme()
    with pytest.raises(ProjectError, match="several channels first"):
        on_lanes(before, {before.lanes[0].clips[2].id}, NAMES.__getitem__)
    made, _ = on_lanes(before, {before.lanes[0].clips[0].id}, NAMES.__getitem__)
    with pytest.raises(ProjectError, match="several channels first"):
        on_lanes(made, {made.lanes[0].clips[0].id}, NAMES.__getitem__)
    full = replace(
        before, lanes=(before.lanes[0], Lane(name="Anna").with_clips([clip("mono", 100, 10)]), *before.lanes[1:])
    )
    with pytest.raises(ProjectError, match="inside another on Anna"):
        on_lanes(full, {before.lanes[0].clips[0].id}, NAMES.__getitem__)


@pytest.mark.parametrize(
    ("called", "then"), [("A1", "Boom"), ("Audio 2", "Boom"), ("Anna's chapter", "Anna's chapter")]
)
def test_a_lane_that_a_list_numbered_is_called_like_its_microphone(called: str, then: str) -> None:
    lane = Lane(name=called).with_clips([clip("poly", 0, RATE), clip("poly", RATE, RATE)])
    before = Programme(name="Scene", rate=RATE, channels=1, lanes=(lane,))
    made, _ = on_lanes(before, {c.id for c in lane.clips}, NAMES.__getitem__)
    assert [la.name for la in made.lanes] == [then, "Anna", "Bert"]
    part, _ = on_lanes(before, {lane.clips[0].id}, NAMES.__getitem__)
    assert part.lanes[0].name == called, "a clip on it still hears all microphones"
