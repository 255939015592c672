# SPDX-License-Identifier: GPL-3.0-or-later
"""Takes the pictures of docs/screenshots anew, from the demo recordings: take_pictures.py [NAME ...].

Each scene opens a real window of 1280x800, does what a person would, and waits until everything is drawn.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
import soundfile as sf
from museum_film import write_museum_film
from numpy.typing import NDArray
from PySide6.QtWidgets import QApplication, QWidget
from scipy.signal import lfilter

from pulizia.desktop.demo import demo_files
from pulizia.desktop.language import use_language
from pulizia.desktop.start import make_application, make_window
from pulizia.desktop.theme import use_theme
from pulizia.desktop.window import MainWindow
from pulizia.interchange.export import list_of, write_list
from pulizia.session.session import Session

TARGET = Path(__file__).resolve().parent.parent / "docs" / "screenshots"
RATE = 48_000
LONGEST_S = 90.0


class Scene:
    """A window with somebody at it."""

    def __init__(self, application: QApplication, window: MainWindow) -> None:
        self.application, self.window = application, window

    @property
    def session(self) -> Session:
        """The session behind the window."""
        return self.window.session

    def settle(self) -> None:
        """Wait until nothing is being worked on."""
        end = time.monotonic() + LONGEST_S
        quiet = 0
        while quiet < 80 and time.monotonic() < end:
            self.application.processEvents()
            time.sleep(0.01)
            quiet = 0 if self.session.pool.busy else quiet + 1

    def open(self, *paths: Path) -> None:
        """Open files and wait for them."""
        self.window.files.open_paths(list(paths))
        while len(self.session.document.project.recordings) < len(paths):
            self.application.processEvents()
            time.sleep(0.01)
        self.settle()

    def add(self, *tools: str) -> None:
        """Add steps over everything; the last one stays selected."""
        for tool in tools:
            self.session.repairs.add_tool(tool, on_selection=False)
            self.settle()

    def do(self, *names: str) -> None:
        """Call commands of the window."""
        for name in names:
            self.window.actions_.actions[name].trigger()
            self.settle()


def bench(s: Scene) -> QWidget:
    """A narration with a Noise step, the noise marked."""
    s.open(*demo_files())
    s.session.select(round(0.2 * RATE), round(1.1 * RATE))
    s.do("noise")
    return s.window


def lamplight(s: Scene) -> QWidget:
    """The same in the evening: noise, treble and level treated, the leveller's sheet open."""
    use_theme("lamplight")
    s.open(*demo_files())
    s.add("noise", "leveller", "dull_voice")
    return s.window


def delivery(s: Scene) -> QWidget:
    """A programme against its target."""
    bench(s)
    s.session.clear_selection()
    s.window.go_to(2)
    s.settle()
    return s.window


def assembly(s: Scene) -> QWidget:
    """The demo's chapter: recordings on lanes, one clip selected."""
    s.window.files.open_demo()
    s.settle()
    s.window.go_to(1)
    service = s.session.assembly
    service.select({service.programme.lanes[0].clips[3].id})
    s.session.seek(16 * 48_000)
    s.settle()
    s.settle()
    return s.window


def video(s: Scene) -> QWidget:
    """The same programme with a video beside it."""
    assembly(s)
    with tempfile.TemporaryDirectory() as folder:
        s.window.assembly.film.switch()
        s.session.film.choose(write_museum_film(Path(folder) / "pendulums.mp4"))
        s.settle()
        s.settle()
        s.window.grab()
        s.session.film.close()
    return s.window


def conform_walk(s: Scene) -> QWidget:
    """A cut that lost two clips and moved six: what changed, and the way to each."""
    assembly(s)
    document, programme = s.session.document, s.session.assembly.programme
    first = programme.lanes[0]
    later = [replace(clip, start=clip.start + 2 * RATE) for clip in first.clips[1:-1]]
    cut = replace(programme, lanes=(first.with_clips(later), *programme.lanes[1:]))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "second-cut.otio"
        write_list(list_of(cut, {r.id: r for r in document.project.recordings}, lambda _r: None), path)
        s.session.lists.conform(path, [], s.window.list_places._conformed)  # noqa: SLF001 - as after the dialog
        s.settle()
        s.settle()
    return s.window.list_places.walk


def readings(s: Scene) -> QWidget:
    """The same programme read in other ways."""
    delivery(s)
    s.window.delivery.measuring.show_readings()
    s.settle()
    return s.window.delivery.measuring.table


