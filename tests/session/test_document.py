# SPDX-License-Identifier: GPL-3.0-or-later
"""Edits, undo, project files, the journal and a killed process."""

from __future__ import annotations

import contextlib
import gc
import json
import os
import signal
import subprocess
import sys
import time
import weakref
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from pulizia.audio.spans import Span, edge_weight, normalised, without
from pulizia.errors import ProjectError, PuliziaError, RecipeError
from pulizia.media.folders import state_folder
from pulizia.media.open import open_media
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.file import load_project, parse_project, project_text
from pulizia.project.journal import left_behind
from pulizia.score.cache import ChunkCache
from pulizia.score.recipes import parse_recipe, read_recipe
from pulizia.session.document import Document


@pytest.fixture
def document(voice_file: Path) -> Document:
    made = Document()
    made.add_media(open_media(voice_file))
    return made


def only(document: Document):
    return document.project.recordings[0]


def heard(document: Document) -> np.ndarray:
    source = document.chain(only(document).id).after
    return source.read(0, source.frames)


def test_every_edit_is_undone_exactly_and_made_again(document: Document) -> None:
    rid = only(document).id
    states = [document.project]
    noise = document.add_step(rid, "noise", {"profile_spans_s": [[0.1, 0.9]]})
    states.append(document.project)
    document.add_step(rid, "level", {"way": "gain", "gain_db": -3.0})
    states.append(document.project)
    sounds = [heard(document)]
    document.change_settings(rid, noise.id, reduction_db=20.0)
    states.append(document.project)
    document.set_spans(rid, noise.id, (Span(0, 100_000),))
    states.append(document.project)
    assert document.give_back(rid, Span(50_000, 60_000))
    states.append(document.project)
    document.set_enabled(rid, noise.id, enabled=False)
    states.append(document.project)
    document.move_step(rid, noise.id, 1)
    states.append(document.project)
    document.remove_step(rid, noise.id)
    for expected in reversed(states):
        document.undo()
        assert document.project == expected
    assert document.history.undo_label == f"Add {only(document).name}"
    for expected in states[1:]:
        document.redo()
        assert document.project == expected
    for _ in range(5):
        document.undo()
    assert np.array_equal(heard(document), sounds[0])


def test_dragging_a_slider_is_one_entry_of_history(document: Document) -> None:
    rid = only(document).id
    step = document.add_step(rid, "noise")
    for value in (13.0, 14.0, 15.5):
        document.change_settings(rid, step.id, reduction_db=value)
    document.history.settle()
    document.change_settings(rid, step.id, reduction_db=20.0)
    document.undo()
    assert only(document).score[0].settings.reduction_db == 15.5
    document.undo()
    assert only(document).score[0].settings.reduction_db == 10.0


def test_giving_back_brings_the_untouched_samples_and_keeps_the_level(document: Document) -> None:
    rid = only(document).id
    document.add_step(rid, "noise", {"profile_spans_s": [[0.1, 0.9]], "reduction_db": 30.0})
    document.give_back(rid, Span(90_000, 120_000))
    original = document.media[rid].source.read(90_000, 120_000)
    assert np.array_equal(heard(document)[:, 90_000:120_000], original)
    document.add_step(rid, "level", {"way": "gain", "gain_db": 6.0})
    assert document.give_back(rid, Span(130_000, 140_000))
    expected = document.media[rid].source.read(130_000, 140_000) * np.float32(10 ** (6 / 20))
    assert np.allclose(heard(document)[:, 130_000:140_000], expected, rtol=1e-6)
    assert not document.give_back(rid, Span(130_000, 140_000))


def test_new_steps_go_where_their_tool_recommends(document: Document) -> None:
    rid = only(document).id
    document.add_step(rid, "level")
    document.add_step(rid, "noise")
    assert [s.tool_id for s in only(document).score] == ["noise", "level"]


