# SPDX-License-Identifier: GPL-3.0-or-later
"""Any cut of any programme conformed: what is heard, frame by frame, beside what the lists ask for."""

from __future__ import annotations

import random
from dataclasses import replace

from hypothesis import given, settings
from hypothesis import strategies as st
from tests.interchange.test_conform import RATE, clip, listed

from pulizia.audio.spans import Span
from pulizia.interchange.conform import conform
from pulizia.project.clips import Lane, Programme

Stretch = tuple[str, int, int, int]  # of the list: recording, inner, length and the gap before, in ms


def laid(*lanes: list[Stretch]) -> Programme:
    """Lanes from stretches one after the other."""
    made = []
    for n, stretches in enumerate(lanes):
        at, clips = 0, []
        for recording, inner, length, gap in stretches:
            clips.append(clip(recording, (at + gap) / 1000, inner / 1000, length / 1000))
            at += gap + length
        made.append(Lane(name=f"A{n + 1}", id=f"a{n}").with_clips(clips))
    return listed(*made)


def any_lanes(rng: random.Random, count: int) -> list[list[Stretch]]:
    """Stretches of three recordings for some lanes, none of them played twice."""
    every = [(r, inner + rng.randrange(0, 1000, 40)) for r in "ABC" for inner in range(0, 60_000, 6000)]
    rng.shuffle(every)
    lengths = [rng.randrange(2, 7) for _ in range(count)]
    return [
        [
            (r, inner, rng.randrange(400, 4500, 40), rng.choice([0, 0, 480]))
            for r, inner in (every.pop() for _ in range(n))
        ]
        for n in lengths
    ]


def recut(stretches: list[Stretch], rng: random.Random) -> list[Stretch]:
    """A cut changed as editors change cuts: swapped, taken out, put in, trimmed, split, opened."""
    row = list(stretches)
    for _ in range(rng.randrange(1, 5)):
        n, other = rng.randrange(len(row)), rng.randrange(len(row))
        recording, inner, length, gap = row[n]
        by = rng.randrange(40, 800, 40)
        match rng.randrange(7):
            case 0:
                row[n], row[other] = row[other], row[n]
            case 1 if len(row) > 1:
                row.pop(n)
            case 2:
                row.insert(n, ("ABC"[n % 3], rng.randrange(0, 60_000, 40), rng.randrange(400, 6000, 40), gap))
            case 3 if length - by >= 80:
                row[n] = (recording, inner + by, length - by, gap)
            case 4 if length - by >= 80:
                row[n] = (recording, inner, length - by, gap)
            case 5 if length - by >= 200:
                halves = [(recording, inner, by, gap), (recording, inner + by, length - by, 0)]
                row[n : n + 1] = halves if rng.random() < 0.5 else halves[::-1]
            case 6:
                row[n] = (recording, inner, length + by, gap)
    return row


