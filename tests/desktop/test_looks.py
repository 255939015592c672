# SPDX-License-Identifier: GPL-3.0-or-later
"""What can be held of the look: contrast, nothing cut off, names and focus, and what the window's thread does."""

from __future__ import annotations

import contextlib
import itertools
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QFontMetricsF
from PySide6.QtWidgets import QAbstractButton, QCheckBox, QLabel, QWidget
from pytestqt.exceptions import TimeoutError as TookTooLong
from tests.desktop.conftest import Person

from pulizia.desktop.controls import NAME_WIDTH, ChoiceBox
from pulizia.desktop.theme import font, theme, use_theme
from pulizia.measure import blocks
from pulizia.score.chain import Stage
from pulizia.session import inspection_service, survey_service
from pulizia.settings.declare import Switch, declared
from pulizia.tools.registry import ALL

RATE = 48_000


@pytest.fixture(params=["linen", "lamplight", "contrast"])
def themed(request: pytest.FixtureRequest) -> Iterator[str]:
    use_theme(request.param)
    yield request.param
    use_theme("linen")


def luminance(colour: str) -> float:
    """Relative luminance (WCAG 2.2, definition)."""
    c = QColor(colour)
    parts = [v / 12.92 if v <= 0.03928 else ((v + 0.055) / 1.055) ** 2.4 for v in (c.redF(), c.greenF(), c.blueF())]
    return 0.2126 * parts[0] + 0.7152 * parts[1] + 0.0722 * parts[2]


def contrast(a: str, b: str) -> float:
    high, low = sorted((luminance(a), luminance(b)), reverse=True)
    return (high + 0.05) / (low + 0.05)


def test_texts_stand_out_from_their_grounds(qapp, themed: str) -> None:
    t = theme()
    for ground in (t.paper, t.panel):
        for ink in (t.ink, t.soft, t.verd_text, t.madder, t.ochre_text, t.plum):
            assert contrast(ink, ground) >= 4.5, (themed, ink, ground)
    assert contrast(t.on_verd, t.verd) >= 4.5
    assert contrast(t.ink, t.verd_soft) >= 4.5
    assert contrast(t.strong, t.paper) >= 2.3  # outlines and ticks
    if themed == "contrast":  # WCAG 2.2, 1.4.6 for text and 1.4.11 for lines
        for ink in (t.ink, t.soft, t.verd_text, t.madder, t.ochre_text, t.plum):
            assert contrast(ink, t.paper) >= 7
        for line in (t.line, t.strong, t.verd, t.ochre):
            assert contrast(line, t.paper) >= 3


def nearest(widget: QWidget, colour: str) -> int:
    """Distance of the pixel of a widget that is most like a colour."""
    image, wanted = widget.grab().toImage(), QColor(colour)
    pixels = (image.pixelColor(x, y) for x in range(image.width()) for y in range(image.height()))
    return min(
        abs(p.red() - wanted.red()) + abs(p.green() - wanted.green()) + abs(p.blue() - wanted.blue()) for p in pixels
    )


def test_ticks_and_arrows_are_shown_in_the_colours_of_the_theme(qtbot, themed: str) -> None:
    tick, box = QCheckBox(), ChoiceBox()
    box.addItem("")
    for widget in (tick, box):
        qtbot.addWidget(widget)
        widget.setFixedSize(60, 28)
        widget.ensurePolished()
    assert nearest(box, theme().soft) < 40  # its outline is 45 away
    empty = tick.grab().toImage()
    tick.setChecked(True)
    assert tick.grab().toImage() != empty
    assert nearest(tick, theme().verd) < 30


