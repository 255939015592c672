# SPDX-License-Identifier: GPL-3.0-or-later
"""A changed cut: what moved keeps all that was done to it, what is new or gone is listed, nothing is dropped in silence."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from pulizia.audio.markers import Marker
from pulizia.audio.spans import Span, without
from pulizia.audio.timeline import Edge
from pulizia.cli.main import main
from pulizia.errors import ProjectError
from pulizia.interchange.assemble import laid_of
from pulizia.interchange.conform import conform
from pulizia.interchange.conform_match import lengths_of
from pulizia.interchange.conform_rows import ConformRow, count_words, row_words
from pulizia.media.open import open_media
from pulizia.project import programme_edits as edits
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.cross_fades import cross_fade
from pulizia.project.file import load_project, save_project
from pulizia.project.lined_up import exchanged
from pulizia.project.microphone_lanes import on_lanes
from pulizia.project.model import Project, Recording
from pulizia.project.received import Received
from pulizia.score.steps import make_step

RATE = 48_000


def clip(recording: str, start: float, inner: float, seconds: float, **more: object) -> Clip:
    return Clip(
        recording_id=recording,
        start=round(start * RATE),
        inner=round(inner * RATE),
        frames=round(seconds * RATE),
        name=recording,
        **more,
    )


def worked() -> Programme:
    """Three scenes with repairs of their own, a lane step, room tone under all, markers."""
    talk = Lane(name="A1", gain_db=-2.0, steps=(make_step("hum"),)).with_clips([
        clip("one", 0, 5, 10, gain_db=3.0, fade_in=Edge(480), note="loud"),
        clip("two", 10, 20, 8, gain_line=((0, 0.0), (RATE, -6.0))),
        clip("three", 18, 0, 6, enabled=False),
    ])  # fmt: skip
    tone = Lane(name="Tone", kind="fill").with_clips([clip("one", 0, 0, 24, tone=True)])
    return Programme(
        name="Reel", rate=RATE, lanes=(talk, tone), markers=(Marker(12 * RATE, "look"),), steps=(make_step("limiter"),)
    )


def cut(*clips: Clip) -> Programme:
    return Programme(name="New cut", rate=RATE, lanes=(Lane(name="A1").with_clips(clips),), start_frame=90_000)


def test_swapped_trimmed_split_and_inserted_scenes_keep_their_work() -> None:
    new = cut(
        clip("two", 0, 20, 8),  # moved to the front
        clip("one", 8, 6, 4),  # its head trimmed, and split
        clip("four", 12, 0, 3),  # inserted
        clip("one", 15, 10, 5),
    )
    old = worked()
    found = conform(old, new)
    row = found.programme.lanes[0].clips
    assert [(c.recording_id, c.start / RATE, c.inner / RATE, c.frames / RATE) for c in row] == [
        ("two", 0, 20, 8), ("one", 8, 6, 4), ("four", 12, 0, 3), ("one", 15, 10, 5),
    ]  # fmt: skip
    assert row[0].gain_line == ((0, 0.0), (RATE, -6.0))
    assert [c.gain_db for c in row] == [0.0, 3.0, 0.0, 3.0]
    assert [c.fade_in.frames for c in row] == [0, 0, 0, 0]  # the fade belongs to a beginning that is no longer used
    assert row[1].note == "loud"
    lane = found.programme.lanes[0]
    assert (lane.gain_db, [s.tool_id for s in lane.steps]) == (-2.0, ["hum"])
    assert found.programme.lanes[1] == old.lanes[1]  # the fill stays
    assert [s.tool_id for s in found.programme.steps] == ["limiter"]
    assert found.programme.start_frame == 90_000
    assert [(r.change, r.name, r.frames / RATE) for r in found.rows] == [
        ("gone", "one", 1), ("gone", "three", 6), ("new", "four", 3), ("trimmed", "one", 4), ("trimmed", "one", 5), ("moved", "two", 8),
    ]  # fmt: skip
    assert found.programme.markers == (Marker(2 * RATE, "look"),)  # with the sound that it marks
    assert row_words(found.rows[-1], RATE) == "Moved: two, now at 0:00.00, was at 0:10.00."


def test_what_was_written_to_a_marker_of_the_list_stays_when_the_list_comes_again() -> None:
    old = replace(worked(), markers=(Marker(RATE, "look"), Marker(2 * RATE, "look", note="too loud", kind="mix")))
    new = replace(cut(clip("one", 0, 5, 10)), markers=(Marker(3 * RATE, "look"),))
    made = conform(old, new).programme.markers
    assert [(m.name, m.note) for m in made] == [("look", "too loud"), ("look", "")]
    assert made[1].frame == 3 * RATE


def test_the_same_cut_changes_nothing() -> None:
    old = worked()
    found = conform(
        old, cut(*(clip(c.recording_id, c.start / RATE, c.inner / RATE, c.frames / RATE) for c in old.lanes[0].clips))
    )
    assert found.rows == ()
    assert found.programme.lanes == old.lanes


@given(st.permutations(range(6)), st.lists(st.floats(0.0, 0.9), min_size=6, max_size=6))
def test_every_second_of_the_new_cut_is_there_and_what_is_left_of_the_old_is_listed(
    order: list[int], heads: list[float]
) -> None:
    old = Programme(
        name="R",
        rate=RATE,
        lanes=(Lane(name="A1").with_clips([clip(f"r{n}", 2 * n, n, 2, gain_db=float(n)) for n in range(6)]),),
    )
    at, clips = 0.0, []
    for n in order:
        clips.append(clip(f"r{n}", at, n + heads[n], 2 - heads[n]))
        at = (clips[-1].stop) / RATE
    new = cut(*clips)
    found = conform(old, new)
    made = found.programme.lanes[0].clips
    assert sum(c.frames for c in made) == sum(c.frames for c in new.lanes[0].clips)
    assert all(c.gain_db == float(c.recording_id[1:]) for c in made)
    gone = sum(r.frames for r in found.rows if r.change == "gone")
    used = sum(c.frames for c in made)
    assert abs(gone + used - 12 * RATE) <= 6 * 0.02 * RATE  # shorter pieces than 20 ms are an edge's rounding


def test_a_new_list_conforms_a_project_on_the_command_line(wav: Callable[..., Path], tmp_path: Path, capsys) -> None:
    rng = np.random.default_rng(1)
    made = {}
    for name in ("one", "two"):
        path = wav(rng.normal(0, 0.05, (1, 30 * RATE)).astype(np.float32), f"{name}.wav")
        made[name] = Recording.of_media(open_media(path)).with_step(
            make_step("level", {"way": "gain", "gain_db": -6.0})
        )
    lane = Lane(name="A1").with_clips([
        Clip(recording_id=made["one"].id, start=0, inner=RATE, frames=5 * RATE, gain_db=2.0, name="one"),
        Clip(recording_id=made["two"].id, start=5 * RATE, inner=0, frames=4 * RATE, name="two"),
    ])  # fmt: skip
    project = tmp_path / "reel.pulizia"
    save_project(
        Project(recordings=tuple(made.values())).with_programme(Programme(name="Reel", rate=RATE, lanes=(lane,))),
        project,
    )
    (tmp_path / "cut2.edl").write_text(
        "TITLE: REEL\nFCM: NON-DROP FRAME\n"
        "001  two  A  C  00:00:00:00 00:00:04:00 01:00:00:00 01:00:04:00\n"
        "002  one  A  C  00:00:01:00 00:00:06:00 01:00:04:00 01:00:09:00\n"
        "003  lost A  C  00:00:00:00 00:00:01:00 01:00:09:00 01:00:10:00\n"
    )
    before = project.read_bytes()
    out = tmp_path / "reel2.pulizia"
    assert main(["conform", str(project), str(tmp_path / "cut2.edl"), "-o", str(out), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["counts"] == {"moved": 2, "trimmed": 0, "longer": 0, "new": 1, "left out": 0, "gone": 0}
    assert told["missing"] == ["lost"]
    assert project.read_bytes() == before
    found = load_project(out)
    assert [c.gain_db for c in found.programmes[0].lanes[0].clips[:2]] == [0.0, 2.0]
    assert [r.score[0].tool_id for r in found.recordings[:2]] == ["level", "level"]
    assert len(found.recordings) == 3
    assert main(["conform", str(project), str(tmp_path / "cut2.edl"), "-o", str(out)]) == 1
    assert "is there already" in capsys.readouterr().err


def test_channels_of_one_recording_on_several_lanes_keep_their_own_work() -> None:
    lanes = tuple(
        Lane(name=f"A{n + 1}").with_clips(
            [clip("poly", 0, 5, 10, channel=n, gain_db=float(n)), clip("poly", 10, 30, 4, channel=n)]
        )
        for n in range(3)
    )
    old = Programme(name="Reel", rate=RATE, lanes=lanes)
    # an inserted second, and the lanes come in another order and under other names
    new = Programme(
        name="Reel", rate=RATE,
        lanes=tuple(
            Lane(name=f"B{n}").with_clips([clip("poly", 1, 5, 10, channel=n), clip("poly", 11, 30, 4, channel=n)]) for n in (2, 0, 1)
        ),
    )  # fmt: skip
    found = conform(old, new)
    assert [[(c.channel, c.gain_db, c.start // RATE) for c in lane.clips] for lane in found.programme.lanes] == [
        [(n, float(n), 1), (n, 0.0, 11)] for n in (2, 0, 1)
    ]
    assert (found.count("moved"), found.count("gone"), found.count("new")) == (6, 0, 0)
    # the same material twice in the new cut is the same work twice, and a clip made by hand of all channels still counts
    whole = Programme(name="Reel", rate=RATE, lanes=(Lane(name="V").with_clips([clip("poly", 0, 5, 10, gain_db=4.0)]),))
    again = conform(whole, new)
    assert {c.gain_db for lane in again.programme.lanes for c in lane.clips if c.inner == 5 * RATE} == {4.0}


# -- a programme that somebody has worked on


def listed(*lanes: Lane, name: str = "Cut 1") -> Programme:
    """A programme as it is assembled from a list: it keeps what the list asked for."""
    programme = Programme(name=name, rate=RATE, lanes=lanes)
    return replace(programme, received=Received("cut.edl", "edl", b"", laid=laid_of(programme), title=name))


def two_takes() -> Programme:
    return listed(
        Lane(name="A1", id="a1").with_clips([
            clip("cam", 0, 2, 14, id="first"), clip("cam", 14, 20, 17, id="second"), clip("cam", 31, 50, 12, id="third"),
        ]),
    )  # fmt: skip


def swapped() -> Programme:
    return listed(
        Lane(name="A1", id="b1").with_clips([
            clip("cam", 0, 50, 12), clip("cam", 12, 4, 12), clip("cam", 24, 20, 6), clip("new", 30, 0, 2), clip("cam", 32, 26, 11),
        ]),
        name="Cut 2",
    )  # fmt: skip


FIELD = Recording(path=Path("/field.wav"), name="field", fingerprint="", rate=RATE, channels=2, frames=200 * RATE)


def told(lane: Lane) -> list[tuple[str, int | None, float, float]]:
    return [("tone" if c.tone else c.recording_id, c.channel, c.start / RATE, c.frames / RATE) for c in lane.clips]


def with_field(programme: Programme) -> Programme:
    """Its clips hear the recorder that ran 7.32 s longer, 30 ppm slower, each microphone on a lane of its own."""
    for c in programme.lanes[0].clips:
        made = exchanged(c, FIELD, RATE, -7.32, -30.0, inverted=False)
        assert made is not None
        programme = programme.with_changed(c.id, lambda _c, made=made: made)
    ids = [c.id for c in programme.lanes[0].clips]
    return on_lanes(programme, ids, lambda _recording: ["Ann", "Bert"])[0]


def test_field_recordings_on_lanes_cross_fades_and_a_breath_taken_out_move_with_the_cut() -> None:
    old = with_field(two_takes())
    for c in old.lanes[0].clips[1:]:
        old = cross_fade(old, c.id, 1920)
    old = edits.set_gain(old, ["second"], -2.0)
    old = edits.split(edits.split(old, 3 * RATE, ["a1"]), round(3.4 * RATE), ["a1"])
    breath = next(c for c in old.lanes[0].clips if c.start == 3 * RATE)
    old = edits.fill_gaps(edits.remove(old, [breath.id]), "a1", cross=1920)
    assert told(old.lanes[0])[:2] == [(FIELD.id, 0, 0, 3), ("tone", None, 2.96, 0.48)]
    found = conform(old, swapped())
    ann, bert = found.programme.lanes
    assert told(ann) == [
        (FIELD.id, 0, 0, 12), (FIELD.id, 0, 12, 1), ("tone", None, 12.96, 0.48), (FIELD.id, 0, 13.4, 10.62),
        (FIELD.id, 0, 23.98, 6.02), ("new", None, 30, 2), (FIELD.id, 0, 32, 11.02),
    ]  # fmt: skip
    assert told(bert) == [(FIELD.id, 1, 0, 12), (FIELD.id, 1, 12, 12), (FIELD.id, 1, 24, 6), (FIELD.id, 1, 32, 11)]
    assert [c.gain_db for c in ann.clips if not c.tone] == [0, 0, 0, -2, 0, -2]
    assert {c.drift_ppm for c in (*ann.clips, *bert.clips) if c.recording_id == FIELD.id and not c.tone} == {-30.0}
    # every clip hears of the recorder what the camera heard at that moment
    for c in (ann.clips[0], bert.clips[1], ann.clips[6]):
        camera = {0: 50, 12: 4, 32: 26}[c.start // RATE]
        assert abs(c.heard_at(c.start) - (camera + 7.32) * RATE * (1 - 30e-6)) < 1.0
    assert [(r.change, r.lane, r.at / RATE, r.frames / RATE) for r in found.rows if r.change in ("gone", "new", "left out")] == [
        ("gone", "Ann", 0, 2), ("gone", "Bert", 0, 2), ("new", "Ann", 30, 2), ("left out", "Ann", 13, 0.4),
    ]  # fmt: skip
    assert row_words(found.rows[3], RATE) == "Left out as before, at 0:13.00: cam, 0:00.40."
    assert count_words(found).endswith(" 1 new, 1 left out as before, 2 gone.")
    assert found.programme.name == "Cut 2"
    assert conform(replace(old, name="Mine"), swapped()).programme.name == "Mine"
    # and once more: the next cut finds what this one laid
    again = conform(found.programme, two_takes())
    assert again.count("new") == 1  # the two seconds that were gone
    assert told(again.programme.lanes[1])[1:] == [(FIELD.id, 1, 14, 6), (FIELD.id, 1, 20, 11), (FIELD.id, 1, 31, 12)]


def test_other_lanes_names_sync_and_what_no_list_knows_stay_with_their_sound() -> None:
    old = two_takes()
    voices = Lane(name="Voice 2", id="v2").with_clips([replace(old.lanes[0].clip("third"), gain_db=1.0)])
    atmosphere = Lane(name="Yard", kind="atmosphere", id="yard").with_clips([
        clip("birds", 33, 0, 9, gain_db=-9.0), clip("cart", 44, 0, 2), clip("bell", 1, 0, 0.5), clip("birds", 29, 20, 4),
    ])  # fmt: skip
    first, second = old.lanes[0].clip("first"), old.lanes[0].clip("second")
    named = replace(old.lanes[0], name="Ann").with_clips([first, replace(second.moved(2400), frames=17 * RATE - 2400)])
    old = replace(old, lanes=(named, voices, atmosphere))
    found = conform(old, swapped())
    ann, voice_2, yard = found.programme.lanes
    assert [la.name for la in found.programme.lanes] == ["Ann", "Voice 2", "Yard"]
    assert told(voice_2) == [("cam", None, 0, 12)]
    # 50 ms later than the list asks, for the picture
    assert told(ann) == [
        ("cam", None, 12, 12),
        ("cam", None, 24.05, 6),
        ("new", None, 30, 2),
        ("cam", None, 32.05, 10.95),
    ]
    # birds over the third take go with it, the cart behind everything with what came before it, birds over a cut part in two
    assert told(yard) == [("birds", None, 0, 2), ("birds", None, 2, 9), ("cart", None, 13, 2), ("birds", None, 41, 2)]
    assert [r for r in found.rows if r.change == "gone" and r.lane == "Yard"] == [
        ConformRow(change="gone", name="bell", lane="Yard", at=RATE, frames=RATE // 2)
    ]


def test_an_edit_that_moved_all_behind_it_is_no_sync() -> None:
    old = two_takes()
    a, b, c = old.lanes[0].clips
    lane = old.lanes[0].with_clips([replace(a, frames=a.frames - 4800), b.moved(-4800), c.moved(-4800)])
    found = conform(replace(old, lanes=(lane,)), two_takes())
    assert [x.start / RATE for x in found.programme.lanes[0].clips] == [0, 14, 31]


@given(
    st.permutations(range(4)),
    st.lists(st.sampled_from(["keep", "field", "out", "nudge", "away"]), min_size=4, max_size=4),
    st.integers(0, 90),
)
def test_nothing_that_was_laid_is_dropped_in_silence(order: list[int], deeds: list[str], trim: int) -> None:
    old = listed(Lane(name="A1", id="a1").with_clips([clip("cam", 3 * n, 10 * n, 3, id=f"c{n}") for n in range(4)]))
    for n, deed in enumerate(deeds):
        if deed == "field":
            old = old.with_changed(f"c{n}", lambda c: exchanged(c, FIELD, RATE, -5.0, 0.0, inverted=False) or c)
        elif deed == "out":
            old = old.with_lane(old.lanes[0].with_clips(c for c in old.lanes[0].clips if c.id != f"c{n}"))
        elif deed == "nudge":
            old = old.with_changed(f"c{n}", lambda c: replace(c.moved(960), frames=c.frames - 960))
        elif deed == "away":
            away = replace(old.lanes[0].clip(f"c{n}"), gain_db=5.0)
            old = old.with_lane(old.lanes[0].with_clips(c for c in old.lanes[0].clips if c.id != f"c{n}"))
            lane = next((la for la in old.lanes if la.id == "v2"), Lane(name="V2", id="v2"))
            old = old.with_lane(lane.with_clips([*lane.clips, away]))
    birds = [clip("birds", 1 + 4 * n, 50 * n, 2.5) for n in range(3)]
    old = old.with_lane(Lane(name="Yard", id="yard").with_clips(birds))
    head = trim / 100
    new = listed(
        Lane(name="A1", id="b1").with_clips(
            [clip("cam", 3 * at, 10 * n + head, 3 - head) for at, n in enumerate(order[:3])]
        )
    )
    found = conform(old, new)
    made = [c for lane in found.programme.lanes for c in lane.clips]
    for lane in old.lanes:
        for c in lane.clips:
            played = [
                Span(max(0, m.inner), m.inner + m.frames) for m in made
                if (m.recording_id, m.channel, m.gain_db) == (c.recording_id, c.channel, c.gain_db)
            ]  # fmt: skip
            gone = [
                Span(r.at - c.start + c.inner, r.at - c.start + c.inner + r.frames) for r in found.rows
                if r.change == "gone" and r.lane == lane.name and c.start <= r.at < c.stop
            ]  # fmt: skip
            rest = without([Span(c.inner, c.inner + c.frames)], [*played, *gone])
            assert sum(s.frames for s in rest) <= 0.021 * RATE, (c, found.rows)
    assert sum(r.frames for r in found.rows if r.change == "new") == 0
    out = {n for n, deed in enumerate(deeds) if deed == "out"}
    assert {round(r.frames / RATE, 3) for r in found.rows if r.change == "left out"} <= {round(3 - head, 3)}
    assert found.count("left out") == len(out & set(order[:3]))


def test_where_the_new_cut_plays_more_of_a_clip_its_work_and_its_other_microphones_reach_as_far() -> None:
    old = with_field(two_takes())
    for lane in old.lanes:
        old = old.with_changed(
            lane.clips[1].id, lambda c: replace(c, gain_line=((0, 0.0), (RATE, -6.0)), fade_out=Edge(480))
        )
    new = listed(
        Lane(name="A1", id="b1").with_clips([clip("cam", 0, 1, 15), clip("cam", 15, 20, 19), clip("cam", 34, 50, 200)])
    )
    found = conform(old, new, lengths_of([FIELD], RATE))
    ann, bert = found.programme.lanes
    assert told(ann)[:2] == [(FIELD.id, 0, 0, 15), (FIELD.id, 0, 15, 19)]
    assert told(bert)[:2] == [(FIELD.id, 1, 0, 15), (FIELD.id, 1, 15, 19)]
    for lane in (ann, bert):
        first, second, third = lane.clips[:3]
        # what the camera heard at that moment, 7.32 s later on the recorder, 30 ppm slower
        assert abs(first.heard_at(0) - (1 + 7.32) * RATE * (1 - 30e-6)) < 1.0
        assert abs(second.heard_at(33.9 * RATE) - (38.9 + 7.32) * RATE * (1 - 30e-6)) < 1.5
        assert second.gain_line == ((0, 0.0), (RATE, -6.0))
        assert (second.fade_out.frames, second.stop) == (480, 34 * RATE)
        # the recorder stopped before the new cut did: the rest is the camera's again, and told
        assert FIELD.frames - 2 <= third.heard_at(third.stop) <= FIELD.frames
    assert [c.recording_id for c in ann.clips[3:]] == ["cam"]
    assert ann.clips[3].stop == 234 * RATE
    assert ann.clips[3].start == ann.clips[2].stop
    assert [r.change for r in found.rows] == ["new"] + 6 * ["longer"]
    assert row_words(found.rows[1], RATE) == "Longer: field, 0:15.00, now at 0:00.00, was at 0:00.00."
    assert count_words(found) == "6 longer, 1 new."
    # a line between two points before the clip grew in front lies where it lay
    grown = conform(
        old, listed(Lane(name="A1", id="b1").with_clips([clip("cam", 0, 18, 19)])), lengths_of([FIELD], RATE)
    )
    assert grown.programme.lanes[0].clips[0].gain_line == ((2 * RATE, 0.0), (3 * RATE, -6.0))


def test_a_cut_that_is_slipped_by_a_little_leaves_no_hole_where_another_clip_plays_the_same_sound() -> None:
    """What is lacking at an edge is less than a picture frame, and played elsewhere; a clip so short is one all the same."""
    long = Recording(
        path=Path("/cam.wav"), name="cam", fingerprint="", rate=RATE, channels=1, frames=100 * RATE, id="cam"
    )
    old = listed(
        Lane(name="A1", id="a1").with_clips([clip("cam", 0, 10, 4), clip("cam", 4, 13.5, 3), clip("cam", 7, 40, 2)])
    )
    new = listed(
        Lane(name="A1", id="b1").with_clips(
            [clip("cam", 0, 10.002, 4), clip("cam", 4, 13.5, 3), clip("cam", 7, 40, 0.004)]
        )
    )
    lengths = lengths_of([long], RATE)
    assert told(conform(old, new, lengths).programme.lanes[0]) == told(new.lanes[0])
    trimmed = old.with_changed(old.lanes[0].clips[0].id, lambda c: c.part_of(0, round(3.99 * RATE)))
    kept = conform(trimmed, new, lengths).programme.lanes[0].clips[0]
    assert kept.frames == round((3.99 - 0.002) * RATE)  # the editor ended it before


def test_an_end_that_the_editor_took_away_does_not_come_back_longer() -> None:
    old = with_field(two_takes())
    shorter = old.lanes[0].clips[0]
    old = old.with_changed(shorter.id, lambda c: c.part_of(0, 10 * RATE))
    new = listed(Lane(name="A1", id="b1").with_clips([clip("cam", 0, 2, 14.5)]))
    found = conform(old, new, lengths_of([FIELD], RATE))
    assert told(found.programme.lanes[0])[0] == (FIELD.id, 0, 0, 10)
    assert ("left out", 4.0) in [(r.change, r.frames / RATE) for r in found.rows]
    assert ("new", 0.5) in [(r.change, r.frames / RATE) for r in found.rows]


def test_what_a_list_asked_for_is_kept_with_the_project(tmp_path: Path) -> None:
    old = with_field(two_takes())
    assert old.received is not None
    old = replace(old, received=replace(old.received, starts=(("cam", Fraction(36129, 25)),), prefers_field=True))
    project = Project(recordings=(FIELD,)).with_programme(old)
    save_project(project, tmp_path / "p.pulizia")
    assert load_project(tmp_path / "p.pulizia").programmes[0] == old
    content = json.loads((tmp_path / "p.pulizia").read_text())
    content["programmes"][0]["received"]["laid"] = ["damaged"]
    (tmp_path / "p.pulizia").write_text(json.dumps(content))
    with pytest.raises(ProjectError, match=r"p\.pulizia"):
        load_project(tmp_path / "p.pulizia")


def test_a_cut_is_conformed_while_its_media_are_not_at_hand(wav: Callable[..., Path], tmp_path: Path, capsys) -> None:
    rng = np.random.default_rng(2)
    media = tmp_path / "media"
    media.mkdir()
    path = wav(rng.normal(0, 0.05, (1, 60 * RATE)).astype(np.float32), "take.wav")
    path.rename(media / "take.wav")
    head = "TITLE: REEL\nFCM: NON-DROP FRAME\n"
    (tmp_path / "one.edl").write_text(
        head + "001  take  A  C  00:00:10:00 00:00:20:00 01:00:00:00 01:00:10:00\n"
        "002  take  A  C  00:00:30:00 00:00:34:00 01:00:10:00 01:00:14:00\n"
    )
    (tmp_path / "two.edl").write_text(
        head + "001  take  A  C  00:00:31:00 00:00:34:00 01:00:00:00 01:00:03:00\n"
        "002  take  A  C  00:00:10:00 00:00:20:00 01:00:03:00 01:00:13:00\n"
    )
    project, out = tmp_path / "reel.pulizia", tmp_path / "reel2.pulizia"
    assert main(["assemble", str(tmp_path / "one.edl"), "--media", str(media), "-o", str(project)]) == 0
    (media / "take.wav").unlink()
    capsys.readouterr()
    assert main(["conform", str(project), str(tmp_path / "two.edl"), "-o", str(out)]) == 0
    assert capsys.readouterr().out.startswith("1 moved, 1 trimmed, 1 gone.\n")
    before, after = load_project(project), load_project(out)
    assert [(c.recording_id, c.start / RATE, c.inner / RATE, c.frames / RATE) for c in after.programmes[0].lanes[0].clips] == [
        (before.recordings[0].id, 0, 31, 3), (before.recordings[0].id, 3, 10, 10),
    ]  # fmt: skip
    assert len(after.recordings) == 1


def test_sound_that_another_lane_plays_is_opened_and_not_taken_for_what_was_taken_out() -> None:
    old = listed(
        Lane(name="A1", id="a1").with_clips([clip("cam", 0, 10, 4), clip("cam", 4, 30, 2)]),
        Lane(name="A2", id="a2").with_clips([clip("cam", 1, 13, 4)]),
    )
    new = listed(
        Lane(name="A1", id="b1").with_clips([clip("cam", 0, 10, 4.5), clip("cam", 4.5, 30, 2)]),
        Lane(name="A2", id="b2").with_clips([clip("cam", 1, 13, 4)]),
    )
    found = conform(old, new, {"cam": 100.0 * RATE})
    assert [told(lane) for lane in found.programme.lanes] == [told(lane) for lane in new.lanes]
    assert found.count("left out") == 0


def test_two_of_the_editors_lane_that_are_asked_for_at_once_are_both_heard() -> None:
    old = listed(
        Lane(name="A1", id="a1").with_clips([clip("one", 0, 0, 4, id="one"), clip("two", 4, 0, 4, id="two")]),
        Lane(name="A2", id="a2").with_clips([clip("six", 0, 0, 4)]),
    )
    away = [replace(c, gain_db=3.0) for c in old.lanes[0].clips]
    old = replace(
        old, lanes=(replace(old.lanes[0], clips=()), old.lanes[1], Lane(name="Mine", id="own").with_clips(away))
    )
    new = listed(
        Lane(name="A1", id="b1").with_clips([clip("one", 0, 0, 4)]),
        Lane(name="A2", id="b2").with_clips([clip("two", 1, 0, 2)]),
    )
    found = conform(old, new)
    sounds = {(c.recording_id, c.start, c.gain_db) for lane in found.programme.lanes for c in lane.clips}
    assert sounds == {("one", 0, 3.0), ("two", RATE, 3.0)}


def test_a_microphone_that_finds_another_on_its_lane_goes_beside_it() -> None:
    """Two lanes of the list exchange a scene: of their further microphones two are wanted on one lane at once."""

    def mic(heard: Clip, gain_db: float) -> Clip:
        name = f"mic of {heard.recording_id}"
        return replace(heard, recording_id=name, id=f"mic {heard.id}", listed=(heard.recording_id, 0), gain_db=gain_db)

    old = listed(
        Lane(name="A1", id="a1").with_clips([clip("one", 0, 0, 4, id="one"), clip("two", 4, 0, 4, id="two")]),
        Lane(name="A2", id="a2").with_clips([clip("six", 0, 0, 4, id="six")]),
    )
    (first, second), (six,) = (lane.clips for lane in old.lanes)
    mics = Lane(name="Boom", id="boom", gain_db=-2.0).with_clips([mic(first, 1.0), mic(second, 2.0)])
    old = replace(old, lanes=(*old.lanes, mics, Lane(name="Lapel", id="lapel").with_clips([mic(six, 3.0)])))
    new = listed(
        Lane(name="A1", id="b1").with_clips([clip("one", 0, 0, 4)]),
        Lane(name="A2", id="b2").with_clips([clip("six", 0, 0, 1), clip("two", 1, 0, 2)]),
    )
    found = conform(old, new)
    assert [(lane.name, lane.gain_db, [(c.recording_id, c.start, c.gain_db) for c in lane.clips]) for lane in found.programme.lanes] == [
        ("A1", 0.0, [("one", 0, 0.0)]),
        ("A2", 0.0, [("six", 0, 0.0), ("two", RATE, 0.0)]),
        ("Boom", -2.0, [("mic of one", 0, 1.0)]),
        ("Boom, part 2", -2.0, [("mic of two", RATE, 2.0)]),
        ("Lapel", 0.0, [("mic of six", 0, 3.0)]),
    ]  # fmt: skip
    again = conform(found.programme, new)
    assert [told(lane) for lane in again.programme.lanes] == [told(lane) for lane in found.programme.lanes]