def worked_on(programme: Programme, rng: random.Random) -> Programme:
    """A gain of its own for each clip; some clips trimmed, taken out, opened in the middle, or laid onto the editor's own lane."""
    every = [c.id for lane in programme.lanes for c in lane.clips]
    for n, clip_id in enumerate(every):
        programme = programme.with_changed(clip_id, lambda c, n=n: replace(c, gain_db=n / 10))
    for clip_id in rng.sample(every, min(3, len(every))):
        lane = next(la for la in programme.lanes if any(c.id == clip_id for c in la.clips))
        one = lane.clip(clip_id)
        by = rng.randrange(120, max(121, one.frames * 1000 // RATE - 280), 40) * RATE // 1000
        rest = [c for c in lane.clips if c.id != clip_id]
        own = next((la for la in programme.lanes if la.id == "own"), Lane(name="Mine", id="own"))
        match rng.randrange(5):
            case 0:
                rest.append(one.part_of(one.start, one.stop - by))
            case 1:
                rest.append(one.part_of(one.start + by, one.stop))
            case 2 if one.frames > by + RATE // 4:
                behind = replace(one.part_of(one.start + by + RATE * 3 // 25, one.stop), id=f"{clip_id} again")
                rest += [one.part_of(one.start, one.start + by), behind]
            case 3 if not any(c.start < one.stop and one.start < c.stop for c in own.clips):
                programme = programme.with_lane(own.with_clips([*own.clips, one]))
        programme = programme.with_lane(lane.with_clips(rest))
    return programme


def heard(lanes: tuple[Lane, ...], at: int) -> list[tuple[str, int, float]]:
    """What sounds at a frame: recording, its place in ms, gain."""
    return [
        (c.recording_id, (c.inner + at - c.start) * 1000 // RATE, c.gain_db)
        for lane in lanes
        for c in lane.clips
        if c.start <= at < c.stop
    ]


@settings(max_examples=40)
@given(st.randoms(use_true_random=False))
def test_of_any_cut_is_heard_what_the_list_asks_for_with_the_work_that_was_done_to_it(rng: random.Random) -> None:
    lanes = any_lanes(rng, rng.randrange(1, 4))
    asked = laid(*lanes)
    old, new = worked_on(asked, rng), laid(*(recut(row, rng) for row in lanes))
    found = conform(old, new, dict.fromkeys("ABC", 80.0 * RATE)).programme
    was = [(c.recording_id, Span(c.inner, c.inner + c.frames)) for lane in asked.lanes for c in lane.clips]
    kept = [(c, Span(c.inner, c.inner + c.frames)) for lane in old.lanes for c in lane.clips]
    for at in range(RATE // 100, new.frames, RATE // 25):
        sounds = heard(found.lanes, at)
        wanted = []
        for recording, ms, _ in heard(new.lanes, at):
            frame = ms * RATE // 1000
            inside = [c for c, span in kept if c.recording_id == recording and span.start <= frame < span.stop]
            if inside:
                assert (recording, ms, inside[0].gain_db) in sounds
            if inside or not any(r == recording and span.start <= frame < span.stop for r, span in was):
                wanted.append((recording, ms))  # what the editor took out stays out
        assert sorted(s[:2] for s in sounds) == sorted(wanted), at


AHEAD = 5000  # ms by which the recorder of the further microphones began before


def with_microphones(programme: Programme, rng: random.Random, late: int) -> Programme:
    """Under each lane one of a further microphone, which no list knows: in sync it lies ``late`` frames later, some clips shorter."""
    lanes = []
    for lane in programme.lanes:
        row = []
        for c in (c for c in lane.clips if rng.random() < 0.85):
            heard_by = replace(
                c, recording_id=f"mic of {c.recording_id}", inner=c.inner + AHEAD * RATE // 1000, id=f"mic of {c.id}",
                listed=(c.recording_id, -AHEAD * RATE // 1000), gain_db=round(rng.uniform(-9, 9), 1),
            )  # fmt: skip
            by = RATE // 8
            first, last = rng.choice([(0, 0), (by, 0), (0, by)]) if c.frames > 3 * by else (0, 0)
            row.append(replace(heard_by.part_of(c.start + first, c.stop - last), id=heard_by.id).moved(late))
        lanes.append(Lane(name=f"Mic {lane.name}", id=f"mic {lane.id}").with_clips(row))
    return replace(programme, lanes=(*programme.lanes, *lanes))


@settings(max_examples=40)
@given(st.randoms(use_true_random=False))
def test_of_any_cut_further_microphones_are_heard_beside_what_they_heard(rng: random.Random) -> None:
    lanes = any_lanes(rng, rng.randrange(1, 3))
    late = rng.choice([0, 0, RATE * 3 // 25, -RATE * 2 // 25])
    lanes = [[(row[0][0], row[0][1], row[0][2], 480), *row[1:]] for row in lanes]  # so that nothing begins before 0
    old, new = with_microphones(laid(*lanes), rng, late), laid(*(recut(row, rng) for row in lanes))
    lengths = {f"{who}{r}": 80.0 * RATE for r in "ABC" for who in ("", "mic of ")}
    found = conform(old, new, lengths).programme
    mics = [(c, Span(c.inner, c.stop - c.start + c.inner)) for la in old.lanes for c in la.clips if "mic" in la.id]
    for at in range(RATE // 100, new.frames, RATE // 25):
        wanted = heard(new.lanes, at)
        assert sorted(s[:2] for s in heard(tuple(la for la in found.lanes if "mic" not in la.id), at)) == sorted(
            w[:2] for w in wanted
        )
        beside = heard(tuple(la for la in found.lanes if "mic" in la.id), at)
        wanted = heard(new.lanes, at - late)
        for recording, ms, _ in wanted:
            name, later = f"mic of {recording}", ms + AHEAD
            clips = [c for c, span in mics if c.recording_id == name and span.start <= later * RATE // 1000 < span.stop]
            assert not clips or (name, later, clips[0].gain_db) in beside
        assert {(name.removeprefix("mic of "), ms - AHEAD) for name, ms, _ in beside} <= {w[:2] for w in wanted}