@pytest.mark.slow
def test_colours_and_size_are_chosen_and_kept(bench: Person) -> None:
    window = bench.window
    window.actions_.actions["appearance"].trigger()
    dialog = window.dialogs.appearance
    dialog.theme.setCurrentIndex(dialog.theme.findData("contrast"))
    dialog.theme.activated.emit(dialog.theme.currentIndex())
    assert theme().name == "contrast"
    dialog.percent.setCurrentIndex(dialog.percent.findData(200))
    dialog.percent.activated.emit(dialog.percent.currentIndex())
    dialog.accept()
    program = (
        "import argparse, os\n"
        "from PySide6.QtCore import QTimer\n"
        "from pulizia.desktop import start\n"
        "made = start.make_window\n"
        "def look(**given):\n"
        "    window, poster = made(**given)\n"
        "    def tell():\n"
        "        print(window.devicePixelRatioF(), window.width(), window.palette().window().color().name()); window.close()\n"
        "    QTimer.singleShot(200, tell)\n"
        "    return window, poster\n"
        "start.make_window = look\n"
        "start.start(argparse.Namespace(simulated_output=True, demo=False, files=[], picture=''))\n"
    )
    done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, timeout=60, check=True)
    ratio, width, ground = done.stdout.split()
    assert float(ratio) == 2.0
    assert int(width) <= 800  # what a screen of the usual simulated size has room for
    assert ground == "#ffffff"
    use_theme("linen")


def cut_off(window: QWidget) -> list[str]:
    """Texts that have less room than they need."""
    found = []
    for widget in window.findChildren(QWidget):
        if not widget.isVisible() or not isinstance(widget, QLabel | QAbstractButton) or not widget.text():
            continue
        if isinstance(widget, QLabel) and widget.wordWrap():
            if widget.heightForWidth(widget.width()) > widget.height() + 1:
                found.append(
                    f"{widget.text()!r} is {widget.height()} high, needs {widget.heightForWidth(widget.width())}"
                )
        elif widget.sizeHint().width() > widget.width() + 1:
            found.append(f"{widget.text()!r} is {widget.width()} wide, needs {widget.sizeHint().width()}")
    return found


def nothing_cut_off(bench: Person, place: QWidget) -> None:
    """Once all is laid out; a busy machine takes a while."""
    with contextlib.suppress(TookTooLong):
        bench.until(lambda: not cut_off(place), 5.0)
    assert cut_off(place) == []


def test_a_text_without_room_is_noticed(qtbot, qapp) -> None:
    place = QWidget()
    qtbot.addWidget(place)
    QLabel("Twelve words too many for so little room", place).setFixedWidth(40)
    place.show()
    assert len(cut_off(place)) == 1


def test_nothing_is_cut_off_at_any_size(bench: Person, themed: str) -> None:
    window, session = bench.window, bench.window.session
    for tool in ("noise", "leveller"):
        session.repairs.add_tool(tool, on_selection=False)
        bench.settle()
    bench.mark(1.5, 2.5)
    for width, height in ((1100, 700), (1280, 800), (1920, 1080)):
        bench.key(Qt.Key.Key_F2)
        window.resize(width, height)
        bench.settle()
        nothing_cut_off(bench, window)
        bench.key(Qt.Key.Key_V)
        bench.settle()
        nothing_cut_off(bench, window)
        bench.key(Qt.Key.Key_F4)
        bench.settle()
        bench.until(lambda: window.delivery.plan is not None)
        nothing_cut_off(bench, window)
        assert window.width() == width
    assert themed == theme().name


@pytest.mark.parametrize(("width", "parts"), [(1100, 7), (960, 6), (800, 5)])
def test_on_a_small_or_doubled_screen_nothing_at_the_foot_lies_on_anything(
    bench: Person, width: int, parts: int
) -> None:
    window = bench.window
    window.setMinimumSize(600, 400)  # as a window on a screen that is smaller than the least size does
    window.resize(width, 500)
    bench.until(lambda: window.width() == width)
    foot = window.foot

    def lie_apart() -> bool:
        shown = sorted(
            (w.geometry() for w in foot.children() if isinstance(w, QWidget) and w.isVisible()), key=lambda g: g.x()
        )
        apart = all(a.right() < b.x() for a, b in itertools.pairwise(shown))
        return apart and len(shown) == parts and shown[-1].right() < foot.width()

    bench.until(lie_apart, 5.0)