def queue(s: Scene) -> QWidget:
    """All programmes of a project written and measured again."""
    delivery(s)
    s.window.delivery.all_tick.setChecked(True)
    with tempfile.TemporaryDirectory() as folder:
        s.window.delivery.deliver_into(Path(folder))
        while s.session.queue.is_working:
            s.application.processEvents()
            time.sleep(0.01)
    s.window.message.hide()
    s.settle()
    return s.window


def levels(s: Scene) -> QWidget:
    """All gauges while it plays."""
    s.open(*demo_files())
    s.do("levels")
    s.session.transport.play(15 * RATE)
    s.session.events.playing.emit()
    end = time.monotonic() + 3.0
    while time.monotonic() < end:
        s.application.processEvents()
        time.sleep(0.005)
    return s.window


def spectrum(s: Scene) -> QWidget:
    """The spectrum over the sonogram, with its peaks."""
    s.open(demo_files()[1])
    s.session.select(round(0.1 * RATE), round(1.0 * RATE))
    s.do("spectrum")
    return s.window


def sheet(recording: int, *tools: str) -> Callable[[Scene], QWidget]:
    """A recording with steps, the last one's sheet shown."""

    def scene(s: Scene) -> QWidget:
        s.open(demo_files()[recording])
        s.add(*tools)
        return s.window

    return scene


def areas(s: Scene) -> QWidget:
    """An area of the sonogram turned down."""
    s.open(demo_files()[1])
    for a, b, low, high in ((3.0, 3.6, 900.0, 4000.0), (8.2, 8.6, 300.0, 1500.0)):
        s.session.select(round(a * RATE), round(b * RATE), (low, high))
        s.do("area")
    s.window.bench.axis.show_span(RATE, 11 * RATE)
    s.settle()
    return s.window


def inspect(s: Scene) -> QWidget:
    """What is wrong with a recording."""
    s.open(*demo_files())
    s.session.choose_recording(s.session.document.project.recordings[3].id)
    s.settle()
    s.do("inspect")
    return s.window


def score(s: Scene) -> QWidget:
    """Ten steps."""
    s.open(*demo_files())
    s.session.choose_recording(s.session.document.project.recordings[3].id)
    s.add(
        "hum",
        "clicks",
        "gate",
        "noise",
        "room_tail",
        "sibilance",
        "equaliser",
        "split_compressor",
        "limiter",
        "leveller",
    )
    return s.window


def manual(s: Scene) -> QWidget:
    """The manual at a tool."""
    s.open(demo_files()[0])
    s.add("noise")
    s.window.dialogs.show_help()
    s.settle()
    return s.window.dialogs.help


def conversation(path: Path) -> Path:
    """Two minutes made of the demo recordings: a fan, then a louder and darker hum of traffic, and a phone."""
    rng = np.random.default_rng(3)
    parts: list[NDArray[np.float64]] = []
    voice = sf.read(demo_files()[0])[0][: round(13.6 * RATE)]
    while sum(map(len, parts)) < 118 * RATE:
        parts += [0.5 * voice / np.abs(voice).max(), np.zeros(round(1.2 * RATE))]
    sound = np.concatenate(parts)[: 118 * RATE]
    turn = 64 * RATE
    white = rng.standard_normal(len(sound))
    fan = 10 ** (-56 / 20) * lfilter([1.0], [1.0, -0.7], white)
    traffic = 10 ** (-62 / 20) * lfilter([1.0], [1.0, -0.98], white)
    sound += np.where(np.arange(len(sound)) < turn, fan, traffic)
    ring = np.arange(round(1.6 * RATE)) / RATE
    on = (ring % 0.8 < 0.4) * 0.03
    at = 91 * RATE
    sound[at : at + len(ring)] += on * (np.sin(2 * np.pi * 1240 * ring) + np.sin(2 * np.pi * 1560 * ring))
    sf.write(path, sound, RATE, subtype="PCM_24")
    return path


def sections(s: Scene) -> QWidget:
    """Two noises in two minutes: findings, the samples that were learned, and a section for each."""
    with tempfile.TemporaryDirectory() as folder:
        s.open(conversation(Path(folder) / "conversation.wav"))
        s.do("inspect")
        s.session.select(round(13.7 * RATE), round(14.7 * RATE))
        s.do("noise")
        s.session.clear_selection()
        s.settle()
        shown = s.window
        shown.grab().save(str(TARGET / "sections.png"))
    return shown


SCENES: dict[str, Callable[[Scene], QWidget]] = {
    "bench": bench, "lamplight": lamplight, "delivery": delivery, "assembly": assembly, "readings": readings, "queue": queue, "levels": levels,
    "spectrum": spectrum, "equaliser": sheet(0, "equaliser"), "hum": sheet(1, "hum"), "video": video, "conform": conform_walk,
    "inspect": inspect, "areas": areas, "room-tail": sheet(3, "room_tail"),
    "score": score, "manual": manual, "german": inspect,
    "sections": sections,
}  # fmt: skip


