# SPDX-License-Identifier: GPL-3.0-or-later
"""A project opened again: the history as a list, the findings, and the place where it was left."""

from __future__ import annotations

import threading
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QPushButton, QWidget
from tests.conftest import voice_in_noise
from tests.desktop.conftest import Person

from pulizia.desktop.bars import ASSEMBLY, BENCH, DELIVERY
from pulizia.desktop.posting import Poster
from pulizia.desktop.preferences import Preferences
from pulizia.desktop.start import make_window
from pulizia.media.folders import cache_folder
from pulizia.media.open import open_media
from pulizia.project.file import save_project
from pulizia.project.model import Project, Recording
from pulizia.score.chain import Stage
from pulizia.score.steps import make_step
from pulizia.session.loudness_memory import MOST_OF_A_PLACE, LoudnessMemory

CTRL = Qt.KeyboardModifier.ControlModifier


def in_another_window(person: Person, job: Path) -> tuple[Person, Poster]:
    """A project opened in a window of its own, and what that window's threads post to."""
    window, poster = make_window(simulated=True)
    window.files.asks = False
    person.bot.addWidget(window)
    window.resize(1280, 800)
    window.show()
    other = Person(person.bot, window)
    window.files.open_paths([job])
    other.until(lambda: window.session.chain is not None)
    other.settle()
    return other, poster


def columns_with_sound(row: QPushButton) -> int:
    """Of the small picture beside a name, those that are inked a sixth from the top."""
    picture = row.icon().pixmap(180, 24).toImage()
    at = picture.height() // 6
    return sum(picture.pixel(x, at) != picture.pixel(x, 0) for x in range(picture.width()))


def test_edits_are_a_list_that_can_be_pressed(bench: Person) -> None:
    session, window = bench.window.session, bench.window
    for tool in ("hum", "clicks", "limiter"):
        session.repairs.add_tool(tool, on_selection=False)
    tools = lambda: [s.tool_id for s in bench.recording.score]  # noqa: E731
    bench.key(Qt.Key.Key_H, CTRL)
    shown = window.dialogs.history
    rows = lambda: [shown.list.item(n).text() for n in range(shown.list.count())]  # noqa: E731
    assert rows()[2:] == ["Add Hum", "Add Clicks", "Add Limiter"]
    shown.list.setCurrentRow(2)
    assert tools() == ["hum"]
    assert len(rows()) == 5  # what was taken back stays
    shown.list.setCurrentRow(4)
    assert tools() == ["clicks", "hum", "limiter"]
    bench.key(Qt.Key.Key_Z, CTRL)
    assert shown.list.currentRow() == 3
    shown.list.setCurrentRow(1)
    session.repairs.add_tool("gate", on_selection=False)
    assert rows()[2:] == ["Add Gate"]
    shown.hide()


@pytest.mark.slow
def test_a_project_opens_where_it_was_left_with_its_history_and_findings(
    person: Person, wav: Callable[..., Path], tmp_path: Path
) -> None:
    window, session = person.window, person.window.session
    clicked = voice_in_noise(8.0)
    clicked[0, np.arange(60_000, 300_000, 40_000)] += 0.6
    first, second = wav(voice_in_noise(6.0), "one.wav"), wav(clicked, "two.wav")
    person.open(first, second)
    session.choose_recording(session.document.project.recordings[1].id)
    session.repairs.add_tool("hum", on_selection=False)
    session.repairs.add_tool("limiter", on_selection=False)
    person.settle()
    session.inspection.run()
    person.until(lambda: session.inspection.is_current)
    told = [(e.kind, e.now.sentence) for e in session.inspection.entries()]
    assert "clicks" in [kind for kind, _ in told]
    window.bench.axis.show_span(100_000, 200_000)
    session.seek(123_456)
    left, scale = window.bench.axis.left, window.bench.axis.frames_per_pixel
    job = tmp_path / "job.pulizia"
    window.files._save_to(job)
    window.close()

    begun, nobody = make_window(simulated=True)  # a window without a project offers it, with a picture of its sound
    person.bot.addWidget(begun)
    (offered,) = (b for b in begun.bench.recent.findChildren(QPushButton) if b.text().strip() == "job.pulizia")
    assert 0 < columns_with_sound(offered) < 90  # its clicks stand out of the quiet talk
    begun.close()
    nobody.close()

    other, poster = in_another_window(person, job)
    again = other.window
    assert other.recording.name == "two"
    assert again.session.step.tool_id == "limiter"
    assert again.session.transport.position == 123_456
    assert again.bench.axis.left == pytest.approx(left, abs=scale)
    assert again.bench.axis.frames_per_pixel == pytest.approx(scale, rel=0.02)
    assert [(e.kind, e.now.sentence) for e in again.session.inspection.entries()] == told
    assert again.bench.list.findings.rows
    again.session.document.undo()
    assert [s.tool_id for s in other.recording.score] == ["hum"]
    assert Preferences().table("left at")
    again.close()
    poster.close()