DIALOGS: tuple[tuple[str, str], ...] = (
    ("choose_recipe", "recipes"), ("save_recipe", "keeping"), ("show_print", "printing"), ("edit_target", "target_editor"),
    ("show_sound", "sound"), ("show_figures", "figures"), ("find_original", "finding"), ("show_storage", "storage"),
    ("show_help", "help"), ("show_keys", "keys"),
)  # fmt: skip


@pytest.mark.parametrize(("door", "name"), DIALOGS)
def test_dialogs_show_their_words_whole_and_close_with_escape(bench: Person, door: str, name: str) -> None:
    bench.window.session.repairs.add_tool("noise", on_selection=False)
    bench.settle()
    getattr(bench.window.dialogs, door)()
    dialog = getattr(bench.window.dialogs, name)
    bench.until(dialog.isVisible)
    bench.settle()
    nothing_cut_off(bench, dialog)
    assert dialog.windowTitle()
    unnamed = [
        w
        for w in dialog.findChildren(QWidget)
        if w.isVisible()
        and w.focusPolicy() & Qt.FocusPolicy.TabFocus
        and not (w.accessibleName() or getattr(w, "text", str)())
    ]
    assert [type(w).__name__ for w in unnamed if type(w).__name__ not in ("QScrollArea", "QLineEdit")] == []
    closed: list[int] = []
    dialog.finished.connect(closed.append)
    bench.bot.keyClick(dialog, Qt.Key.Key_Escape)
    bench.until(lambda: closed)


HEAVY = (
    (Stage, "_render"),
    (Stage, "learn"),
    (blocks, "measure_block"),
    (inspection_service, "inspect"),
    (survey_service, "harm"),
)


@pytest.mark.slow
def test_nothing_heavy_is_done_by_the_windows_thread(
    bench: Person, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """While scrolling, zooming, playing, editing, inspecting and delivering; how long its turns are prints benchmarks/turns.py."""
    window, session, axis = bench.window, bench.window.session, bench.window.bench.axis
    done: list[tuple[str, bool]] = []  # what, and whether by the window's thread

    def told(name: str, work: Callable[..., object]) -> Callable[..., object]:
        def worked(*args: object, **named: object) -> object:
            done.append((name, threading.current_thread() is threading.main_thread()))
            return work(*args, **named)

        return worked

    for home, name in HEAVY:
        monkeypatch.setattr(home, name, told(name, getattr(home, name)))
    session.repairs.add_tool("noise", on_selection=False)
    axis.show_span(RATE, 4 * RATE)
    for n in range(40):
        axis.scroll(12 if n < 20 else -12)
        bench.bot.wait(1)
    for factor in (1.5, 1.5, 1 / 1.5, 1 / 1.5):
        axis.zoom(factor, 300)
        bench.bot.wait(10)
    session.play_or_stop()
    bench.bot.wait(300)
    session.play_or_stop()
    for n in range(12):
        session.document.change_settings(session.current_id, session.step_id, reduction_db=6.0 + n)
        bench.bot.wait(1)
    for tool in ("hum", "equaliser", "limiter"):
        session.repairs.add_tool(tool, on_selection=False)
        bench.bot.wait(40)
    window.inspect()
    bench.settle()
    window.go_to(2)
    window.delivery.deliver_to(tmp_path / "out.wav")
    bench.until(lambda: not session.queue.is_working)
    bench.settle()
    assert {name for name, _ in done} >= {"_render", "learn", "measure_block", "inspect"}  # harm comes in some runs
    assert [name for name, here in done if here] == []


def test_the_name_of_every_setting_fits_beside_its_control(qapp) -> None:
    metrics = QFontMetricsF(font(13))
    long = {
        d.label: round(metrics.horizontalAdvance(d.label))
        for tool in ALL
        for d in declared(tool.settings).values()
        if not isinstance(d, Switch) and metrics.horizontalAdvance(d.label) > NAME_WIDTH
    }
    assert long == {}
