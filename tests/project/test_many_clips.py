# SPDX-License-Identifier: GPL-3.0-or-later
"""Edits of many clips at once are what the same edits of one clip after the other are."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from pulizia.audio.timeline import Edge
from pulizia.errors import ProjectError
from pulizia.project import programme_edits as edits
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.cross_fades import cross_fade, cross_fades

LENGTHS = st.lists(st.tuples(st.integers(-40, 60), st.integers(50, 300)), min_size=1, max_size=14)


def row(lengths: list[tuple[int, int]], recording: str = "anna", first: int = 500) -> list[Clip]:
    """Clips one behind the other: by gaps, cuts, and overlaps that are cross-faded."""
    clips: list[Clip] = []
    at = first
    for gap, length in lengths:
        start = max(at + gap, clips[-1].start + 1 if clips else 0, clips[-2].stop if len(clips) > 1 else 0)
        overlap = max(0, clips[-1].stop - start) if clips else 0
        made = Clip(
            recording_id=recording, start=start, inner=start, frames=length + overlap, fade_in=Edge(overlap, "matched")
        )
        if clips and made.stop <= clips[-1].stop:
            continue
        clips.append(made)
        at = made.stop
    return clips


def programme(*rows: list[Clip]) -> Programme:
    lanes = tuple(Lane(name=f"{n}").with_clips(r) for n, r in enumerate(rows))
    return Programme(name="P", rate=48_000, lanes=lanes)


@given(LENGTHS, LENGTHS, st.sampled_from([2, 9, 40, 120]), st.randoms(use_true_random=False))
def test_cross_fades_of_many_cuts_are_those_of_each(one: list, two: list, frames: int, rng: object) -> None:
    given_ = programme(row(one), row(two))
    chosen = {c.id for lane in given_.lanes for c in lane.clips if rng.random() < 0.7}
    wanted, stay = given_, 0
    for clip_id in [c.id for lane in given_.lanes for c in lane.clips if c.id in chosen]:
        try:
            wanted = cross_fade(wanted, clip_id, frames)
        except ProjectError:
            stay += 1
    assert cross_fades(given_, chosen, frames) == (wanted, stay)


@settings(max_examples=200)
@given(LENGTHS, LENGTHS, st.integers(0, 900))
def test_what_lies_under_many_clips_gives_way_as_under_each(under: list, over: list, first: int) -> None:
    below, new = row(under), row(over, "bert", first)
    left = below
    for begin, end in ((c.start, c.stop) for c in new):
        left = sorted(edits.cleared(left, begin, end), key=lambda c: (c.start, c.stop))
    given_ = programme(below)
    made = edits.put(given_, given_.lanes[0].id, new).lanes[0].clips
    assert [c for c in made if c.recording_id == "bert"] == new
    assert {_place(c) for c in made if c.recording_id == "anna"} == {_place(c) for c in left}


def _place(clip: Clip) -> tuple[int, int, int]:
    return clip.start, clip.inner, clip.frames


def test_copies_of_clips_that_pass_into_each_other_still_do() -> None:
    """The later copy cut the overlap away from the earlier one."""
    given_ = programme(row([(0, 200), (-30, 200), (50, 100)]))
    first, second, third = given_.lanes[0].clips
    made = edits.duplicate(given_, {first.id, second.id}, 1000).lanes[0].clips
    assert [_place(c) for c in made[-2:]] == [_place(c.moved(1000)) for c in (first, second)]
    assert made[-1].fade_in == second.fade_in
    assert made[2] is third


def test_clips_of_several_lanes_on_one_give_way_to_those_that_come_later() -> None:
    given_ = programme([])
    new = row([(0, 300)]) + row([(0, 300)], "bert", 600) + row([(0, 50)], "cleo", 650)
    made = edits.put(given_, given_.lanes[0].id, new).lanes[0].clips
    assert [(c.recording_id, c.start, c.stop) for c in made] == [
        ("anna", 500, 600), ("bert", 600, 650), ("cleo", 650, 700), ("bert", 700, 900)
    ]  # fmt: skip


@pytest.mark.parametrize("count", [0, 1, 3])
def test_several_clips_are_changed_and_lanes_without_them_are_the_same(count: int) -> None:
    given_ = programme(row([(0, 100)] * 4), row([(0, 100)] * 2))
    chosen = {c.id for c in given_.lanes[0].clips[:count]}
    made = given_.with_all_changed(chosen | {"gone"}, lambda c: replace(c, gain_db=-3.0))
    assert [c.gain_db for c in made.lanes[0].clips] == [-3.0] * count + [0.0] * (4 - count)
    assert made.lanes[1] is given_.lanes[1]
    assert (made.lanes[0] is given_.lanes[0]) == (count == 0)
