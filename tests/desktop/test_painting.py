# SPDX-License-Identifier: GPL-3.0-or-later
"""What is kept between paintings shows what a fresh painting would show; views take turns."""

from __future__ import annotations

import random

import numpy as np
import pytest
from PySide6.QtCore import QPoint
from PySide6.QtGui import QImage, QPainter, QPaintEvent
from PySide6.QtWidgets import QApplication, QWidget
from tests.desktop.conftest import Person

from pulizia.desktop.bench.time_axis import GUTTER
from pulizia.desktop.strokes import polygon
from pulizia.desktop.theme import theme, use_theme
from pulizia.desktop.turns import update_in_turn

TOOLS = ("noise", "equaliser", "limiter", "level", "polarity", "gate", "leveller")


def picture_of(view: QWidget) -> QImage:
    return view.grab().toImage().convertToFormat(QImage.Format.Format_RGB32)


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_the_strips_that_are_kept_are_those_that_a_fresh_painting_makes(bench: Person, seed: int) -> None:
    """Steps come and go, are switched, moved and marked, the view scrolls, the theme changes."""
    rng, window = random.Random(seed), bench.window
    studio, score, axis = window.studio, window.bench.score, window.bench.axis
    document, name = studio.document, theme().name

    def some() -> str:
        return rng.choice(studio.recording.score).id

    deeds = (
        lambda: studio.repairs.add_tool(rng.choice(TOOLS), on_selection=False),
        lambda: document.remove_step(studio.current_id, some()),
        lambda: document.set_enabled(studio.current_id, some(), enabled=rng.random() < 0.5),
        lambda: document.move_step(studio.current_id, some(), 0),
        lambda: studio.choose_step(some()),
        document.undo,
        lambda: axis.zoom(rng.choice((0.5, 2.0)), 200),
        lambda: axis.scroll(rng.randrange(-300, 300)),
        lambda: use_theme(rng.choice(("linen", "lamplight"))),
    )
    for _ in range(5):
        deeds[0]()
    for n in range(40):
        if not studio.recording.score:
            deeds[0]()
        picture_of(score)
        rng.choice(deeds)()
        bench.bot.wait(15 if n % 8 else 800)  # now and then all that was asked for has come
        for _ in range(len(score.steps) + 2):  # rows that have to wait for their turn
            kept = picture_of(score)
        score._strips._layer = None
        assert kept == picture_of(score)
    use_theme(name)


class Slow(QWidget):
    """Counts its paintings, and in which turn of the event loop they fell."""

    painted: list[str]

    def paintEvent(self, _event: QPaintEvent) -> None:  # noqa: N802 - Qt's name
        self.painted.append(self.objectName())


def test_views_that_ask_together_are_painted_one_after_the_other_and_once(qtbot) -> None:
    place, painted = QWidget(), []
    place.resize(90, 30)
    qtbot.addWidget(place)
    views = []
    for n in range(3):
        view = Slow(place)
        view.painted = painted
        view.setObjectName(str(n))
        view.setGeometry(30 * n, 0, 30, 30)
        views.append(view)
    place.show()
    qtbot.waitUntil(lambda: set(painted) == {"0", "1", "2"})
    painted.clear()
    update_in_turn(*reversed(views))
    update_in_turn(views[0], views[0])
    assert painted == []  # nothing at once
    qtbot.waitUntil(lambda: len(painted) >= 3)
    qtbot.wait(30)
    assert painted == ["2", "1", "0"]


def test_a_view_that_is_gone_or_hidden_before_its_turn_is_left_out(qtbot) -> None:
    place = QWidget()
    qtbot.addWidget(place)
    place.show()
    gone, hidden = QWidget(place), QWidget(place)
    hidden.hide()
    update_in_turn(gone, hidden, place)
    gone.setParent(None)
    gone.deleteLater()
    qtbot.wait(30)


@pytest.mark.parametrize("count", [0, 1, 2, 480])
def test_a_polygon_read_as_a_stream_holds_its_points(count: int) -> None:
    rng = np.random.default_rng(count)
    x, y = rng.normal(0, 300, count), rng.normal(0, 300, count)
    made = polygon(x, y)
    assert made.size() == count
    assert [(p.x(), p.y()) for p in made.toList()] == list(zip(x.tolist(), y.tolist(), strict=True))


def test_a_curve_is_drawn_where_its_points_lie(qtbot) -> None:
    image = QImage(50, 20, QImage.Format.Format_RGB32)
    image.fill(0xFFFFFF)
    painter = QPainter(image)
    painter.drawPolyline(polygon([5, 45], [10, 10]))
    painter.end()
    dark = [x for x in range(50) if image.pixelColor(x, 10).lightness() < 128]
    assert (dark[0], dark[-1]) == (5, 45)
    assert all(image.pixelColor(x, y).lightness() > 128 for x in range(50) for y in (8, 12))


def test_a_score_that_scrolls_is_painted(bench: Person) -> None:
    """What is on the screen, not what a fresh painting gives: the view shows a part of the score only."""
    window, studio = bench.window, bench.window.studio
    window.resize(1280, 700)
    for tool in ("level", "limiter") * 8:
        studio.repairs.add_tool(tool, on_selection=False)
    bench.settle()
    bench.bot.wait(300)
    area = window.bench._score_area
    assert window.bench.score.height() > area.viewport().height()
    screen = QApplication.primaryScreen().grabWindow(window.winId()).toImage()
    corner = area.viewport().mapTo(window, QPoint(GUTTER + 30, 4))
    column = {screen.pixelColor(corner.x(), corner.y() + y).name() for y in range(area.viewport().height() - 8)}
    assert len(column) > 4
