# SPDX-License-Identifier: GPL-3.0-or-later
"""Programmes: edits as values, their sound, and their place in the project file."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from dataclasses import replace
from fractions import Fraction
from functools import reduce
from operator import getitem
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.signal import butter, sosfilt
from tests.conftest import voice_in_noise

from pulizia.audio.markers import Marker
from pulizia.audio.source import ArraySource, made_key
from pulizia.audio.spans import Span
from pulizia.audio.timeline import Edge
from pulizia.errors import ProjectError
from pulizia.project import programme_edits as edits
from pulizia.project import time_edits
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.cross_fades import cross_fade
from pulizia.project.cut_edges import CutEdges
from pulizia.project.file import parse_project, project_text
from pulizia.project.handles import Handles
from pulizia.project.model import Project, Recording
from pulizia.project.programme_sound import ProgrammeSound, placed, sound_of, stems_of
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore
from pulizia.score.steps import make_step

RATE = 48_000
RNG = np.random.default_rng(8)
SOUNDS = {
    "anna": ArraySource(RNG.normal(0, 0.1, (1, 3 * RATE)).astype(np.float32), RATE),
    "bert": ArraySource(RNG.normal(0, 0.1, (1, 3 * RATE)).astype(np.float32), RATE),
    "wide": ArraySource(RNG.normal(0, 0.1, (2, 2 * RATE)).astype(np.float32), RATE),
}


def clip(recording: str, start: int, inner: int, frames: int, **more: object) -> Clip:
    return Clip(recording_id=recording, start=start, inner=inner, frames=frames, **more)


def two_speakers() -> Programme:
    """Anna, then Bert, then Anna again with a gap before; an atmosphere under all."""
    talk = Lane(name="Talk").with_clips(
        [clip("anna", 0, 1000, 40_000), clip("bert", 40_000, 500, 30_000), clip("anna", 90_000, 50_000, 20_000)]
    )
    air = Lane(name="Air", kind="atmosphere", gain_db=-6.0).with_clips([clip("wide", 0, 0, 96_000)])
    return Programme(name="Chapter", rate=RATE, lanes=(talk, air), markers=(Marker(45_000, "Bert"),))


def sound(programme: Programme, missing: str = "") -> ProgrammeSound:
    names = {1: ("M",), 2: ("L", "R")}
    heard = lambda i: None if i == missing else (SOUNDS[i], names[SOUNDS[i].channels])  # noqa: E731
    return sound_of(programme, heard, ChunkCache(), AnalysisStore())


@pytest.mark.parametrize(
    ("drift_ppm", "warp"), [(0.0, ()), (240.0, ()), (-240.0, ()), (120.0, ((96_000, 96_000), (240_000, 247_000)))]
)
def test_what_a_clip_says_is_heard_at_a_frame_is_what_sounds_there(
    drift_ppm: float, warp: tuple[tuple[int, int], ...]
) -> None:
    """A recording whose value is its frame; with the clock of another recorder, a shift, and fitted words."""
    ramp = ArraySource((np.arange(8 * RATE) * 1e-6)[None].astype(np.float32), RATE)
    one = clip("ramp", RATE, 2 * RATE, 3 * RATE, drift_ppm=drift_ppm, shift=12.25, warp=warp)
    programme = Programme(name="Ramp", rate=RATE, channels=1, lanes=(Lane(name="A").with_clips([one]),))
    heard = sound_of(programme, lambda _: (ramp, ("M",)), ChunkCache(), AnalysisStore()).after
    frames = np.arange(RATE + 6000, 4 * RATE - 6000, 4800)
    got = np.array([heard.read(int(f), int(f) + 1)[0, 0] for f in frames]) / 1e-6
    said = np.array([one.heard_at(float(f)) for f in frames])
    assert np.abs(got - said).max() < (0.1 if not warp else 500.0)  # words are stretched in pieces that overlap
    assert abs(said[-1] - frames[-1]) > 20 if drift_ppm else True


def samples(programme: Programme, missing: str = "") -> np.ndarray:
    after = sound(programme, missing).after
    return after.read(0, after.frames)


def test_a_programme_sounds_as_its_clips_lie_and_an_offline_recording_is_silent_by_name() -> None:
    made = samples(two_speakers())
    assert made.shape == (2, 110_000)
    half = np.float32(0.5**0.5)
    voice = half * SOUNDS["bert"].read(500 + 300, 500 + 400)
    air = SOUNDS["wide"].read(40_300, 40_400) * np.float32(10 ** (-6 / 20))
    assert np.allclose(made[:, 40_300:40_400], voice + air, atol=1e-6)
    assert np.allclose(made[:, 100_000:100_100], half * SOUNDS["anna"].read(60_000, 60_100), atol=1e-6)
    quiet = sound(two_speakers(), missing="anna")
    assert quiet.silent == ("anna",)
    assert not quiet.lanes[0].chain.after.read(0, 40_000).any()
    with pytest.raises(ProjectError, match="holds no clips"):
        sound(Programme(name="Empty", rate=RATE, lanes=(Lane(name="Talk"),)))


def test_a_locked_lane_stays_where_others_move_and_a_locked_picture_lets_nothing_move() -> None:
    programme = two_speakers()
    talk, air = programme.lanes
    locked = programme.with_lane(replace(air, locked=True))
    made = time_edits.ripple_delete(locked, 10_000, 20_000)
    assert made.lanes[1].clips == air.clips
    assert [(c.start, c.stop) for c in made.lanes[0].clips][:2] == [(0, 10_000), (10_000, 30_000)]
    assert made.markers[0].frame == 35_000
    for edit in (
        edits.split(locked, 50_000),
        edits.lift(locked, 30_000, 60_000),
        time_edits.insert_time(locked, 50_000, 500),
    ):
        assert edit.lanes[1].clips == air.clips
        assert edit.lanes[0].clips != talk.clips
        edits.check_locks(locked, edit)
    mine = air.clips[0].id
    for edit in (
        edits.remove(locked, {mine}), edits.split(locked, 50_000, [air.id]), edits.set_gain(locked, {mine}, -3.0),
        replace(locked, lanes=(talk,)),
    ):  # fmt: skip
        with pytest.raises(ProjectError, match="Air is locked"):
            edits.check_locks(locked, edit)
    edits.check_locks(locked, programme)  # to unlock is no edit of its clips
    both = locked.with_lane(replace(talk, locked=True))
    with pytest.raises(ProjectError, match="Every lane is locked"):
        time_edits.ripple_delete(both, 10_000, 20_000)
    picture = replace(programme, picture_locked=True)
    for edit in (time_edits.ripple_delete, time_edits.insert_time):
        with pytest.raises(ProjectError, match="picture is locked"):
            edit(picture, 10_000, 20_000)
    assert edits.lift(picture, 10_000, 20_000).frames == programme.frames
    text = project_text(
        Project().with_programme(both.with_lane(talk)).with_programme(replace(picture, id="other")), Path("/")
    )
    read = parse_project(text, "museum.pulizia", Path("/")).programmes
    assert [lane.locked for lane in read[0].lanes] == [False, True]
    assert [p.picture_locked for p in read] == [False, True]


def test_what_an_edit_did_not_change_is_taken_over_and_sounds_as_if_made_anew() -> None:
    heard = lambda i: (SOUNDS[i], {1: ("M",), 2: ("L", "R")}[SOUNDS[i].channels])  # noqa: E731
    cache, store = ChunkCache(), AnalysisStore()
    programme = two_speakers()
    talk, air = programme.lanes
    longer = edits.put(programme, talk.id, [clip("bert", 150_000, 0, 30_000)])
    states = [
        edits.set_gain(programme, {talk.clips[1].id}, -6.0), edits.set_gain(programme, {air.clips[0].id}, 3.0), longer,
        longer.with_lane(replace(longer.lanes[1], gain_db=0.0, muted=True)), longer.with_lane(replace(longer.lanes[1], placement="R")),
        longer.with_lane(replace(longer.lanes[0], steps=(make_step("level", {"gain_db": -3.0}),))), replace(longer, channels=1),
        time_edits.ripple_delete(longer, 30_000, 60_000), programme,
    ]  # fmt: skip
    before = sound_of(programme, heard, cache, store)
    for state in states:
        made = sound_of(state, heard, cache, store, previous=before)
        assert made_key(made.after) is None or all(
            a.line is b.line for a, b in zip(made.lanes, before.lanes, strict=True)
        )
        anew = sound_of(state, heard, ChunkCache(), AnalysisStore()).after
        assert np.array_equal(made.after.read(0, state.frames), anew.read(0, anew.frames))
        assert made.after.key == made_key(made.after) == anew.key
        before = made
    one = sound_of(edits.set_gain(programme, {talk.clips[1].id}, -6.0), heard, cache, store, previous=before)
    assert one.lanes[1].line is before.lanes[1].line
    assert one.lanes[0].line is not before.lanes[0].line
    other = ArraySource(0.5 * SOUNDS["wide"].read(0, 96_000), RATE)  # a recording with other steps
    changed = sound_of(
        programme, lambda i: (other, ("L", "R")) if i == "wide" else heard(i), cache, store, previous=one
    )
    assert changed.lanes[1].line is not one.lanes[1].line


def test_room_tone_runs_on_under_what_is_closed_up_or_opened_and_fills_no_gap() -> None:
    talk = Lane(name="Talk").with_clips([clip("anna", 0, 0, 20_000), clip("anna", 50_000, 60_000, 20_000)])
    tone = clip("wide", 0, 0, 80_000, tone=True, fade_out=Edge(4800))
    air = Lane(name="Air", kind="atmosphere").with_clips([tone])
    rain = Lane(name="Rain", kind="atmosphere").with_clips([clip("bert", 10_000, 0, 60_000)])
    programme = Programme(name="Chapter", rate=RATE, lanes=(talk, air, rain))
    assert time_edits.gap_at(programme, 30_000) == time_edits.gap_at(programme, 20_000) == Span(20_000, 50_000)
    assert time_edits.gap_at(programme, 10_000) is None
    assert time_edits.gap_at(programme, 75_000) is None
    shorter = time_edits.ripple_delete(programme, 20_000, 50_000)
    assert shorter.lanes[1].clips == (replace(tone, frames=50_000),)
    assert [(c.start, c.frames) for c in shorter.lanes[2].clips] == [(10_000, 10_000), (20_000, 20_000)]
    longer = time_edits.insert_time(programme, 30_000, 7000)
    assert longer.lanes[1].clips == (replace(tone, frames=87_000),)
    assert [(c.start, c.frames) for c in longer.lanes[2].clips] == [(10_000, 20_000), (37_000, 40_000)]
    led = replace(tone, gain_line=((0, 0.0), (80_000, -6.0)))  # points of a gain line stay with their sound
    parted = time_edits.ripple_delete(programme.with_lane(air.with_clips([led])), 20_000, 50_000).lanes[1].clips
    assert [c.frames for c in parted] == [20_000, 30_000]


@settings(max_examples=150, deadline=None)
@given(st.integers(0, 60_000), st.integers(1, 40_000), st.sampled_from(["ripple", "lift", "put", "insert"]))
def test_a_section_may_begin_and_end_inside_a_cross_fade(begin: int, frames: int, deed: str) -> None:
    row = [clip("anna", 0, 1000, 30_000), clip("bert", 20_000, 500, 30_000), clip("anna", 45_000, 50_000, 20_000)]
    programme = Programme(name="Crossed", rate=RATE, lanes=(Lane(name="One").with_clips(row),))
    end = begin + frames
    made = {
        "ripple": lambda: time_edits.ripple_delete(programme, begin, end),
        "lift": lambda: edits.lift(programme, begin, end),
        "put": lambda: edits.put(programme, programme.lanes[0].id, [clip("wide", begin, 0, frames)]),
        "insert": lambda: time_edits.insert_time(programme, begin, frames),
    }[deed]()
    end = begin if deed == "insert" else end
    shift = {"ripple": frames, "insert": -frames}.get(deed, 0)
    now = [c for c in made.lanes[0].clips if c.recording_id != "wide"]
    for n in range(0, 65_000, 500):  # nothing is lost but what lay inside: everywhere else a clip is heard as before
        if begin <= n < end:
            continue
        there = n if n < begin else n - shift
        heard = {(c.recording_id, c.heard_at(there)) for c in now if c.start <= there < c.stop}
        was = {(c.recording_id, c.heard_at(n)) for c in row if c.start <= n < c.stop}
        assert heard <= was
        assert bool(heard) == bool(was)


def away_from_cuts(programme: Programme) -> np.ndarray:
    """Frames that lie more than 5 ms from every edge of its clips."""
    away = np.ones(programme.frames, bool)
    for edge in {e for lane in programme.lanes for c in lane.clips for e in (c.start, c.stop)}:
        away[max(0, edge - 240) : edge + 240] = False
    return away


@settings(max_examples=40, deadline=None)
@given(
    st.integers(24_000, 60_000), st.integers(1, 39_000), st.sampled_from(["ripple", "lift", "trim", "remove", "gain"])
)
def test_no_cut_clicks(at: int, frames: int, deed: str) -> None:
    """What a cut adds above 4 kHz to a deep tone stays 30 dB under the tone; a step of its full height adds it at -12 dB."""
    tone = ArraySource(0.25 * np.sin(2 * np.pi * 90.0 * np.arange(3 * RATE) / RATE)[None].astype(np.float32), RATE)
    whole = Programme(
        name="Tone", rate=RATE, channels=1, lanes=(Lane(name="One").with_clips([clip("t", 0, 12_345, 100_000)]),)
    )
    parts = edits.split(whole, at)
    second = parts.lanes[0].clips[1].id
    made = {
        "ripple": lambda: time_edits.ripple_delete(whole, at, at + frames),
        "lift": lambda: edits.lift(whole, at, at + frames),
        "trim": lambda: edits.trim(parts, second, start=at + frames),
        "remove": lambda: edits.remove(parts, [second]),
        "gain": lambda: edits.set_gain(parts, [second], -12.0),
    }[deed]()  # fmt: skip
    heard = sound_of(made, lambda _: (tone, ("M",)), ChunkCache(), AnalysisStore()).after.read(0, made.frames)[0]
    heard = np.concatenate([np.zeros(4800, np.float32), heard, np.zeros(4800, np.float32)])
    high = sosfilt(butter(4, 4000.0, "high", fs=RATE, output="sos"), heard)
    assert np.max(np.abs(high)) < 0.25 * 10 ** (-30 / 20)


def test_clips_are_opened_as_far_as_their_recordings_go() -> None:
    recordings = [
        Recording(path=Path("a.wav"), name="a", fingerprint="", rate=44_100, channels=1, frames=44_100, id="a"),
        Recording(path=Path("b.wav"), name="b", fingerprint="", rate=RATE, channels=1, frames=60_000, id="b"),
    ]
    handles = Handles(recordings, RATE)
    whole, part = clip("a", 10_000, 0, 48_000), clip("b", 58_000, 5000, 50_000, shift=1000.0)
    assert handles.ends(whole) == (10_000, 58_000)
    assert handles.ends(part) == (52_000, 112_000)
    assert (handles.start(whole, 9000), handles.stop(whole, 70_000)) == (10_000, 58_000)
    assert (handles.start(part, 100), handles.start(part, 57_000), handles.stop(part, 100_000)) == (
        52_000,
        57_000,
        100_000,
    )
    assert [handles.slip([part], n) for n in (-9000, 9000, 3)] == [-6000, 4000, 3]
    assert handles.slip([whole, part], 500) == 0
    assert handles.start(replace(part, tone=True), -5000) == -5000
    assert handles.start(clip("a", 10_000, -800, 48_800), 9000) == 10_000  # a list wanted it so
    lane = Lane(name="One").with_clips([whole, part])
    programme = Programme(name="P", rate=RATE, channels=1, lanes=(lane,))
    crossed = cross_fade(programme, part.id, 2000, handles=handles).lanes[0].clips
    assert [(c.start, c.stop, c.fade_in.frames) for c in crossed] == [(10_000, 58_000, 0), (56_000, 108_000, 2000)]
    assert edits.roll(programme, part.id, "start", 60_000, handles) == programme
    assert edits.roll(programme, whole.id, "stop", 55_000, handles).lanes[0].clips[1].start == 55_000
    assert edits.roll(programme, whole.id, "stop", 40_000, handles).lanes[0].clips[0].stop == 52_000
    assert edits.slide(programme, whole.id, -9000, handles).lanes[0].clips[1].start == 52_000
    ends = programme.with_lane(lane.with_clips([whole, clip("b", 58_000, 0, 50_000)]))
    with pytest.raises(ProjectError, match="Neither recording goes on"):
        cross_fade(ends, ends.lanes[0].clips[1].id, 2000, handles=handles)


def test_a_chosen_fade_and_the_beginning_of_a_recording_stay_as_they_are_and_a_cut_is_a_cross_fade() -> None:
    row = [
        clip("anna", 0, 0, 10_000),
        clip("bert", 10_000, 500, 10_000, fade_out=Edge(2000)),
        clip("anna", 40_000, 134_000, 10_000),
    ]
    edges = CutEdges(row, RATE)
    assert edges.spans == [(0, 10_120), (9_880, 20_000), (40_000, 50_000)]
    first, second, third = (edges.clip(n, lambda _: 3 * RATE) for n in range(3))
    assert (first.fade_in, first.frames) == (Edge(), 10_120)
    assert (second.inner, second.fade_out) == (380, Edge(2000))
    assert (third.fade_in, third.fade_out) == (Edge(240), Edge())


@settings(max_examples=60, deadline=None)
@given(st.integers(1, 109_999), st.integers(1, 30_000))
def test_splitting_is_heard_by_nobody_and_a_ripple_takes_out_and_makes_room_exactly(at: int, frames: int) -> None:
    programme = two_speakers()
    whole = samples(programme)
    assert np.array_equal(samples(edits.split(programme, at)), whole)
    end = min(at + frames, 110_000)
    cut = time_edits.ripple_delete(programme, at, end)
    rest = np.concatenate([whole[:, :at], whole[:, end:]], axis=1)
    away = away_from_cuts(cut)
    assert np.array_equal(samples(cut)[:, away], rest[:, : cut.frames][:, away])
    assert not rest[:, cut.frames :].any()
    room = time_edits.insert_time(programme, at, frames)
    wider = np.concatenate([whole[:, :at], np.zeros((2, frames), np.float32), whole[:, at:]], axis=1)
    away = away_from_cuts(room)
    assert np.array_equal(samples(room)[:, away], wider[:, : room.frames][:, away])
    assert [m.frame for m in room.markers] == [45_000 + frames if at <= 45_000 else 45_000]


def test_clips_are_moved_slipped_trimmed_laid_over_others_and_copied() -> None:
    programme = two_speakers()
    talk = programme.lanes[0]
    first, second, third = talk.clips
    moved = edits.move(programme, {third.id}, -60_000).lanes[0]
    assert [(c.recording_id, c.start, c.frames, c.inner) for c in moved.clips] == [
        ("anna", 0, 30_000, 1000), ("anna", 30_000, 20_000, 50_000), ("bert", 50_000, 20_000, 10_500),
    ]  # fmt: skip
    over = edits.move(programme, {third.id}, -80_000).lanes[0]
    assert [(c.start, c.stop) for c in over.clips] == [
        (0, 10_000),
        (10_000, 30_000),
        (30_000, 40_000),
        (40_000, 70_000),
    ]
    assert len({c.id for c in over.clips}) == 4
    slipped = edits.slip(programme, {second.id}, 250).lanes[0].clips[1]
    assert (slipped.start, slipped.inner) == (40_000, 750)
    trimmed = edits.trim(programme, second.id, start=45_000, stop=60_000).lanes[0].clips[1]
    assert (trimmed.start, trimmed.inner, trimmed.frames) == (45_000, 5500, 15_000)
    copied = edits.duplicate(programme, {first.id, second.id}, 200_000).lanes[0]
    assert [c.start for c in copied.clips] == [0, 40_000, 90_000, 200_000, 240_000]
    other = edits.move(programme, {second.id}, 0, programme.lanes[0].id)
    assert other.lanes[0].clips == talk.clips
    with pytest.raises(ProjectError, match="cannot begin before"):
        edits.move(programme, {first.id}, -1)
    with pytest.raises(ProjectError, match="Nothing of the clip"):
        edits.trim(programme, first.id, start=40_000)
    for edge in ({"stop": 70_000}, {"stop": 75_000}):
        with pytest.raises(ProjectError, match="cover the whole clip beside it"):
            edits.trim(programme, first.id, **edge)
    assert edits.trim(programme, first.id, stop=69_999).lanes[0].clips[0].stop == 69_999
    with pytest.raises(ProjectError, match="inside another"):
        talk.with_clips([first, clip("bert", 100, 0, 50)])


def test_cross_fades_lie_around_the_cut_and_fades_stay_within_their_clip() -> None:
    programme = two_speakers()
    second = programme.lanes[0].clips[1]
    made = cross_fade(programme, second.id, 2000, "power")
    a, b, _ = made.lanes[0].clips
    assert (a.stop, b.start, b.inner, b.fade_in.law) == (41_000, 39_000, 0 - 500, "power")
    heard, plain = samples(made), samples(programme)
    assert np.array_equal(heard[:, :39_000], plain[:, :39_000])
    assert np.array_equal(heard[:, 41_000:], plain[:, 41_000:])
    with pytest.raises(ProjectError, match="inside a cross-fade"):
        edits.split(made, 40_500, [made.lanes[0].id])
    everywhere = edits.split(made, 40_500)
    assert everywhere.lanes[0].clips == made.lanes[0].clips
    assert len(everywhere.lanes[1].clips) == 2
    assert len(edits.split(made, 41_000).lanes[0].clips) == 4  # where the fade has ended
    with pytest.raises(ProjectError, match="Close the gap"):
        cross_fade(programme, programme.lanes[0].clips[2].id, 100)
    with pytest.raises(ProjectError, match="too short"):
        cross_fade(programme, second.id, 90_000)
    faded = edits.fade(programme, {second.id}, side="out", frames=10**9, law="gain").lanes[0].clips[1]
    assert faded.fade_out == Edge(30_000, "gain")
    assert (
        edits.split(edits.fade(programme, {second.id}, side="in", frames=400), 50_000).lanes[0].clips[2].fade_in.frames
        == 0
    )


def test_room_tone_fills_gaps_at_the_level_of_the_room_and_is_the_same_each_time() -> None:
    voice = ArraySource(voice_in_noise(6.0), RATE)
    lane = Lane(name="Talk").with_clips([clip("a", 0, 0, 2 * RATE), clip("a", 3 * RATE, 3 * RATE, 2 * RATE)])
    programme = edits.fill_gaps(Programme(name="P", rate=RATE, channels=1, lanes=(lane,)), lane.id, cross=480)
    heard = lambda _i: (voice, ("M",))  # noqa: E731
    one, two = (sound_of(programme, heard, ChunkCache(), AnalysisStore()).after for _ in range(2))
    gap = one.read(2 * RATE + 1000, 3 * RATE - 1000)
    assert np.array_equal(gap, two.read(2 * RATE + 1000, 3 * RATE - 1000))
    room = 10 * np.log10(np.mean(voice.read(4800, 40_000) ** 2))
    assert 10 * np.log10(np.mean(gap**2)) == pytest.approx(room, abs=1.5)
    assert len(programme.lanes[0].clips) == 3


def test_lanes_are_muted_soloed_treated_and_parted_into_stems() -> None:
    programme = two_speakers()
    talk, air = programme.lanes
    only = samples(replace(programme, lanes=(replace(talk, soloed=True), air)))
    without = samples(replace(programme, lanes=(talk, replace(air, muted=True))))
    assert np.array_equal(only, without)
    quieter = replace(talk, steps=(make_step("level", {"way": "gain", "gain_db": -6.0}),))
    lower = samples(replace(programme, lanes=(quieter, replace(air, muted=True))))
    assert np.allclose(lower, without * np.float32(10 ** (-6 / 20)), atol=1e-6)
    whole = replace(programme, steps=(make_step("level", {"way": "gain", "gain_db": 6.0}),))
    assert np.allclose(samples(whole), samples(programme) * np.float32(10 ** (6 / 20)), atol=1e-5)
    stems = stems_of(programme)
    assert set(stems) == {"voice", "atmosphere"}
    made = sound(programme)
    parts = [made.stem(lanes).read(0, programme.frames) for lanes in stems.values()]
    assert np.allclose(sum(parts), samples(programme), atol=1e-6)
    alone = made.clip_alone(talk.clips[1], handles=400)
    assert np.allclose(alone.read(0, 100), 0.5**0.5 * SOUNDS["bert"].read(100, 200), atol=1e-6)
    assert alone.frames == 30_000 + 800


def test_placement_keeps_the_power_of_one_channel_and_leaves_equal_layouts_alone() -> None:
    assert np.allclose(placed(("M",), None, "", 2), [[0.5**0.5], [0.5**0.5]])
    assert placed(("M",), None, "R", 2).tolist() == [[0.0], [1.0]]
    assert placed(("L", "R"), None, "", 2).tolist() == [[1.0, 0.0], [0.0, 1.0]]
    assert placed(("M",), None, "C", 6)[:, 0].tolist() == [0, 0, 1, 0, 0, 0]
    assert placed(("L", "R"), 1, "L", 2).tolist() == [[0.0, 1.0], [0.0, 0.0]]
    assert placed(("L", "R"), None, "", 1).tolist() == [[0.5, 0.5]]
    tracks = placed(tuple("12345678"), None, "", 2)
    assert np.allclose((tracks**2).sum(axis=1), 1.0)


def of_all_kinds() -> Programme:
    """A programme that uses whatever a file can hold."""
    rich = clip(
        "anna", 96_100, 7, 999, gain_db=-3.5, gain_line=((0, 0.0), (500, -12.0)), fade_in=Edge(10, "gain"),
        fade_out=Edge(20, "power"), channel=1, tone=True, enabled=False, inverted=True, name="Take 3", note="\u00e4",
    )  # fmt: skip
    programme = two_speakers()
    air = programme.lanes[1]
    lane = replace(
        air.with_clips([*air.clips, rich]), steps=(make_step("gate"),), placement="L", stem="bed", soloed=True
    )
    return replace(
        programme.with_lane(lane), steps=(make_step("limiter"),), start_frame=90_000, picture_rate=Fraction(30_000, 1001),
        drop_frame=True, target_id="online-16",
    )  # fmt: skip


def test_a_programme_is_kept_in_the_project_file_and_older_files_are_brought_forward(tmp_path: Path) -> None:
    project = Project().with_programme(of_all_kinds())
    text = project_text(project, tmp_path)
    assert parse_project(text, "p", tmp_path) == project
    older = json.loads(text) | {"version": 5}
    del older["programmes"]
    assert parse_project(json.dumps(older), "p", tmp_path).programmes == ()


DAMAGE: dict[str, Callable[[dict], None]] = {
    "no rate": lambda p: p.update(rate=0),
    "a picture rate of nothing": lambda p: p.update(picture_rate="1/0"),
    "no lanes": lambda p: p.pop("lanes"),
    "an unknown kind": lambda p: p["lanes"][0].update(kind="music?"),
    "a clip without length": lambda p: p["lanes"][0]["clips"][0].update(frames=0),
    "a clip before the start": lambda p: p["lanes"][0]["clips"][0].update(start=-5),
    "a gain that is no number": lambda p: p["lanes"][0]["clips"][0].update(gain_db="loud"),
    "a gain beyond all measure": lambda p: p["lanes"][0]["clips"][0].update(gain_db=1e9),
    "a fade of an unknown law": lambda p: p["lanes"][0]["clips"][0].update(fade_in=[3, "magic"]),
    "clips over one another": lambda p: p["lanes"][0]["clips"][1].update(start=1, frames=5),
}


@pytest.mark.parametrize("what", DAMAGE)
def test_a_damaged_programme_is_one_sentence(what: str, tmp_path: Path) -> None:
    content = json.loads(project_text(Project().with_programme(two_speakers()), tmp_path))
    DAMAGE[what](content["programmes"][0])
    with pytest.raises(ProjectError, match=r"Restore it from a backup\."):
        parse_project(json.dumps(content), "p.pulizia", tmp_path)


def places_in(content: object, path: tuple = ()) -> Iterator[tuple]:
    """The way to every value of a file."""
    inside = content.items() if isinstance(content, dict) else enumerate(content) if isinstance(content, list) else ()
    for key, value in inside:
        yield (*path, key)
        yield from places_in(value, (*path, key))


WRONG = [float("nan"), -1, 10**30, True, None, "x" * 3000, "1/0", [], {}, [[float("nan"), 1.0]]]


def test_whatever_stands_in_a_project_is_taken_as_it_is_or_refused_in_one_sentence(tmp_path: Path) -> None:
    steps = (make_step("noise", {"profile_spans_s": [[0.1, 0.9]]}), make_step("hum", spans=(Span(9, 90),)))
    recording = Recording(path=tmp_path / "a.wav", name="a", fingerprint="f", rate=RATE, channels=1, frames=90_000)
    recording = replace(recording, score=steps, markers=(Marker(99, "here"),), trim=Span(10, 80_000))
    text = project_text(Project(recordings=(recording,)).with_programme(of_all_kinds()), tmp_path)
    parse_project(text, "p.pulizia", tmp_path)
    taken, sentences = 0, []
    kinds = {tuple(key for key in place if isinstance(key, str)): place for place in places_in(json.loads(text))}
    for place in kinds.values():
        for wrong in WRONG:
            content = json.loads(text)
            reduce(getitem, place[:-1], content)[place[-1]] = wrong
            try:
                project = parse_project(json.dumps(content), "p.pulizia", tmp_path)
            except ProjectError as error:
                sentences.append(str(error))
            else:
                taken += 1
                assert parse_project(project_text(project, tmp_path), "p", tmp_path) == project, (place, wrong)
    assert taken > 100
    assert len(sentences) > 500
    assert not [told for told in sentences if len(told) > 500 or "\n" in told]


def test_gaps_are_all_places_of_a_lane_where_no_clip_lies() -> None:
    lane = Lane(name="One").with_clips([clip("anna", 1, 0, 99), clip("bert", 90, 0, 20), clip("anna", 200, 0, 50)])
    assert edits.gaps(lane, 300) == [(0, 1), (110, 200), (250, 300)]
    assert edits.gaps(lane, 250) == [(0, 1), (110, 200)]
    assert edits.gaps(Lane(name="Empty"), 10) == [(0, 10)]


def test_a_programme_that_joins_others_of_its_name_is_told_apart() -> None:
    first, second, third = (Programme(name="Reel 1", rate=RATE) for _ in range(3))
    project = Project().with_programme(first).with_programme(second).with_programme(third)
    assert [p.name for p in project.programmes] == ["Reel 1", "Reel 1 (2)", "Reel 1 (3)"]
    assert [p.id for p in project.programmes] == [first.id, second.id, third.id]
    again = project.with_programme(replace(project.programmes[1], name="Reel 1"))  # somebody names it so
    assert [p.name for p in again.programmes] == ["Reel 1", "Reel 1", "Reel 1 (3)"]
