# SPDX-License-Identifier: GPL-3.0-or-later
"""Delivery, printing, recipes, own targets, the manual and the way back, in the real window."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import QObject, QPointF, QSizeF, Qt, QUrl, Slot
from PySide6.QtGui import QDesktopServices, QTextDocument
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QMessageBox
from tests.conftest import voice_in_noise
from tests.desktop.conftest import Person, choose, move

from pulizia.desktop.delivery.print_report import for_paper
from pulizia.desktop.folders import show_folder
from pulizia.project.file import load_project
from pulizia.report.loudness_report import report_html
from pulizia.session.orders import Stage

RATE = 48_000
CTRL = Qt.KeyboardModifier.ControlModifier


def finished(person: Person) -> None:
    person.until(lambda: not person.window.session.queue.is_working, 60)


@pytest.mark.slow
def test_several_deliverables_of_all_programmes_go_through_the_queue(two: Person, tmp_path: Path) -> None:
    delivery, queue = two.window.delivery, two.window.session.queue
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
    assert "is there already" in queue.orders[2].message
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
    editor = window.dialogs.target_editor
    assert "Not yet checked against the document." in editor.words.text()
    editor.title.setText("Loud house")
    editor.spins["integrated_lufs"].setValue(-8.0)
    editor.ticks["loudness_range_max_lu"].setChecked(True)
    editor.spins["loudness_range_max_lu"].setValue(9.0)
    editor.keep()
    assert window.session.target.id == "loud-house"
    assert window.session.target.loudness_range_max_lu == 9.0
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
    window.dialogs.target_editor.remove()
    assert window.session.target.id == "ebu-r128"


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


@pytest.mark.slow
def test_thresholds_are_dragged_and_a_phrase_is_moved_over_the_waveform(
    person: Person, wav: Callable[..., Path]
) -> None:
    quiet = np.concatenate([voice_in_noise(5.0), voice_in_noise(5.0, seed=3) * 0.3], axis=1)
    person.open(wav(quiet, "uneven.wav"))
    session, bench = person.window.session, person.window.bench

    def surveyed() -> bool:
        stage = session.chain.stages.get(session.step.id)
        return stage is not None and session.surveys.of(stage) is not None

    session.repairs.add_tool("split_compressor", on_selection=False)
    person.until(surveyed)
    picture = bench.sheet.body.picture
    start = QPointF(picture.x_of(500), picture.y_of(-24.0))
    person.drag(picture, start, QPointF(start.x(), picture.y_of(-40.0)))
    assert session.step.settings.threshold_db == pytest.approx(-40.0, abs=1.5)
    start = QPointF(picture.x_of(3800), picture.y_of(-75.0))
    person.drag(picture, start, QPointF(picture.x_of(2500), start.y()))
    assert session.step.settings.split_hz == pytest.approx(2500, rel=0.05)
    session.repairs.add_tool("leveller", on_selection=False)
    person.until(surveyed)
    person.settle()
    ride, wave = bench.waveform.ride, bench.waveform
    handle = ride.survey().handles[0]
    place = ride.place_of(handle, wave.plot)
    goal = QPointF(place.x(), ride.y_of(6.0, wave.plot))
    QTest.mousePress(wave, Qt.MouseButton.LeftButton, pos=place.toPoint())
    move(wave, goal)
    QTest.mouseRelease(wave, Qt.MouseButton.LeftButton, pos=goal.toPoint())
    ((seconds, gain),) = session.step.settings.ride_levels
    assert gain == pytest.approx(6.0, abs=0.5)
    assert seconds == pytest.approx(handle.frame / RATE, abs=0.01)
    person.until(surveyed)
    person.settle()
    person.window.grab()
    moved = next(h for h in ride.survey().handles if h.frame == handle.frame)
    assert moved.level_db == gain
    wave_place = ride.place_of(moved, wave.plot).toPoint()
    QTest.mouseDClick(wave, Qt.MouseButton.LeftButton, pos=wave_place)
    assert session.step.settings.ride_levels == ()


def test_files_that_are_there_are_replaced_or_kept_as_answered(
    two: Person, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    window, delivery, queue = two.window, two.window.delivery, two.window.session.queue
    there = tmp_path / "two-ebu-r128.wav"
    window.session.choose_recording(window.session.document.project.recordings[1].id)
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
    window.dialogs.printing.ask_into(tmp_path)
    two.settle()
    assert rendered.read_bytes() == b"kept"
    assert soundfile.info(tmp_path / "two-repaired-2.wav").frames == 4 * RATE


def test_each_programme_has_its_own_target_and_deliverables(two: Person, tmp_path: Path) -> None:
    session, delivery = two.window.session, two.window.delivery
    one, other = (r.id for r in session.document.project.recordings)
    session.choose_recording(one)
    two.settle()
    items = [delivery.orders.format_box.itemText(n) for n in range(delivery.orders.format_box.count())]
    assert not any("video" in words for words in items)  # a WAV file has none
    choose(delivery.target_box, next(t.title for t in session.targets.values() if t.integrated_lufs == -16.0))
    choose(delivery.orders.format_box, "MP3, 128")
    assert session.target_of(one).integrated_lufs == -16.0
    assert session.target_of(other).integrated_lufs == -23.0
    delivery.choose(other)
    assert delivery.target.integrated_lufs == -23.0
    choose(delivery.orders.format_box, "WAV, 16")
    delivery.choose(one)
    assert delivery.orders.format_box.currentText().startswith("MP3, 128")
    delivery.all_tick.setChecked(True)
    delivery.deliver_into(tmp_path)
    finished(two)
    kinds = {(o.name, o.path.suffix, o.target.integrated_lufs) for o in session.queue.orders}
    assert kinds == {("one", ".mp3", -16.0), ("two", ".wav", -23.0)}
    session.document.save(tmp_path / "job.pulizia")
    assert load_project(tmp_path / "job.pulizia").target_of(one) == session.target_of(one).id
    two.click(delivery._for_all)
    assert session.target_of(other).integrated_lufs == -16.0
    assert not delivery._for_all.isVisible()


def test_in_a_small_window_the_button_stays_in_view_and_the_result_is_scrolled_to(two: Person, tmp_path: Path) -> None:
    two.window.resize(1100, 700)
    delivery = two.window.delivery
    two.settle()
    button = delivery.deliver_button
    assert button.visibleRegion().boundingRect() == button.rect()
    delivery.deliver_to(tmp_path / "out.wav")
    two.until(lambda: delivery.written.delivered is not None)
    two.until(lambda: delivery.written.pdf_button.visibleRegion().boundingRect() == delivery.written.pdf_button.rect())
    assert button.visibleRegion().boundingRect() == button.rect()


class FileManager(QObject):
    """Stands where the desktop's file manager does; Qt asks it to open folders."""

    def __init__(self) -> None:
        super().__init__()
        self.opened: list[str] = []

    @Slot(QUrl)
    def open(self, url: QUrl) -> None:
        self.opened.append(url.toLocalFile())


def test_the_folder_of_what_was_written_is_shown(two: Person, tmp_path: Path) -> None:
    written, manager = two.window.delivery.written, FileManager()
    folder = tmp_path / "out"
    folder.mkdir()
    two.window.delivery.deliver_to(folder / "one.wav")
    two.until(lambda: written.delivered is not None)
    two.settle()
    QDesktopServices.setUrlHandler("file", manager, "open")
    try:
        two.click(written.folder_button)
        recording = two.recording
        assert manager.opened == [str(folder)]
        show_folder(two.window.session, recording.path)
        assert manager.opened[1] == str(recording.path.parent)
        (folder / "one.wav").unlink()
        for left in folder.iterdir():
            left.unlink()
        folder.rmdir()
        two.click(written.folder_button)
    finally:
        QDesktopServices.unsetUrlHandler("file")
    assert len(manager.opened) == 2
    assert two.said == f"{folder} is not there any more."
