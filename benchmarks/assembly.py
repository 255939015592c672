# SPDX-License-Identifier: GPL-3.0-or-later
"""A programme of 30 lanes with 500 clips each: pulling it, indexing it, painting it, a ripple at its start, its file.

Prints what each takes; run with ``python benchmarks/assembly.py`` (offscreen without a display).
"""

from __future__ import annotations

import os
import sys
import time
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np

from pulizia.audio.source import ArraySource
from pulizia.audio.timeline import Edge
from pulizia.project import time_edits
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.file import load_project, save_project
from pulizia.project.model import Project, Recording
from pulizia.project.programme_sound import sound_of
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore

RATE, LANES, CLIPS, CHUNK = 48_000, 30, 500, 1 << 16


def programme(recordings: list[str]) -> Programme:
    """Clips of two to six seconds with cross-fades and small gaps."""
    rng = np.random.default_rng(1)
    lanes = []
    for number in range(LANES):
        at, clips = 0, []
        for _ in range(CLIPS):
            frames = int(rng.integers(2 * RATE, 6 * RATE))
            clips.append(
                Clip(recording_id=recordings[int(rng.integers(len(recordings)))], start=at, inner=int(rng.integers(0, 20 * RATE)),
                     frames=frames, fade_in=Edge(480), fade_out=Edge(480))
            )  # fmt: skip
            at += frames - 960 if rng.random() < 0.5 else frames + RATE // 4
        lanes.append(Lane(name=f"Lane {number + 1}").with_clips(clips))
    return Programme(name="Large", rate=RATE, lanes=tuple(lanes))


def timed(what: str, unit: str, scale: float, call) -> object:
    """Print the best of three."""
    best, result = float("inf"), None
    for _ in range(3):
        began = time.perf_counter()
        result = call()
        best = min(best, time.perf_counter() - began)
    print(f"{what:<58}{best * scale:9.1f} {unit}")
    return result


def sound() -> None:
    """Without the window."""
    rng = np.random.default_rng(2)
    sources = {f"r{n}": ArraySource(rng.normal(0, 0.1, (1, 30 * RATE)).astype(np.float32), RATE) for n in range(20)}
    made = programme(list(sources))
    heard = lambda i: (sources[i], ("M",))  # noqa: E731
    build = lambda p: sound_of(p, heard, ChunkCache(), AnalysisStore())  # noqa: E731
    whole = timed(f"index of {LANES} lanes with {CLIPS} clips each", "ms", 1e3, lambda: build(made))
    after = whole.after  # type: ignore[attr-defined]

    def pull() -> None:
        for n in range(40):
            after.read(n * CHUNK, (n + 1) * CHUNK)

    began = time.perf_counter()
    pull()
    print(f"{'pull in chunks':<58}{40 * CHUNK / RATE / (time.perf_counter() - began):9.0f} x real time")
    longer = timed("ripple at the start, as a value", "ms", 1e3, lambda: time_edits.ripple_delete(made, RATE, 2 * RATE))
    timed("ripple at the start, until its first chunk is there", "ms", 1e3, lambda: build(longer).after.read(0, CHUNK))
    recordings = tuple(
        Recording(
            path=Path(f"/r/{n}.wav"),
            name=f"r{n}",
            fingerprint=f"{n}",
            rate=RATE,
            channels=1,
            frames=30 * RATE,
            id=f"r{n}",
        )
        for n in range(500)
    )
    project = Project(recordings=recordings).with_programme(made)
    with TemporaryDirectory() as folder:
        path = Path(folder) / "large.pulizia"
        timed("saving a project of 500 recordings and 15 000 clips", "ms", 1e3, lambda: save_project(project, path))
        timed("opening it", "ms", 1e3, lambda: load_project(path))


def journal() -> None:
    """Autosaving 100 recordings with 12 steps each: what of it the window's thread does."""
    os.environ.setdefault("PULIZIA_HOME", TemporaryDirectory().name)
    from pulizia.score.steps import make_step
    from pulizia.session.document import Document
    from pulizia.tools.registry import ALL

    tools = [tool.id for tool in ALL if not tool.other_field][:12]
    recordings = tuple(
        Recording(
            path=Path(f"/r/{n}.wav"), name=f"r{n}", fingerprint="0" * 40, rate=RATE, channels=1, frames=30 * RATE,
            score=tuple(make_step(tool) for tool in tools),
        )
        for n in range(100)
    )  # fmt: skip
    document = Document()
    document.history.edit(Project(recordings=recordings), "Add")
    began = time.perf_counter()
    work = document.journal_work()
    print(
        f"{'autosave of 100 recordings with 12 steps, window thread':<58}{1e3 * (time.perf_counter() - began):9.2f} ms"
    )
    began = time.perf_counter()
    assert work is not None
    work()
    print(f"{'the same, worker':<58}{1e3 * (time.perf_counter() - began):9.1f} ms")
    document.drop_journal()


def painting() -> None:
    """Scrolling in the real view at 1280 by 800."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from pulizia.desktop.demo import demo_files
    from pulizia.desktop.start import make_application, make_window

    with TemporaryDirectory() as home:
        os.environ["PULIZIA_HOME"] = home
        application = make_application()
        window, poster = make_window(simulated=True)
        window.files.asks = False
        window.resize(1280, 800)
        window.show()
        window.files.open_paths(demo_files())
        end = time.monotonic() + 30
        while len(window.session.document.media) < 4 and time.monotonic() < end:
            application.processEvents()
        made = programme([r.id for r in window.session.document.project.recordings])
        window.session.document.edit_programme(made, "large")
        window.go_to(1)
        for _ in range(200):
            application.processEvents()
            time.sleep(0.01)
        view, axis = window.assembly.lanes, window.assembly.axis
        assembly, document = window.session.assembly, window.session.document
        deeds = {
            "gain of all clips": lambda: assembly.add_gain(-1.0),
            "cross-fades at all cuts": assembly.cross_fade,
            "all clips copied behind themselves": assembly.duplicate,
            "all clips moved by a second": lambda: assembly.move(RATE),
        }
        for words, deed in deeds.items():
            assembly.select_all()
            began = time.perf_counter()
            deed()
            print(f"{words:<58}{time.perf_counter() - began:9.2f} s")
            document.undo()
        assembly.select(())
        for seconds in (60, 600):
            axis.show_span(0, seconds * RATE, 0.0)
            for _ in range(80):  # the pictures of the clips in view are made a few at a time
                view.repaint()
            took = []
            for _ in range(60):
                axis.scroll(9)
                began = time.perf_counter()
                view.repaint()
                took.append(time.perf_counter() - began)
            shown = f"painting while scrolling, {seconds} s in view, lanes in sight"
            print(f"{shown:<58}{np.median(took) * 1e3:9.1f} ms a frame (slowest {max(took) * 1e3:.1f})")
        window.close()
        poster.close()


if __name__ == "__main__":
    sound()
    journal()
    painting()
    sys.stdout.flush()
    os._exit(0)
