# SPDX-License-Identifier: GPL-3.0-or-later
"""Project files: older ones are brought forward, newer ones refused, nothing is lost on the way to the disk and back."""

from __future__ import annotations

import json
import shutil
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from tests.contracts.test_tools import random_settings

from pulizia.audio.markers import Marker
from pulizia.audio.spans import Span
from pulizia.errors import ProjectError
from pulizia.media.open import open_media
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.file import VERSION, load_project, parse_project, project_text, save_project
from pulizia.project.model import Project, Recording
from pulizia.score.steps import make_step
from pulizia.session.document import Document
from pulizia.session.subject import metadata_of
from pulizia.tools.registry import ALL

RATE = 48_000


@pytest.fixture
def project(voice_file: Path) -> Project:
    recording = Recording.of_media(open_media(voice_file))
    steps = (
        make_step("noise", {"profile_spans_s": [[0.1, 0.9]]}),
        make_step("hum", {"base_hz": 50.0}, spans=(Span(1000, 90_000),), band_hz=(40.0, 900.0)),
        replace(
            make_step("equaliser", {"bands": [["bell", 900.0, -6.0, 2.0]]}, enabled=False),
            holes=(Span(5, 10),),
            channels=(0,),
        ),
    )
    return Project(
        recordings=(replace(recording, score=steps, markers=(Marker(99, "here"),), left=("breaths",)),),
        target_id="online-16",
    )


def older(content: dict, version: int) -> dict:
    """The content as an earlier version wrote it."""
    rows = [
        {k: v for k, v in row.items() if not (k == "left" and version < 3) and not (k == "markers" and version < 2)}
        for row in content["recordings"]
    ]
    return content | {"version": version, "recordings": rows}


def test_a_project_comes_back_as_it_was(project: Project, tmp_path: Path) -> None:
    save_project(project, tmp_path / "job.pulizia")
    assert load_project(tmp_path / "job.pulizia") == project
    assert json.loads((tmp_path / "job.pulizia").read_text())["version"] == VERSION


def test_a_note_behind_the_last_clip_stays(tmp_path: Path) -> None:
    lane = Lane(name="Talk").with_clips([Clip(recording_id="anna", start=0, inner=0, frames=48_000)])
    notes = (Marker(10, "inside"), Marker(90_000, "to be recorded", frames=4000, kind="again"))
    programme = Programme(name="Chapter", rate=48_000, lanes=(lane,), markers=notes)
    save_project(Project(programmes=(programme,)), tmp_path / "p.pulizia")
    assert load_project(tmp_path / "p.pulizia").programmes == (programme,)
    assert [m.name for m in metadata_of(programme).markers] == ["inside"]  # its file ends before the other


@pytest.mark.parametrize("version", [1, 2])
def test_older_projects_are_brought_forward(project: Project, tmp_path: Path, version: int) -> None:
    content = older(json.loads(project_text(project, tmp_path)), version)
    made = parse_project(json.dumps(content), "old.pulizia", tmp_path)
    recording = project.recordings[0]
    expected = replace(recording, left=(), markers=recording.markers if version > 1 else ())
    assert made.recordings[0] == expected
    assert made.target_id == project.target_id


@pytest.mark.parametrize(("change", "words"), [
    (lambda c: c | {"version": VERSION + 1}, "made by a newer Pulizia"),
    (lambda c: c | {"version": "three"}, "has no version"),
    (lambda c: c | {"format": "other"}, "not a Pulizia project"),
    (lambda c: {k: v for k, v in c.items() if k != "recordings"}, "is damaged"),
    (lambda c: c | {"recordings": [c["recordings"][0] | {"rate": 0}]}, "no length"),
    (lambda c: c | {"recordings": [c["recordings"][0] | {"score": [{"tool": "No such"}]}]}, "unknown tool No such"),
    (lambda c: c | {"recordings": [c["recordings"][0] | {"score": [c["recordings"][0]["score"][0] | {"tool_version": 99}]}]}, "newer Pulizia"),
    (lambda c: c | {"recordings": [c["recordings"][0] | {"score": [c["recordings"][0]["score"][0] | {"settings": {"reduction_db": 1e9}}]}]}, "must be between"),
])  # fmt: skip
def test_what_cannot_be_opened_says_why_in_one_sentence(project: Project, tmp_path: Path, change, words: str) -> None:
    content = change(json.loads(project_text(project, tmp_path)))
    with pytest.raises(ProjectError, match=words) as told:
        parse_project(json.dumps(content), "p.pulizia", tmp_path)
    assert "\n" not in str(told.value)