@pytest.mark.slow
def test_a_project_opens_in_the_assembly_with_the_programme_and_the_place_in_it(place: Person, tmp_path: Path) -> None:
    window, session = place.window, place.window.session
    session.assembly.new_programme()
    place.settle()
    window.assembly.add_all()
    place.settle()
    second = session.assembly.programme.id
    assert len(session.document.project.programmes) == 2
    window.go_to(BENCH)
    session.repairs.add_tool("hum", on_selection=False)
    session.repairs.add_tool("limiter", on_selection=False)
    session.choose_step(session.recording.score[1].id)
    session.seek(30_000)
    window.go_to(ASSEMBLY)
    session.seek(222_222)
    window.assembly.axis.show_span(150_000, 300_000)
    left, scale = window.assembly.axis.left, window.assembly.axis.frames_per_pixel
    window.files._save_to(tmp_path / "job.pulizia")
    window.close()

    for closed_in in (ASSEMBLY, DELIVERY, BENCH):
        other, poster = in_another_window(place, tmp_path / "job.pulizia")
        again = other.window
        # where the window before this one was closed
        before = {ASSEMBLY: ASSEMBLY, DELIVERY: ASSEMBLY, BENCH: DELIVERY}[closed_in]
        assert again.places.currentIndex() == before
        if before == ASSEMBLY:
            assert again.session.assembly.programme.id == second
            assert again.session.transport.position == 222_222
            assert again.assembly.axis.left == pytest.approx(left, abs=scale)
            assert again.assembly.axis.frames_per_pixel == pytest.approx(scale, rel=0.02)
        again.go_to(BENCH)
        assert again.session.transport.position == 30_000
        assert again.session.step.tool_id == "limiter"
        again.go_to(closed_in)
        again.files._save_to(tmp_path / "job.pulizia")
        again.close()
        poster.close()


def test_a_project_opens_with_the_loudness_of_recordings_that_are_not_looked_at(
    person: Person, wav: Callable[..., Path], tmp_path: Path
) -> None:
    session = person.window.session
    person.open(*(wav(voice_in_noise(3.0) * gain, f"{name}.wav") for name, gain in (("one", 1.0), ("two", 0.5))))
    person.settle()
    as_recorded, lowered = (r.id for r in session.document.project.recordings)
    session.choose_recording(lowered)
    session.repairs.add_tool("level", on_selection=False)
    step = session.recording.score[-1]
    session.document.change_settings(lowered, step.id, gain_db=-7.0)
    session.choose_recording(as_recorded)
    person.until(lambda: None not in [session.measures("after", i) for i in (as_recorded, lowered)])
    told = session.measures("after", lowered).integrated_lufs
    memory = LoudnessMemory(cache_folder("tried"))
    for n in range(2 * MOST_OF_A_PLACE):
        memory.save("one:after", str(n), ("M",), -20.0 - n)
    assert len(list(cache_folder("tried").iterdir())) == MOST_OF_A_PLACE  # what undo may lead back to, and no more
    assert memory.load(str(MOST_OF_A_PLACE), ("M",)) == (-20.0 - MOST_OF_A_PLACE,)
    assert memory.load("0", ("M",)) is None
    person.window.files._save_to(tmp_path / "job.pulizia")
    person.window.close()
    other, poster = in_another_window(person, tmp_path / "job.pulizia")
    again = other.window.session
    other.until(lambda: again.loudness_of(lowered) is not None)
    assert again.loudness_of(lowered) == told
    assert again.measures("after", lowered) is None, "its steps were not rendered for that"
    again.document.change_settings(lowered, step.id, gain_db=-3.0)
    assert again.loudness_of(lowered) is None, "another setting is another sound"
    other.window.close()
    poster.close()