def test_a_project_comes_back_whole_with_relative_paths(document: Document, tmp_path: Path) -> None:
    rid = only(document).id
    step = document.add_step(
        rid, "noise", {"profile_spans_s": [[0.1, 0.9]]}, spans=(Span(10, 99_999),), band_hz=(100.0, 8000.0)
    )
    document.set_spans(rid, step.id, (Span(10, 50_000), Span(60_000, 70_000)))
    document.give_back(rid, Span(20_000, 30_000))
    document.set_target("online-16")
    before = heard(document)
    document.save(tmp_path / "job")
    path = tmp_path / "job.pulizia"
    assert not document.is_dirty
    assert json.loads(path.read_text())["recordings"][0]["path"] == "take.wav"
    moved = tmp_path / "elsewhere"
    moved.mkdir()
    for name in ("job.pulizia", "take.wav"):
        (tmp_path / name).rename(moved / name)
    other = Document()
    other.load(moved / "job.pulizia")
    assert replace(only(other), path=only(document).path) == only(document)
    other.attach(rid, open_media(only(other).path))
    assert np.array_equal(heard(other), before)


def test_a_changed_or_missing_source_is_reported_and_relinked(
    document: Document, tmp_path: Path, voice_file: Path
) -> None:
    rid = only(document).id
    document.add_step(rid, "level", {"way": "gain", "gain_db": -6.0})
    document.save(tmp_path / "job.pulizia")
    kept = tmp_path / "moved.wav"
    kept.write_bytes(voice_file.read_bytes())
    content = bytearray(voice_file.read_bytes())
    content[5000:5100] = bytes(100)
    voice_file.write_bytes(content)
    other = Document()
    other.load(tmp_path / "job.pulizia")
    other.attach(rid, open_media(voice_file))
    assert "has changed" in other.offline[rid]
    assert other.chain(rid) is None
    other.relink(rid, open_media(kept))
    assert other.chain(rid) is not None
    assert rid not in other.offline
    assert len(only(other).score) == 1


@pytest.mark.parametrize(("text", "sentence"), [
    ("", "damaged"), ("{", "damaged"), ("[]", "not a Pulizia project"), ('{"format": "pulizia-project"}', "no version"),
    ('{"format": "pulizia-project", "version": 99}', "newer Pulizia"), ('{"format": "pulizia-project", "version": 1}', "damaged"),
])  # fmt: skip
def test_projects_that_cannot_be_read_say_so(tmp_path: Path, text: str, sentence: str) -> None:
    path = tmp_path / "p.pulizia"
    path.write_text(text)
    with pytest.raises(ProjectError, match=sentence):
        load_project(path)
    path.write_bytes(b"\xff\xfe\x00")
    with pytest.raises(ProjectError):
        load_project(path)


@settings(max_examples=120, deadline=None, suppress_health_check=list(HealthCheck))
@given(data=st.data())
def test_mutilated_projects_and_recipes_never_raise_anything_else(document: Document, data: st.DataObject) -> None:
    if not only(document).score:
        document.add_step(only(document).id, "noise", {"profile_spans_s": [[0.1, 0.9]]}, spans=(Span(5, 500),))
    content = json.loads(project_text(document.project, Path("/")))
    places: list[tuple[object, object]] = []

    def walk(value: object) -> None:
        keys = value.keys() if isinstance(value, dict) else range(len(value)) if isinstance(value, list) else ()
        for key in list(keys):
            places.append((value, key))
            walk(value[key])

    walk(content)
    where, key = data.draw(st.sampled_from(places))
    where[key] = data.draw(
        st.one_of(
            st.none(),
            st.integers(-(10**12), 10**12),
            st.text(max_size=4),
            st.booleans(),
            st.lists(st.integers(), max_size=2),
            st.floats(),
        )
    )
    text = json.dumps(content)
    with contextlib.suppress(ProjectError):
        parse_project(text, "p", Path("/"))
    recipe = {
        "format": "pulizia-recipe",
        "version": 1,
        "steps": content["recordings"] if isinstance(content.get("recordings"), list) else [],
    }
    with contextlib.suppress(RecipeError):
        parse_recipe(json.dumps(recipe), "r")


@pytest.mark.parametrize(("text", "sentence"), [
    ("no", "not readable as JSON"), ("{}", "not a recipe"), ('{"format": "pulizia-recipe", "version": 7}', "Update Pulizia"),
    ('{"format": "pulizia-recipe", "version": 1}', 'no list "steps"'),
    ('{"format": "pulizia-recipe", "version": 1, "steps": [{"tool": "noize"}]}', "did you mean noise"),
    ('{"format": "pulizia-recipe", "version": 1, "steps": [{"tool": "noise", "settings": {"reduction_db": -1}}]}', "between 0 and 40 dB"),
    ('{"format": "pulizia-recipe", "version": 1, "steps": [{"tool": "noise", "spans_s": [[3, 1]]}]}', "from smaller than to"),
])  # fmt: skip
def test_recipes_that_cannot_be_used_say_why(tmp_path: Path, text: str, sentence: str) -> None:
    path = tmp_path / "r.json"
    path.write_text(text)
    with pytest.raises(RecipeError, match=sentence):
        read_recipe(path)


