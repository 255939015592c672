# SPDX-License-Identifier: GPL-3.0-or-later
"""Start the application: fonts, theme, session, window."""

from __future__ import annotations

import argparse
import gc
import os
import sys
import threading
import time
from importlib.resources import files
from pathlib import Path

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QApplication

from pulizia.desktop import access
from pulizia.desktop.appearance_dialog import size_of
from pulizia.desktop.commands import window_commands
from pulizia.desktop.ending import OrderlyEnd
from pulizia.desktop.language import chosen_language, use_language
from pulizia.desktop.posting import Poster
from pulizia.desktop.preferences import Preferences
from pulizia.desktop.theme import font, load_fonts, styled_at_the_end, use_theme
from pulizia.desktop.window import MainWindow
from pulizia.media.faults import note_fault
from pulizia.session.memory import give_back, settle_heap
from pulizia.session.output_protocol import SoundOut
from pulizia.session.session import Session
from pulizia.session.sound_out import SERVER, SIMULATED, default_choice, output_of, outputs
from pulizia.tools.registry import PROBLEMS

MOST_WORKERS = 3  # jobs at once, besides playing
REST_MS = 20_000  # from one look for garbage to the next
LONGEST_WITHOUT_S = 120.0


def make_application() -> QApplication:
    """The Qt application with our typeface and colours."""
    application = QApplication.instance() or QApplication(sys.argv[:1])
    assert isinstance(application, QApplication)  # noqa: S101
    application.setApplicationName("Pulizia")
    application.setDesktopFileName("org.pulizia.Pulizia")
    application.setStyle("Fusion")
    application.setWindowIcon(QIcon(str(files("pulizia.data").joinpath("desktop", "org.pulizia.Pulizia.svg"))))
    access.install()
    load_fonts()
    application.setFont(font(13))
    return application


def make_window(*, simulated: bool = False) -> tuple[MainWindow, Poster]:
    """A window over an empty project."""
    sys.setswitchinterval(0.001)  # the thread that feeds the sound device must not wait its turn
    preferences = Preferences()
    use_theme(preferences.text("theme", "linen"))
    poster = Poster()
    # a worker for each core, at least two: more of them would only take the window's turns
    threads = min(max(2, os.cpu_count() or 2), MOST_WORKERS)
    session = Session(_output(preferences, simulated=simulated), poster.post, threads=threads)
    with styled_at_the_end():
        return MainWindow(session, preferences, window_commands), poster


def _output(preferences: Preferences, *, simulated: bool) -> SoundOut:
    """The output that was chosen last where it is still there, else the usual one."""
    usual = default_choice(simulated=simulated)
    wanted = preferences.text("output", usual.id)
    if usual.id == SIMULATED or wanted in (usual.id, SERVER, SIMULATED):
        return output_of(usual.id, usual.name)
    chosen = next((choice for choice in outputs() if choice.id == wanted), usual)
    return output_of(chosen.id, chosen.name)


def settle_memory() -> None:
    """What was loaded by now stays: looking through it for garbage would hold the window for a tenth of a second."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(2000, 6, 300)  # small bites; all of it is looked through when nobody waits


def collect_at_rest(window: MainWindow) -> QTimer:
    """Look through all that was made since, whenever nothing is played, worked on or held by the mouse.

    Where somebody works without a rest it is done all the same after LONGEST_WITHOUT_S: what is kept in circles would
    fill the memory, 6 MB a minute on a busy machine.
    """
    last = time.monotonic()

    def collect() -> None:
        nonlocal last
        session = window.session
        held = QApplication.mouseButtons() != Qt.MouseButton.NoButton
        at_rest = not (session.transport.is_playing or session.pool.busy)
        if not held and (at_rest or time.monotonic() - last > LONGEST_WITHOUT_S):
            last = time.monotonic()
            gc.collect()
            threading.Thread(target=give_back, daemon=True).start()  # 20 ms for 100 MB

    timer = QTimer(window)
    timer.setInterval(REST_MS)
    timer.timeout.connect(collect)
    timer.start()
    return timer


def start(options: argparse.Namespace) -> int:
    """Open the window and run until it is closed."""
    settle_heap()
    percent = size_of(Preferences())
    if percent != 100:
        os.environ.setdefault("QT_SCALE_FACTOR", f"{percent / 100:g}")  # the toolkit reads it when it begins
    application = make_application()
    wrong = use_language(chosen_language(Preferences().text("language", "system")))
    window, poster = make_window(simulated=options.simulated_output)
    sys.excepthook = lambda _kind, error, _trace: window.session.say(note_fault(error), bad=True)
    window.show()
    settle_memory()
    collect_at_rest(window)
    if options.demo:
        window.files.open_demo()
    elif options.files:
        window.files.open_paths([Path(name) for name in options.files])
    if not options.picture and window.preferences.text("first steps", "shown") == "shown":
        window.show_first_steps()
    for sentence in (wrong, *PROBLEMS):
        if sentence:
            window.session.say(sentence, bad=True)
    if options.picture:
        window.files.asks = False
        QTimer.singleShot(4000, lambda: (window.grab().save(options.picture), window.close()))
    else:
        QTimer.singleShot(0, window.files.offer_recovery)
    ending = OrderlyEnd(application, window)
    code = application.exec()
    ending.release()
    poster.close()
    return int(code)