GERMAN = ("german",)


def _told(s: Scene) -> str:
    """What the selected step found."""
    stage = s.session.chain.stages[s.session.step_id]
    found = s.session.surveys.of(stage)
    return found.survey.sentence if found is not None and found.survey is not None else ""


def _found(s: Scene) -> set[str]:
    return {entry.kind for entry in s.session.inspection.entries()}


def _sheet_is_whole(s: Scene) -> bool:
    """Whether the sheet's picture is in view with all of its width."""
    picture = s.window.bench.sheet.body.picture
    return picture.visibleRegion().boundingRect().size() == picture.size()


CHECKS: dict[str, Callable[[Scene], bool]] = {
    "bench": lambda s: s.session.step.tool_id == "noise" and bool(s.session.step.settings.profile_spans_s) and _sheet_is_whole(s),
    "lamplight": lambda s: [x.tool_id for x in s.session.recording.score] == ["noise", "dull_voice", "leveller"] and _sheet_is_whole(s),
    "delivery": lambda s: s.window.delivery.plan is not None and s.session.target is not None,
    "assembly": lambda s: len(s.session.assembly.clips) == 1 and len(s.session.assembly.programme.lanes) > 1,
    "readings": lambda s: len(s.window.delivery.measuring.table.rows) > 3,
    "queue": lambda s: len(s.session.queue.orders) > 0 and all(o.delivered is not None for o in s.session.queue.orders),
    "levels": lambda s: s.window.bench.shows_levels and s.session.transport.is_playing,
    "spectrum": lambda s: s.window.bench.large_spectrum.isVisible() and len(s.window.bench.large_spectrum.peaks) > 3,
    "equaliser": lambda s: len(s.window.bench.sheet.body.picture.bands) > 1 and _sheet_is_whole(s),
    "hum": lambda s: _told(s).startswith("Hum at 50") and _sheet_is_whole(s),
    "video": lambda s: s.window.assembly.film.isVisible() and s.session.assembly.programme.film != "",
    "conform": lambda s: s.window.list_places.walk.found.count("gone") == 2 and s.window.list_places.walk.found.count("moved") > 5,
    "inspect": lambda s: {"room", "noise"} <= _found(s),
    "german": lambda s: {"room", "noise"} <= _found(s) and s.window.bench.list.findings.all_button.text() != "Treat all",
    "areas": lambda s: len(s.session.step.settings.areas) == 2,
    "room-tail": lambda s: _told(s).startswith("Reverberation time T60 0.") and _sheet_is_whole(s),
    "score": lambda s: len(s.session.recording.score) == 10,
    "manual": lambda s: "Noise" in s.window.dialogs.help.windowTitle() or s.window.dialogs.help.isVisible(),
    "sections": lambda s: "noise" in _found(s) and len(s.session.repairs.edges_of(s.session.step, s.session.surveys.of(s.session.chain.stages[s.session.step_id]).survey)) == 1,
}  # fmt: skip
"""What each picture has to show, as its caption says."""


def equaliser(s: Scene) -> QWidget:
    """A high-pass and two bells over a phrase."""
    s.open(demo_files()[0])
    s.do("phrase_next")
    s.add("equaliser")
    bands = (("high-pass", 90.0, 0.0, 18.0), ("bell", 240.0, -3.5, 1.4), ("bell", 3200.0, 4.0, 1.0))
    s.session.document.change_settings(s.session.current_id, s.session.step_id, bands=bands)
    s.settle()
    return s.window


SCENES["equaliser"] = equaliser


def main(names: list[str]) -> int:
    """Take the pictures."""
    application = make_application()
    wrong: list[str] = []
    for name in names or list(SCENES):
        with tempfile.TemporaryDirectory() as home:
            os.environ["PULIZIA_HOME"] = home
            use_theme("linen")
            use_language("de" if name in GERMAN else "en")
            window, poster = make_window(simulated=True)
            window.files.asks = False
            window.resize(1280, 800)
            window.show()
            scene = Scene(application, window)
            shown = SCENES[name](scene)
            application.processEvents()
            if not CHECKS[name](scene):
                print(f"{name}.png would not show what its caption says; the old one stays.")
                wrong.append(name)
                window.close()
                poster.close()
                continue
            shown.grab().save(str(TARGET / f"{name}.png"))
            print(f"{name}.png")
            window.close()
            poster.close()
            window.deleteLater()
            application.processEvents()
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
