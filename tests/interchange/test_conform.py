# SPDX-License-Identifier: GPL-3.0-or-later
"""A changed cut: what moved keeps all that was done to it, what is new or gone is listed, nothing is dropped in silence."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from pulizia.audio.markers import Marker
from pulizia.audio.timeline import Edge
from pulizia.cli.main import main
from pulizia.interchange.conform import conform, row_words
from pulizia.media.open import open_media
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.file import load_project, save_project
from pulizia.project.model import Project, Recording
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
    assert told["counts"] == {"same": 0, "moved": 2, "trimmed": 0, "new": 1, "gone": 0}
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
