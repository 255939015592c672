# SPDX-License-Identifier: GPL-3.0-or-later
"""Around the bench: recovery, closing with unsaved work, the time axis, the command that starts it."""

from __future__ import annotations

import os
import subprocess
import sys
from itertools import pairwise
from pathlib import Path

import pytest
from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QApplication, QMessageBox
from tests.desktop.conftest import Person

from pulizia.desktop import bars
from pulizia.desktop.bench.time_axis import TimeAxis
from pulizia.desktop.start import make_window


def answer(words: str) -> None:
    """Press a button of the question that will come up."""

    def press(tries: int = 400) -> None:
        box = QApplication.activeModalWidget()
        if box is None and tries:  # a busy machine has not come to ask yet
            QTimer.singleShot(50, lambda: press(tries - 1))
            return
        assert isinstance(box, QMessageBox)
        next(b for b in box.buttons() if b.text().replace("&", "") == words).click()

    QTimer.singleShot(50, press)


def test_work_of_a_killed_session_is_offered_and_taken_up(bench: Person, voice_file: Path) -> None:
    bench.window.session.inspection.run()
    bench.settle()
    found = [e.id for e in bench.window.session.inspection.entries()]
    assert found
    window, poster = make_window(simulated=True)  # one that knows nothing of it
    bench.bot.addWidget(window)
    window.show()
    person = Person(bench.bot, window)
    program = (
        "import os, sys; from pathlib import Path\n"
        "from pulizia.session.document import Document; from pulizia.media.open import open_media\n"
        "d = Document(); rid = d.add_media(open_media(Path(sys.argv[1])))\n"
        "d.add_step(rid, 'noise', {'reduction_db': 19.0}); d.write_journal(); os._exit(9)\n"
    )
    subprocess.run([sys.executable, "-c", program, str(voice_file)], check=False)
    person.window.files.asks = True
    answer("Recover")
    person.window.files.offer_recovery()
    person.window.files.asks = False
    person.until(lambda: person.window.session.chain is not None)
    assert person.recording.score[0].settings.reduction_db == 19.0
    assert person.window.session.document.is_dirty
    person.until(person.window.session.inspection.entries)  # as they were told before
    assert [e.id for e in person.window.session.inspection.entries()] == found
    window.close()
    poster.close()


def test_unsaved_work_is_asked_about_before_it_is_left(bench: Person, tmp_path: Path) -> None:
    window = bench.window
    window.session.document.save(tmp_path / "job.pulizia")
    window.files.asks = True
    assert window.files.may_leave()
    window.session.document.add_step(bench.recording.id, "noise")
    answer("Cancel")
    assert not window.files.may_leave()
    assert window.windowTitle().startswith("job*")
    answer("Save")
    assert window.files.may_leave()
    assert not window.session.document.is_dirty
    window.session.document.undo()
    answer("Don't save")
    assert window.files.may_leave()
    window.files.asks = False


def test_zooming_keeps_the_frame_under_the_mouse_and_stays_inside() -> None:
    axis = TimeAxis()
    axis.show_recording(480_000, 48_000)
    axis.set_width(680)
    under = axis.frame_at(300)
    for _ in range(10):
        axis.zoom(1.5, 300)
    assert axis.frame_at(300) == pytest.approx(under, abs=1)
    axis.scroll(-1e9)
    assert axis.left == 0
    axis.scroll(1e9)
    assert axis.right == pytest.approx(480_000)
    axis.zoom(1e9, 0)
    assert axis.frames_per_pixel == pytest.approx(1 / 24)
    axis.show_whole()
    step, ticks = axis.ticks()
    assert len(ticks) >= 5
    assert all(b - a == pytest.approx(step) for a, b in pairwise(ticks))


def test_every_control_has_a_name_and_can_be_reached_by_keys(bench: Person) -> None:
    bench.mark(0.1, 0.9)
    bench.key(Qt.Key.Key_N)
    bench.settle()
    reached = set()
    for _ in range(60):
        bench.key(Qt.Key.Key_Tab)
        widget = QApplication.focusWidget()
        if widget is not None:
            reached.add(widget)
            assert widget.accessibleName() or getattr(widget, "text", lambda: "")(), widget
    names = {w.accessibleName() for w in reached}
    assert {"Place", "Play or stop", "What is heard and seen", "Reduction"} <= names


@pytest.mark.slow
def test_the_command_opens_a_window_and_leaves_a_picture(tmp_path: Path, voice_file: Path) -> None:
    picture = tmp_path / "w.png"
    command = [
        sys.executable,
        "-c",
        "from pulizia.cli.main import run; run()",
        str(voice_file),
        "--simulated-output",
        "--picture",
        str(picture),
    ]
    done = subprocess.run(
        command,
        env=os.environ | {"QT_QPA_PLATFORM": "offscreen"},
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
    )
    assert done.returncode == 0, done.stderr
    assert picture.stat().st_size > 20_000
    assert "Traceback" not in done.stderr


def test_damaged_own_targets_are_explained_and_the_shipped_ones_stay(bench: Person, home: Path) -> None:
    folder = home / "config" / "targets"
    folder.mkdir(parents=True)
    (folder / "own.json").write_text('{"targets": [{"id": "mine"}]}')
    bench.key(Qt.Key.Key_F4)
    assert "own.json" in bench.said
    assert bench.window.delivery.target_box.count() >= 7
    bench.window.session.document.set_target("mine")
    bench.settle()
    assert "mine is not known" in bench.window.delivery._explain.text()
    assert not bench.window.delivery.deliver_button.isEnabled()
    bench.window.grab()


def test_news_goes_by_itself_and_a_trouble_stays_until_it_is_closed_or_read(
    bench: Person, monkeypatch: pytest.MonkeyPatch
) -> None:
    person, say = bench, bench.window.session.say
    say("Autosave is off.", bad=True)
    person.window.session.document.add_step(person.recording.id, "level", {"gain_db": -3.0})
    assert person.said == "Autosave is off."  # nobody has had time to read it
    monkeypatch.setattr(bars, "MESSAGE_MS", 30)
    say("2 steps were copied.")
    assert person.said == "2 steps were copied."
    person.until(lambda: not person.said)
    say("Autosave is off.", bad=True)
    person.bot.wait(120)
    assert person.said == "Autosave is off."
    say("2 steps were copied.")  # news after the trouble has its own time
    person.until(lambda: not person.said)
    say("Autosave is off.", bad=True)
    person.key(Qt.Key.Key_Escape)
    assert not person.said
    say("Add the other recordings first.", bad=True)
    person.bot.wait(60)
    assert person.said
    person.window.session.document.undo()
    assert not person.said