def test_a_killed_session_leaves_its_work_to_be_taken_up(voice_file: Path) -> None:
    program = (
        "import sys, time; from pathlib import Path\n"
        "from pulizia.session.document import Document; from pulizia.media.open import open_media\n"
        "d = Document(); rid = d.add_media(open_media(Path(sys.argv[1])))\n"
        "d.add_step(rid, 'noise', {'reduction_db': 17.0}); d.write_journal(); print('ready', flush=True); time.sleep(60)\n"
    )
    child = subprocess.Popen([sys.executable, "-c", program, str(voice_file)], stdout=subprocess.PIPE, text=True)
    assert child.stdout.readline() == "ready\n"
    assert left_behind(state_folder("journal")) == []  # it still runs
    os.kill(child.pid, signal.SIGKILL)
    child.wait()
    child.stdout.close()
    (found,) = left_behind(state_folder("journal"))
    document = Document()
    document.recover(found)
    assert document.is_dirty
    assert only(document).score[0].settings.reduction_db == 17.0
    assert only(document).path == voice_file
    document.drop_journal()
    assert left_behind(state_folder("journal")) == []


def test_a_journal_that_is_written_by_a_worker_holds_all_and_never_comes_after_the_end(voice_file: Path) -> None:
    document = Document()
    document.add_media(open_media(voice_file))
    late = document.journal_work()
    assert document.journal_work() is None  # one worker is sent for one state
    document.add_step(only(document).id, "noise", {"reduction_db": 17.0})
    work = document.journal_work()
    work()
    (file,) = state_folder("journal").glob("*.journal")
    kept = json.loads(file.read_text())
    assert parse_project(kept["project"], "journal", Path("/")).recordings[0].score[0].settings.reduction_db == 17.0
    document.drop_journal()
    late()  # a worker that was held up writes nothing once the session has ended
    work()
    assert not list(state_folder("journal").glob("*.journal"))


def test_several_edits_of_one_deed_are_one_entry_of_history(voice_file: Path) -> None:
    document = Document()
    recording = document.add_media(open_media(voice_file))
    before = document.project
    with document.history.one_deed("Treat"):
        first = document.add_step(recording, "noise")
        document.change_settings(recording, first.id, reduction_db=9.0)
        document.add_step(recording, "hum")
    assert document.history.undo_label == "Treat"
    document.undo()
    assert document.project == before
    document.redo()
    assert [s.tool_id for s in only(document).score] == ["hum", "noise"]
    step = only(document).score[0]
    document.set_spans(recording, step.id, (Span(0, 4800),))
    document.give_back(recording, Span(100, 200))
    document.apply_everywhere(recording, step.id)
    assert (only(document).score[0].spans, only(document).score[0].holes) == (None, ())
    document.undo()
    assert only(document).score[0].holes == (Span(100, 200),)


def test_spans_are_cut_joined_and_faded() -> None:
    spans = normalised([Span(50, 60), Span(0, 10), Span(10, 20), Span(30, 30)])
    assert spans == (Span(0, 20), Span(50, 60))
    assert without(spans, [Span(5, 8), Span(55, 99)]) == (Span(0, 5), Span(8, 20), Span(50, 55))
    weight = edge_weight([Span(100, 400)], 0, 500, fade=50, frames=500)
    assert not weight[:100].any()
    assert not weight[400:].any()
    assert np.all(weight[150:350] == 1)
    assert np.all(np.diff(weight[100:150]) > 0)
    assert edge_weight([Span(0, 500)], 0, 500, fade=50, frames=500).min() == 1.0


