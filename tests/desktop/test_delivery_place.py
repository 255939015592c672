# SPDX-License-Identifier: GPL-3.0-or-later
"""Delivery, printing, recipes, own targets, the manual and the way back, in the real window."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import QPoint, QPointF, QSizeF, Qt
from PySide6.QtGui import QCursor, QTextDocument
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog, QMessageBox, QPushButton, QWidget
from tests.conftest import voice_in_noise
from tests.desktop.conftest import Person, move

from pulizia.desktop.delivery.print_report import for_paper
from pulizia.media.folders import cache_folder, config_folder
from pulizia.project.file import load_project
from pulizia.report.loudness_report import report_html
from pulizia.report.manual import pages, sections
from pulizia.session.orders import Stage

RATE = 48_000
CTRL = Qt.KeyboardModifier.ControlModifier


@pytest.fixture
def two(person: Person, wav: Callable[..., Path]) -> Person:
    """Two recordings in the project."""
    person.open(wav(voice_in_noise(5.0), "one.wav"), wav(voice_in_noise(4.0, seed=2) * 0.4, "two.wav"))
    person.window.go_to(2)
    person.settle()
    return person


def finished(person: Person) -> None:
    person.until(lambda: not person.window.studio.queue.is_working, 60)


def choose(box, text: str) -> None:
    box.setCurrentIndex(next(n for n in range(box.count()) if box.itemText(n).startswith(text)))
    box.activated.emit(box.currentIndex())


def test_several_deliverables_of_all_programmes_go_through_the_queue(two: Person, tmp_path: Path) -> None:
    delivery, queue = two.window.delivery, two.window.studio.queue
    choose(delivery.orders.format_box, "MP3, 128")
    two.click(delivery.orders.add_button)
    choose(delivery.orders.format_box, "WAV, 16")
    delivery.orders.spins["tail_s"].setValue(0.5)
    delivery.orders.pop.click()
    delivery.orders.pattern.setText("{number}-{name}-{target}")
    delivery.all_tick.setChecked(True)
    out = tmp_path / "out"
    out.mkdir()
    (out / "02-two-ebu-r128.mp3").write_bytes(b"kept")
    delivery.deliver_into(out)
    two.window.grab()
    finished(two)
    assert [o.stage for o in queue.orders] == [Stage.DONE, Stage.DONE, Stage.FAILED, Stage.DONE]
    assert "is there already" in queue.orders[2].said
    assert (out / "02-two-ebu-r128.mp3").read_bytes() == b"kept"
    assert soundfile.info(out / "01-one-ebu-r128.wav").frames == round(7.5 * RATE)
    pop = soundfile.read(out / "01-one-ebu-r128.wav", frames=2 * RATE, always_2d=True)[0]
    assert np.abs(pop[: RATE // 25]).max() == pytest.approx(0.1, rel=0.02)
    assert np.abs(pop[RATE // 25 :]).max() < 1e-4
    content = json.loads((out / "01-one-ebu-r128.json").read_text())
    assert content["passes"]
    assert content["deliverable"].startswith("WAV, 16-bit")
    assert (out / "01-one-ebu-r128.csv").exists()
    (out / "02-two-ebu-r128.mp3").unlink()
    queue.again()
    finished(two)
    assert all(o.stage is Stage.DONE for o in queue.orders)
    two.window.grab()
    queue.clear()
    assert not queue.orders


def test_gain_only_says_what_it_cannot_reach_and_an_own_target_is_kept(two: Person) -> None:
    window, delivery = two.window, two.window.delivery
    two.key(Qt.Key.Key_T, CTRL)
    editor = window.doors.target_editor
    assert "Not yet checked against the document." in editor.words.text()
    editor.title.setText("Loud house")
    editor.spins["integrated_lufs"].setValue(-8.0)
    editor.ticks["loudness_range_max_lu"].setChecked(True)
    editor.spins["loudness_range_max_lu"].setValue(9.0)
    editor.keep()
    assert window.studio.target.id == "loud-house"
    assert window.studio.target.loudness_range_max_lu == 9.0
    choose(delivery.orders.way_box, "gain only")
    two.until(lambda: delivery.plan is not None and delivery.plan.way == "gain")
    assert "By gain alone" in delivery._note.text()
    assert not delivery.plan.limited
    choose(delivery.orders.way_box, "gain, limiting")
    two.until(lambda: delivery.plan is not None and delivery.plan.limited)
    assert "By gain alone" not in delivery._note.text()
    before = delivery.plan.predicted.integrated_lufs
    delivery.orders.dual_tick.click()
    two.until(lambda: delivery.orders.dual_tick.isChecked() and delivery.plan is not None)
    assert (
        before < delivery.plan.predicted.integrated_lufs == pytest.approx(-8.0, abs=0.1)
    )  # counted twice, it is reached
    assert "dual mono" in delivery._explain.text()
    two.key(Qt.Key.Key_T, CTRL)
    window.doors.target_editor.remove()
    assert window.studio.target.id == "ebu-r128"


def test_the_report_prints_to_pdf(two: Person, tmp_path: Path) -> None:
    delivery = two.window.delivery
    delivery.deliver_to(tmp_path / "one.wav")
    two.until(
        lambda: "source recording" in two.said or delivery.written.delivered is not None
    )  # one.wav is the recording itself
    delivery.deliver_to(tmp_path / "delivered.wav")
    finished(two)
    two.until(lambda: delivery.written.delivered is not None)
    delivery.written.print_to(tmp_path / "missing" / "r.pdf")
    two.until(lambda: "does not exist" in two.said)
    delivery.written.print_to(tmp_path / "r.pdf")
    two.until(lambda: "was printed" in two.said)
    paper = QTextDocument()
    paper.setPageSize(QSizeF(650.0, 1e6))  # the room between the margins of A4, in pixels of 1/96 inch
    paper.setHtml(for_paper(report_html(delivery.written.delivered, ["Noise: -12 dB"])))
    assert 500 < paper.size().height() - 180 < 1000  # a page of text that can be read, beside the picture of the curve
    assert paper.idealWidth() > 500
    content = (tmp_path / "r.pdf").read_bytes()
    assert content.startswith(b"%PDF")
    assert len(content) > 10_000
    assert not list(tmp_path.glob(".*"))


def test_recipes_are_kept_applied_to_all_taken_in_and_removed(two: Person, tmp_path: Path) -> None:
    window, document = two.window, two.window.studio.document
    one, other = document.project.recordings
    window.studio.choose_recording(one.id)
    document.add_step(one.id, "noise", {"profile_spans_s": [[0.1, 0.9]], "reduction_db": 9.0})
    two.key(Qt.Key.Key_R, CTRL | Qt.KeyboardModifier.ShiftModifier)
    keeping = window.doors.keeping
    keeping.description.setText("Nine off.")
    two.bot.keyClicks(keeping.name, "My noise")
    two.bot.keyClick(keeping.name, Qt.Key.Key_Return)  # Return saves
    assert (config_folder("recipes") / "my-noise.json").exists()
    two.key(Qt.Key.Key_R, CTRL)
    shelf = window.doors.recipes
    shelf.choose("my-noise")
    assert "Nine off." in shelf.words.text()
    assert shelf.ticked == (one.id,)
    shelf.tick_all()
    shelf.apply()
    assert shelf.results.rows == [("one", "0", "1", "0"), ("two", "1", "0", "0")]  # added, replaced, kept
    shelf.results.accept()
    (step,) = document.project.recording(other.id).score
    assert step.settings.reduction_db == 9.0
    assert step.settings.profile_spans_s == ()
    (here,) = document.project.recording(one.id).score  # replaced, not doubled
    assert here.settings.profile_spans_s == ()
    two.key(Qt.Key.Key_Z, CTRL)  # one entry of history
    assert not document.project.recording(other.id).score
    assert document.project.recording(one.id).score[0].settings.profile_spans_s == ((0.1, 0.9),)
    for same, count in (("keep", 1), ("add", 2)):
        two.key(Qt.Key.Key_R, CTRL)
        shelf = window.doors.recipes
        shelf.choose("my-noise")
        shelf.same.setCurrentIndex(shelf.same.findData(same))
        shelf.apply()
        assert len(document.project.recording(one.id).score) == count
    bad = tmp_path / "bad.json"
    bad.write_text("{}")
    good = tmp_path / "extra.json"
    good.write_text((config_folder("recipes") / "my-noise.json").read_text())
    two.key(Qt.Key.Key_R, CTRL)
    window.doors.recipes.take_in([bad, good])
    assert "not a recipe" in two.said
    assert window.doors.recipes.name == "extra"
    window.doors.recipes._remove()
    assert not (config_folder("recipes") / "extra.json").exists()
    window.doors.recipes.reject()


def test_recordings_are_selected_together_with_the_usual_keys(two: Person) -> None:
    window, document = two.window, two.window.studio.document
    two.key(Qt.Key.Key_F2)
    one, other = (r.id for r in document.project.recordings)
    cards = window.bench.list.cards
    place = lambda row: QPoint(60, row * 48 + 20)  # noqa: E731
    two.bot.mouseClick(cards, Qt.MouseButton.LeftButton, pos=place(0))
    two.bot.mouseClick(cards, Qt.MouseButton.LeftButton, CTRL, pos=place(1))
    assert cards.picked == {one, other}
    assert window.studio.current_id == one
    two.key(Qt.Key.Key_R, CTRL)
    assert set(window.doors.recipes.ticked) == {one, other}
    window.doors.recipes.reject()
    two.bot.mouseClick(cards, Qt.MouseButton.LeftButton, pos=place(1))
    assert cards.picked == {other}
    two.bot.mouseClick(cards, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ShiftModifier, pos=place(0))
    assert cards.picked == {one, other}
    document.remove_recordings(cards.picked)
    assert not document.project.recordings
    two.key(Qt.Key.Key_Z, CTRL)
    assert [r.id for r in document.project.recordings] == [one, other]


def test_the_selection_and_parts_are_printed_with_handles_and_provenance(two: Person, tmp_path: Path) -> None:
    window, studio = two.window, two.window.studio
    studio.choose_recording(studio.document.project.recordings[0].id)
    studio.document.add_step(studio.recording.id, "level", {"way": "gain", "gain_db": -6.0})
    studio.select(2 * RATE, 3 * RATE)
    two.key(Qt.Key.Key_P, CTRL)
    window.doors.printing.handles.setValue(0.5)
    window.doors.printing.print_into(tmp_path)
    two.until(lambda: "rendered to" in two.said)
    path = tmp_path / "one-repaired.wav"
    made, _ = soundfile.read(path, dtype="float32")
    assert len(made) == 2 * RATE
    expected = studio.chain.after.read(round(1.5 * RATE), round(3.5 * RATE))[0]
    assert np.abs(made - expected).max() < 2e-7
    assert b"Level" in path.read_bytes()[:4000]
    studio.markers.add()
    studio.seek(RATE)
    studio.markers.add()
    two.key(Qt.Key.Key_P, CTRL)
    choose(window.doors.printing.what, "each section")
    assert "2 files" in window.doors.printing.words.text()
    window.doors.printing.pattern.setText("{wrong}")
    assert "known are" in window.doors.printing.words.text()
    window.doors.printing.reject()


def test_the_manual_opens_where_one_is_and_its_pages_are_current(two: Person) -> None:
    folder = Path(__file__).parents[2] / "docs" / "manual"
    assert {p.name: p.read_text(encoding="utf-8") for p in folder.glob("*.md")} == pages()
    two.key(Qt.Key.Key_F1)
    assert "Deliverables" in two.window.doors.help.text.toPlainText()
    two.window.doors.help.accept()
    two.window.go_to(0)
    studio = two.window.studio
    studio.repairs.add_tool("leveller", on_selection=False)
    QCursor.setPos(two.window.bench.sheet.mapToGlobal(QPoint(100, 60)))
    two.key(Qt.Key.Key_F1)
    assert "phrases" in two.window.doors.help.text.toPlainText()
    two.window.doors.help.accept()


def test_f1_opens_the_section_of_what_has_the_keys_and_every_section_named_exists(two: Person) -> None:
    window = two.window
    named = {w.property("manual") for w in window.findChildren(QWidget) if isinstance(w.property("manual"), str)} - {
        "step"
    }
    assert len(named) > 10
    for place in named:
        page, _, section = place.partition("#")
        assert section in sections(page)
    two.key(Qt.Key.Key_F2)
    QCursor.setPos(window.mapToGlobal(QPoint(640, 20)))
    window.bench.score.setFocus()
    two.key(Qt.Key.Key_F1)
    shown = window.doors.help
    assert shown.list.currentItem().text() == "The Bench"
    assert shown.text.textCursor().block().text() == "Steps"
    shown.accept()


def test_the_original_of_a_worked_recording_is_found_and_opened_at_its_place(
    person: Person, wav: Callable[..., Path], tmp_path: Path
) -> None:
    rng = np.random.default_rng(9)
    steps = np.interp(np.arange(30 * RATE), np.arange(0, 30 * RATE, 6000), rng.uniform(0, 0.06, 240))
    raw = np.convolve(rng.standard_normal(30 * RATE), np.hanning(30) / 4, "same") * steps
    folder = tmp_path / "raw"
    folder.mkdir()
    soundfile.write(folder / "raw.wav", raw, RATE, subtype="PCM_24")
    person.open(wav((raw[None, 10 * RATE : 20 * RATE] * 0.5).astype(np.float32), "worked.wav"))
    person.window.doors.find_original()
    dialog = person.window.doors.finding
    dialog.look([folder])
    person.until(lambda: dialog.found)
    (path, same) = dialog.found[0]
    assert same.gain_db == pytest.approx(-6.0, abs=0.3)
    dialog.bring(path, same)
    person.until(lambda: person.recording.name == "raw" and person.window.studio.selection is not None)
    assert person.window.studio.selection.span.start == pytest.approx(10 * RATE, abs=2)


def test_a_found_passage_is_put_back_as_a_step_and_saved_with_the_project(
    person: Person, wav: Callable[..., Path], tmp_path: Path
) -> None:
    rng = np.random.default_rng(9)
    steps = np.interp(np.arange(30 * RATE), np.arange(0, 30 * RATE, 6000), rng.uniform(0, 0.06, 240))
    raw = (np.convolve(rng.standard_normal(30 * RATE), np.hanning(30) / 4, "same") * steps).astype(np.float32)
    folder = tmp_path / "raw"
    folder.mkdir()
    soundfile.write(folder / "raw.wav", raw, RATE, subtype="FLOAT")
    spoilt = np.round(raw[None, 10 * RATE : 20 * RATE] * -0.5 * 40) / 40
    person.open(wav(spoilt.astype(np.float32), "worked.wav"))
    studio = person.window.studio
    studio.select(2 * RATE, 6 * RATE)
    person.window.doors.find_original()
    dialog = person.window.doors.finding
    dialog.look([folder])
    person.until(lambda: dialog.found)
    dialog.put_back(*dialog.found[0])
    person.until(lambda: person.recording.score)
    person.settle()
    assert person.recording.name == "worked"
    assert person.recording.score[0].settings.inverted
    made = studio.chain.after.read(3 * RATE, 5 * RATE)[0]
    gain = 10 ** (person.recording.score[0].settings.gain_db / 20)
    assert np.abs(made + gain * raw[13 * RATE : 15 * RATE]).max() < 1e-6
    assert np.array_equal(studio.chain.after.read(7 * RATE, 8 * RATE), studio.chain.before.read(7 * RATE, 8 * RATE))
    studio.document.save(tmp_path / "p.pulizia")
    from pulizia.cli.main import main

    assert (
        main(
            [
                "deliver",
                str(tmp_path / "p.pulizia"),
                "--recording",
                "worked",
                "--target",
                "online-16",
                "-o",
                str(tmp_path / "out.wav"),
            ]
        )
        == 0
    )
    person.window.files.new_project()
    person.window.files.open_paths([tmp_path / "p.pulizia"])
    person.until(lambda: len(studio.document.media) == 2)
    assert np.array_equal(
        studio.document.chain(studio.document.project.recordings[0].id).after.read(3 * RATE, 5 * RATE)[0], made
    )


def test_thresholds_are_dragged_and_a_phrase_is_moved_over_the_waveform(
    person: Person, wav: Callable[..., Path]
) -> None:
    quiet = np.concatenate([voice_in_noise(5.0), voice_in_noise(5.0, seed=3) * 0.3], axis=1)
    person.open(wav(quiet, "uneven.wav"))
    studio, bench = person.window.studio, person.window.bench

    def surveyed() -> bool:
        stage = studio.chain.stages.get(studio.step.id)
        return stage is not None and studio.surveys.of(stage) is not None

    studio.repairs.add_tool("split_compressor", on_selection=False)
    person.until(surveyed)
    picture = bench.sheet.body.picture
    start = QPointF(picture.x_of(500), picture.y_of(-24.0))
    person.drag(picture, start, QPointF(start.x(), picture.y_of(-40.0)))
    assert studio.step.settings.threshold_db == pytest.approx(-40.0, abs=1.5)
    start = QPointF(picture.x_of(3800), picture.y_of(-75.0))
    person.drag(picture, start, QPointF(picture.x_of(2500), start.y()))
    assert studio.step.settings.split_hz == pytest.approx(2500, rel=0.05)
    studio.repairs.add_tool("leveller", on_selection=False)
    person.until(surveyed)
    person.settle()
    ride, wave = bench.waveform.ride, bench.waveform
    handle = ride.survey().handles[0]
    place = ride.place_of(handle, wave.plot)
    goal = QPointF(place.x(), ride.y_of(6.0, wave.plot))
    QTest.mousePress(wave, Qt.MouseButton.LeftButton, pos=place.toPoint())
    move(wave, goal)
    QTest.mouseRelease(wave, Qt.MouseButton.LeftButton, pos=goal.toPoint())
    ((seconds, gain),) = studio.step.settings.ride_levels
    assert gain == pytest.approx(6.0, abs=0.5)
    assert seconds == pytest.approx(handle.frame / RATE, abs=0.01)
    person.until(surveyed)
    person.settle()
    person.window.grab()
    moved = next(h for h in ride.survey().handles if h.frame == handle.frame)
    assert moved.level_db == gain
    wave_place = ride.place_of(moved, wave.plot).toPoint()
    QTest.mouseDClick(wave, Qt.MouseButton.LeftButton, pos=wave_place)
    assert studio.step.settings.ride_levels == ()


def test_the_first_steps_are_done_by_their_rows_and_ticked(
    two: Person, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    window, studio = two.window, two.window.studio
    window.show_first_steps()
    first = window.bench.list.first_steps
    assert first.isVisible()
    done = lambda: [row.text().startswith("\u2713") for row in first.rows]  # noqa: E731
    assert done() == [True, False, False, False, False]
    two.click(first.rows[1])
    two.until(lambda: studio.inspection.is_current)
    two.click(first.rows[2])
    two.until(lambda: two.recording.score, 60)
    two.click(first.rows[3])
    two.until(lambda: studio.transport.is_playing)
    two.key(Qt.Key.Key_Space)
    assert done() == [True, True, True, True, False]
    written = tmp_path / "first.wav"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a: (str(written), ""))
    two.until(lambda: not studio.pool.busy, 60)
    two.click(first.rows[4])
    finished(two)
    assert written.exists()
    assert all(done())
    assert first.rows[4].accessibleName() == "Deliver a file, done"
    window.go_to(0)
    two.click(next(b for b in first.findChildren(QPushButton) if b.text() == "Hide"))
    assert not first.isVisible()
    assert window.preferences.text("first steps", "shown") == "hidden"


def test_storage_is_seen_and_cleared(two: Person) -> None:
    window = two.window
    decoded = cache_folder("decoded")
    (decoded / "old.wav").write_bytes(bytes(3_000_000))
    window.doors.show_storage()
    assert window.doors.storage.figures["decoded"].startswith("3 MB of ")
    window.doors.storage.clear()
    assert not (decoded / "old.wav").exists()
    assert window.doors.storage.figures["decoded"].startswith("0 MB")
    window.doors.storage.accept()


def test_files_that_are_there_are_replaced_or_kept_as_answered(
    two: Person, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    window, delivery, queue = two.window, two.window.delivery, two.window.studio.queue
    there = tmp_path / "two-ebu-r128.wav"
    window.studio.choose_recording(window.studio.document.project.recordings[1].id)
    asked: list[list[str]] = []

    def answering(words: str) -> None:
        def press(box: QMessageBox) -> int:
            asked.append(box.informativeText().splitlines())
            button = next(b for b in box.buttons() if b.text() == words)
            monkeypatch.setattr(QMessageBox, "clickedButton", lambda _box: button)
            return 0

        monkeypatch.setattr(QMessageBox, "exec", press)

    delivery.report_tick.setChecked(False)
    for answer, kept, names in (
        ("Cancel", True, 1),
        ("Keep both", True, 2),
        ("Keep both", True, 3),
        ("Replace", False, 3),
    ):
        if answer == "Cancel":
            there.write_bytes(b"kept")
        answering(answer)
        delivery.ask_into(tmp_path)
        finished(two)
        assert asked.pop() == [there.name]
        assert (there.read_bytes() == b"kept") is kept
        assert len(list(tmp_path.glob("two-ebu-r128*.wav"))) == names
    assert all(o.stage is Stage.DONE for o in queue.orders)

    # the same where the processed sound is rendered
    window.go_to(0)
    two.key(Qt.Key.Key_P, CTRL)
    rendered = tmp_path / "two-repaired.wav"
    rendered.write_bytes(b"kept")
    answering("Keep both")
    window.doors.printing.ask_into(tmp_path)
    two.settle()
    assert rendered.read_bytes() == b"kept"
    assert soundfile.info(tmp_path / "two-repaired-2.wav").frames == 4 * RATE


def test_each_programme_has_its_own_target_and_deliverables(two: Person, tmp_path: Path) -> None:
    studio, delivery = two.window.studio, two.window.delivery
    one, other = (r.id for r in studio.document.project.recordings)
    studio.choose_recording(one)
    two.settle()
    items = [delivery.orders.format_box.itemText(n) for n in range(delivery.orders.format_box.count())]
    assert not any("video" in words for words in items)  # a WAV file has none
    choose(delivery.target_box, next(t.title for t in studio.targets.values() if t.integrated_lufs == -16.0))
    choose(delivery.orders.format_box, "MP3, 128")
    assert studio.target_of(one).integrated_lufs == -16.0
    assert studio.target_of(other).integrated_lufs == -23.0
    delivery.choose(other)
    assert delivery.target.integrated_lufs == -23.0
    choose(delivery.orders.format_box, "WAV, 16")
    delivery.choose(one)
    assert delivery.orders.format_box.currentText().startswith("MP3, 128")
    delivery.all_tick.setChecked(True)
    delivery.deliver_into(tmp_path)
    finished(two)
    kinds = {(o.name, o.path.suffix, o.target.integrated_lufs) for o in studio.queue.orders}
    assert kinds == {("one", ".mp3", -16.0), ("two", ".wav", -23.0)}
    studio.document.save(tmp_path / "job.pulizia")
    assert load_project(tmp_path / "job.pulizia").target_of(one) == studio.target_of(one).id
    two.click(delivery._for_all)
    assert studio.target_of(other).integrated_lufs == -16.0
    assert not delivery._for_all.isVisible()