def test_the_demo_is_a_beginning_in_an_empty_project_and_an_edit_in_another(
    person: Person, wav: Callable[..., Path]
) -> None:
    document = person.window.session.document
    person.window.files.open_demo()
    person.until(lambda: len(document.project.programmes) == 1)
    assert len(document.project.recordings) == 4
    assert (document.history.undo_label, document.is_dirty) == (None, False)
    document.start_new()
    person.open(wav(voice_in_noise(1.0), "talk.wav"))
    person.window.files.open_demo()
    person.until(lambda: len(document.project.programmes) == 1)
    assert (len(document.project.recordings), document.history.undo_label) == (5, "New programme")


def test_a_project_left_in_another_place_is_offered_with_its_sound(
    person: Person, wav: Callable[..., Path], tmp_path: Path
) -> None:
    window = person.window
    person.open(wav(voice_in_noise(6.0), "one.wav"), wav(voice_in_noise(3.0), "two.wav"))
    person.key(Qt.Key.Key_F3)
    person.key(Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    person.key(Qt.Key.Key_F4)  # with a programme
    person.settle()
    window.files._save_to(tmp_path / "job.pulizia")
    window.close()
    begun, nobody = make_window(simulated=True)
    person.bot.addWidget(begun)
    rows = {b.text().strip(): b for b in begun.bench.recent.findChildren(QPushButton)}
    assert list(rows) == ["job.pulizia", "two.wav", "one.wav"]
    assert columns_with_sound(rows["job.pulizia"]) > 20
    assert columns_with_sound(rows["two.wav"]) == 0
    assert len({row.iconSize().width() for row in rows.values()}) == 1  # the names stand under one another
    begun.close()
    nobody.close()


def ink(view: QWidget) -> float:
    """Share of the view that is far from the paper."""
    picture = view.grab().toImage().convertToFormat(QImage.Format.Format_Grayscale8)
    grey = np.array(picture.constBits()).reshape(picture.height(), -1)[:, : picture.width()].astype(int)
    return float(np.mean(np.abs(grey - int(np.median(grey[:, 80:-60].max(axis=0)))) > 60))


def test_a_recording_is_seen_at_once_though_its_steps_take_long(
    person: Person, voice_file: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The middle was empty until the first stretch had gone through all steps."""
    window, gate, made = person.window, threading.Event(), Stage._made
    recording = Recording.of_media(open_media(voice_file)).with_step(
        make_step("level", {"way": "gain", "gain_db": -3.0})
    )
    save_project(Project(recordings=(recording,)), tmp_path / "job.pulizia")
    monkeypatch.setattr(Stage, "_made", lambda stage, index: (gate.wait(20), made(stage, index))[1])
    try:
        window.files.open_paths([tmp_path / "job.pulizia"])
        person.until(lambda: window.session.recording is not None)
        views = (window.bench.sonogram, window.bench.waveform)
        person.until(lambda: all(ink(view) > 0.05 for view in views), 8.0)
        assert not gate.is_set()
    finally:
        gate.set()
    before = ink(window.bench.waveform)
    person.settle()
    assert ink(window.bench.waveform) > before  # no longer paler
