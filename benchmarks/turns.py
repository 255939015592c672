# SPDX-License-Identifier: GPL-3.0-or-later
"""How long the window's thread is held in one turn of its loop: python benchmarks/turns.py [SECONDS].

The real window at 1280x800 over the demo, without a screen: it scrolls, plays, edits, inspects and delivers in turn.
Prints a histogram for each, the deed itself counted, and what share stays under 16 ms.
"""

from __future__ import annotations

import os

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from PySide6.QtWidgets import QApplication

from pulizia.desktop.demo import demo_files
from pulizia.desktop.start import make_application, make_window, settle_memory
from pulizia.desktop.window import MainWindow

EDGES_MS = (2, 4, 8, 16, 33, 1e9)
TOOLS = ("hum", "limiter", "clicks")


class Person:
    """Somebody at the window, with a stop watch."""

    def __init__(self, application: QApplication, window: MainWindow, seconds: float) -> None:
        self._application, self._seconds = application, seconds
        self.window, self.session = window, window.session

    def rest(self, least_s: float = 0.3) -> None:
        """Wait until nothing is being worked on."""
        end = time.monotonic() + least_s
        while time.monotonic() < end or self.session.pool.busy:
            self._application.processEvents()
            time.sleep(0.002)

    def during(self, name: str, deed: Callable[[int], None], every_s: float) -> None:
        """Do something again and again, and print how long the turns took."""
        turns, count, last, end = [], 0, 0.0, time.monotonic() + self._seconds
        while time.monotonic() < end:
            began = time.perf_counter()
            if time.monotonic() - last >= every_s:
                last = time.monotonic()
                deed(count)
                count += 1
            self._application.processEvents()
            turns.append(1000 * (time.perf_counter() - began))
            time.sleep(0.001)
        rows = [sum(low <= t < high for t in turns) for low, high in zip((0, *EDGES_MS[:-1]), EDGES_MS, strict=True)]
        shown = "  ".join(f"{n:6d}" for n in rows)
        share = 100 * sum(rows[:4]) / len(turns)
        print(f"{name:28s} {shown}   {share:6.2f} %   longest {max(turns):5.1f} ms", flush=True)

    def edit(self, n: int) -> None:
        """Add a step, or take it back."""
        if n % 2:
            self.session.document.undo()
        else:
            self.session.repairs.add_tool(TOOLS[n // 2 % len(TOOLS)], on_selection=False)

    def change(self, n: int) -> None:
        """Move a slider of the selected step."""
        recording, step = self.session.current_id, self.session.step_id
        self.session.document.change_settings(recording or "", step or "", reduction_db=6.0 + n % 20)


def measure(person: Person, folder: Path) -> None:
    """All rows."""
    window, session, axis = person.window, person.session, person.window.bench.axis
    print(f"{'turns of (ms)':28s}    < 2     < 4     < 8    < 16    < 33    more   under 16 ms")
    axis.zoom(4, 300)
    person.during("scrolling", lambda n: axis.scroll(40 if n % 60 < 30 else -40), 0.03)
    session.repairs.add_tool("noise", on_selection=False)
    person.rest(1.0)
    session.seek(0)
    session.play_or_stop()
    person.during("playing", lambda _n: None, 1.0)
    person.during("a slider while it plays", person.change, 0.05)
    session.stop_playing()
    for n in range(2 * len(TOOLS)):  # each sheet once: they are kept
        person.edit(n)
        person.rest()
    person.during("steps added and undone", person.edit, 0.7)
    person.during("inspecting", lambda n: session.inspection.run() if n == 0 else None, 1.0)
    person.rest()
    window.go_to(2)
    person.rest()
    window.delivery.all_tick.setChecked(True)
    person.during("delivering all", lambda n: window.delivery.deliver_into(folder) if n == 0 else None, 1.0)
    session.queue.stop()
    person.rest()


def main() -> None:
    """Open the window and measure."""
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 8.0
    with tempfile.TemporaryDirectory() as home:
        os.environ["PULIZIA_HOME"] = home
        application = make_application()
        window, poster = make_window(simulated=True)
        window.files.asks = False
        window.resize(1280, 800)
        window.show()
        person = Person(application, window, seconds)
        window.files.open_paths(demo_files())
        while len(person.session.document.project.recordings) < len(demo_files()):
            application.processEvents()
        person.rest(1.0)
        settle_memory()
        measure(person, Path(home))
        window.close()
        poster.close()


if __name__ == "__main__":
    main()