def test_the_cache_is_bounded_spills_to_disk_and_computes_once(tmp_path: Path) -> None:
    from concurrent.futures import ThreadPoolExecutor

    made: list[str] = []

    def chunk(name: str) -> np.ndarray:
        made.append(name)
        time.sleep(0.002)
        return np.full((1, 1000), float(len(name)), np.float32)

    cache = ChunkCache(memory_bytes=10_000, folder=tmp_path, disk_bytes=30_000)
    names = [f"k{n}" for n in range(12)]
    with ThreadPoolExecutor(8) as pool:
        list(pool.map(lambda n: cache.get(n, lambda: chunk(n)), names * 4))
    assert cache.held_bytes <= 10_000
    cache.flush()
    assert sum(p.stat().st_size for p in tmp_path.glob("*.chunk")) <= 34_000
    with ThreadPoolExecutor(8) as pool:
        results = list(pool.map(lambda _: cache.get("same", lambda: chunk("same")), range(16)))
    assert made.count("same") == 1
    assert all(np.array_equal(r, results[0]) for r in results)
    again = ChunkCache(memory_bytes=10_000, folder=tmp_path)
    known = next(p.stem for p in tmp_path.glob("*.chunk"))
    assert again.has(known)
    (tmp_path / f"{known}.chunk").write_bytes(b"damaged")
    assert again.get(known, lambda: chunk("new"))[0, 0] == 3.0


def test_project_errors_are_answers() -> None:
    with pytest.raises(PuliziaError, match="no file name yet"):
        Document().save()


def test_history_is_kept_with_the_project_and_a_damaged_one_costs_nothing_else(
    document: Document, tmp_path: Path
) -> None:
    (recording,) = document.project.recordings
    for tool in ("hum", "clicks", "noise"):
        document.add_step(recording.id, tool)
    document.undo()
    path = tmp_path / "job.pulizia"
    document.save(path)
    labels, _ = document.history.labels
    assert labels[-1] == "Add Clicks"

    document.drop_journal()  # as closing does
    again = Document()
    assert again.load(path)
    assert again.history.labels[0] == labels
    assert not again.is_dirty
    again.undo()
    assert [s.tool_id for s in again.project.recordings[0].score] == ["hum"]
    assert again.is_dirty
    again.go_to(len(labels))
    assert not again.is_dirty  # the very project that was saved
    again.go_to(0)
    assert not again.project.recordings
    assert again.history.labels == ((), labels)
    again.drop_journal()

    # each recording is written once for each state that changed it, and only the newest states are kept
    hum = next(s for s in only(document).score if s.tool_id == "hum")
    for n in range(300):
        document.change_settings(recording.id, hum.id, reduction_db=10.0 + n / 10)
        document.history.settle()
    document.save(path)
    document.drop_journal()
    content = json.loads(path.read_text())
    assert len(content["past"]["states"]) == 200
    assert len(content["past"]["parts"]) == 200
    assert len(content["past"]["pool"]) < 210  # one step each, not the whole row of steps

    for damaged in ({"parts": [], "states": [{"recordings": [7]}]}, [1], {"parts": [{"id": 3}], "states": []}, "x"):
        content["past"] = damaged
        path.write_text(json.dumps(content))
        last = Document()
        last.load(path)
        assert only(last).step(hum.id).settings.reduction_db == pytest.approx(39.9)
        assert last.history.undo_label is None
        last.drop_journal()


def test_a_programme_that_is_not_looked_at_keeps_no_earlier_sound_alive(document: Document) -> None:
    clip = Clip(recording_id=only(document).id, start=0, inner=0, frames=1000)
    programmes = [Programme(name=name, rate=48_000, lanes=(Lane(name="A").with_clips([clip]),)) for name in "ab"]
    for programme in programmes:
        document.edit_programme(programme, "New programme")
    document.add_step(only(document).id, "hum", {})
    for programme in programmes:
        assert document.sounds.of(programme) is not None
    earlier = weakref.ref(document.chain(only(document).id).after)
    document.add_step(only(document).id, "polarity", {})
    assert document.sounds.of(programmes[0]).after.read(0, 1000).shape == (2, 1000)
    gc.collect()
    assert earlier() is None
    assert document.sounds.of(programmes[1]) is not None


def test_what_was_done_for_a_recording_that_was_removed_meanwhile_is_no_fault(
    document: Document, tmp_path: Path, voice_file: Path
) -> None:
    """A file is opened and looked through in the background; somebody may have undone opening it by then."""
    rid = only(document).id
    media = document.media[rid]
    document.undo()
    assert document.project.recordings == ()
    assert document.note_digest(rid, media, "of the whole file") == ""
    document.redo()
    assert document.chain(rid) is not None
    document.save(tmp_path / "job.pulizia")
    other = Document()
    other.load(tmp_path / "job.pulizia")
    other.remove_recordings({rid})
    other.attach(rid, open_media(voice_file))
    assert (other.media, other.offline) == ({}, {})
