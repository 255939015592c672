# SPDX-License-Identifier: GPL-3.0-or-later
"""The program is ended from outside while something is not saved: the next start offers it."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from pathlib import Path

import pytest
from tests.desktop.conftest import Person

from pulizia.media.folders import state_folder
from pulizia.project.journal import left_behind

PROGRAM = """
import sys
from PySide6.QtCore import QTimer
from pulizia.desktop import start, window

class Edited(window.MainWindow):
    def showEvent(self, event):
        super().showEvent(event)
        QTimer.singleShot(0, self.look)

    def look(self):
        session = self.session
        if session.chain is None:
            QTimer.singleShot(50, self.look)
        elif not session.recording.score:
            self._autosave.stop()  # what is kept is kept by the end itself
            session.document.add_step(session.current_id, "level", {"gain_db": -4.0, "way": "gain"})
            print("edited", flush=True)

start.MainWindow = Edited
from pulizia.cli.main import run
run(["--simulated-output", sys.argv[1]])
"""


@pytest.mark.slow
@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGHUP])
def test_what_is_not_saved_is_kept_when_the_system_ends_the_program(voice_file: Path, number: signal.Signals) -> None:
    process = subprocess.Popen(
        [sys.executable, "-c", PROGRAM, str(voice_file)], env=os.environ | {"QT_QPA_PLATFORM": "offscreen"},
        stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    try:
        assert process.stdout is not None
        assert process.stdout.readline() == "edited\n"
        process.send_signal(number)
        _, told = process.communicate(timeout=240)
    finally:
        process.kill()
    assert (process.returncode, told) == (0, "")
    (found,) = left_behind(state_folder("journal"))
    (step,) = found.project.recordings[0].score
    assert (step.tool_id, step.settings.gain_db) == ("level", -4.0)


def test_an_end_with_everything_saved_leaves_nothing_to_recover(bench: Person, tmp_path: Path) -> None:
    bench.window.session.document.save(tmp_path / "p.pulizia")
    bench.window.end_unasked()
    assert not bench.window.isVisible()
    assert left_behind(state_folder("journal")) == []