def test_a_folder_that_moves_takes_its_recordings_along(voice_file: Path, tmp_path: Path) -> None:
    home = tmp_path / "job"
    (home / "sound").mkdir(parents=True)
    shutil.copy(voice_file, home / "sound" / "take.wav")
    document = Document()
    document.add_media(open_media(home / "sound" / "take.wav"))
    document.save(home / "job.pulizia")
    shutil.move(home, tmp_path / "elsewhere")
    voice_file.unlink()
    found = load_project(tmp_path / "elsewhere" / "job.pulizia").recordings[0]
    assert found.path == tmp_path / "elsewhere" / "sound" / "take.wav"
    assert open_media(found.path).fingerprint == found.fingerprint


def test_a_project_names_its_media_and_nothing_else_is_opened(project: Project, tmp_path: Path) -> None:
    """A file elsewhere is only looked for under the name that the project gives; its words are data, not code."""
    content = json.loads(project_text(project, tmp_path))
    content["recordings"][0] |= {
        "name": "__import__('os').system('false')",
        "path": "../../../../etc/passwd",
        "absolute": "relative/path",
    }
    made = parse_project(json.dumps(content), "p.pulizia", tmp_path)
    assert made.recordings[0].name.startswith("__import__")
    assert made.recordings[0].path.name == "passwd"
    with pytest.raises(Exception, match="passwd"):
        open_media(made.recordings[0].path)


@settings(max_examples=40, deadline=None, suppress_health_check=list(HealthCheck))
@given(data=st.data())
def test_any_score_survives_the_file(data: st.DataObject, tmp_path: Path) -> None:
    steps = []
    for _ in range(data.draw(st.integers(0, 5))):
        tool = data.draw(st.sampled_from(ALL))
        spans = data.draw(
            st.none() | st.lists(st.tuples(st.integers(0, 90_000), st.integers(1, 9000)), min_size=1, max_size=3)
        )
        step = make_step(
            tool.id,
            data.draw(random_settings(tool)),
            spans=None if spans is None else tuple(Span(a, a + n) for a, n in spans),
        )
        steps.append(replace(step, enabled=data.draw(st.booleans())))
    recording = Recording(
        path=tmp_path / "x.wav",
        name=data.draw(st.text(max_size=20)),
        fingerprint="f",
        rate=RATE,
        channels=1,
        frames=100_000,
        score=tuple(steps),
    )
    project = Project(recordings=(recording,))
    again = parse_project(project_text(project, tmp_path), "p", tmp_path)
    assert again == project
    assert [s.content_key() for s in again.recordings[0].score] == [s.content_key() for s in steps]


def test_undo_and_redo_give_back_the_exact_project_and_its_sound(voice_file: Path) -> None:
    document = Document()
    name = document.add_media(open_media(voice_file))
    states, sounds = [document.project], [document.chain(name).after.read(0, 96_000)]
    deeds = (
        lambda: document.add_step(name, "level", {"way": "gain", "gain_db": -6.0}),
        lambda: document.add_step(name, "equaliser", {"bands": [["bell", 900.0, -6.0, 2.0]]}),
        lambda: document.set_enabled(name, document.project.recordings[0].score[0].id, enabled=False),
        lambda: document.move_step(name, document.project.recordings[0].score[0].id, 1),
        lambda: document.give_back(name, Span(40_000, 60_000)),
        lambda: document.remove_step(name, document.project.recordings[0].score[1].id),
    )
    for deed in deeds:
        deed()
        states.append(document.project)
        sounds.append(document.chain(name).after.read(0, 96_000))
    for state, sound in zip(states[-2::-1], sounds[-2::-1], strict=True):
        document.undo()
        assert document.project == state
        assert np.array_equal(document.chain(name).after.read(0, 96_000), sound)
    for state in states[1:]:
        document.redo()
        assert document.project == state
