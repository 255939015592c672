# SPDX-License-Identifier: GPL-3.0-or-later
"""What is kept between paintings shows what a fresh painting would show; views take turns."""

from __future__ import annotations

import random
import time
from collections.abc import Callable

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QRect, QRectF
from PySide6.QtGui import QColor, QImage, QPainter, QPaintEvent
from PySide6.QtWidgets import QApplication, QWidget
from tests.desktop.conftest import Person

from pulizia.audio.spans import Span
from pulizia.desktop.bench.tiles import PATIENCE_S, TILE_COLUMNS, Place, Tiles
from pulizia.desktop.bench.time_axis import GUTTER
from pulizia.desktop.strokes import polygon
from pulizia.desktop.theme import colour, theme, use_theme
from pulizia.desktop.turns import update_in_turn
from pulizia.session.jobs import Job

TOOLS = ("noise", "equaliser", "limiter", "level", "polarity", "gate", "leveller")


def picture_of(view: QWidget) -> QImage:
    return view.grab().toImage().convertToFormat(QImage.Format.Format_RGB32)


@pytest.mark.slow
@pytest.mark.parametrize("seed", [1, 2])
def test_the_strips_that_are_kept_are_those_that_a_fresh_painting_makes(bench: Person, seed: int) -> None:
    """Steps come and go, are switched, moved and marked, the view scrolls, the theme changes."""
    rng, window = random.Random(seed), bench.window
    session, score, axis = window.session, window.bench.score, window.bench.axis
    document, name = session.document, theme().name

    def some() -> str:
        return rng.choice(session.recording.score).id

    deeds = (
        lambda: session.repairs.add_tool(rng.choice(TOOLS), on_selection=False),
        lambda: document.remove_step(session.current_id, some()),
        lambda: document.set_enabled(session.current_id, some(), enabled=rng.random() < 0.5),
        lambda: document.move_step(session.current_id, some(), 0),
        lambda: session.choose_step(some()),
        document.undo,
        lambda: axis.zoom(rng.choice((0.5, 2.0)), 200),
        lambda: axis.scroll(rng.randrange(-300, 300)),
        lambda: use_theme(rng.choice(("linen", "lamplight"))),
    )
    for _ in range(5):
        deeds[0]()
    for n in range(20):
        if not session.recording.score:
            deeds[0]()
        picture_of(score)
        rng.choice(deeds)()
        if n % 8:
            bench.bot.wait(15)
        else:
            bench.settle()  # now and then all that was asked for has come
        while True:
            for _ in range(len(score.steps) + 2):  # rows that have to wait for their turn
                kept = picture_of(score)
            score._strips._layer = None
            if kept == picture_of(score):
                break
            assert session.pool.busy, "nothing came between the two that could make them differ"
            bench.bot.wait(15)
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
    window, session = bench.window, bench.window.session
    window.resize(1280, 700)
    for tool in ("level", "limiter") * 8:
        session.repairs.add_tool(tool, on_selection=False)
    bench.settle()
    bench.bot.wait(300)
    area = window.bench._score_area
    assert window.bench.score.height() > area.viewport().height()
    screen = QApplication.primaryScreen().grabWindow(window.winId()).toImage()
    corner = area.viewport().mapTo(window, QPoint(GUTTER + 30, 4))
    column = {screen.pixelColor(corner.x(), corner.y() + y).name() for y in range(area.viewport().height() - 8)}
    assert len(column) > 4


class HeldPool:
    """Work that is only done when it is let go."""

    def __init__(self) -> None:
        self.held: list[tuple[Callable[[Job], object], Callable[..., None]]] = []

    def submit(self, work: Callable[[Job], object], *, on_done: Callable[..., None], **_given: object) -> Job:
        self.held.append((work, on_done))
        return Job(lambda _job: None, "")

    def let_go(self) -> None:
        for work, done in self.held:
            done(work(Job(lambda _job: None, "")))
        self.held.clear()


def drawn(tiles: Tiles, content: str, code: int, table: list[int]) -> QImage:
    """What a view of one tile's width shows."""

    def work_of(_place: Place) -> Callable[[Job], QImage]:
        def work(_job: Job) -> QImage:
            image = QImage(TILE_COLUMNS, 40, QImage.Format.Format_Indexed8)
            image.setColorTable(table)
            image.fill(code)
            return image

        return work

    shown = QImage(TILE_COLUMNS, 40, QImage.Format.Format_RGB32)
    painter = QPainter(shown)
    tiles.draw(painter, QRectF(0, 0, TILE_COLUMNS, 40), 0.0, 1.0, lambda place: (content, place), work_of)
    painter.end()
    return shown


def test_what_stands_in_for_a_late_picture_is_shown_as_that(qapp) -> None:
    pool, table = HeldPool(), [QColor("#ffffff").rgba(), QColor("#204060").rgba()]
    tiles = Tiles(pool, lambda: None)
    drawn(tiles, "one", 1, table)
    pool.let_go()
    first = drawn(tiles, "one", 1, table)
    assert first.pixelColor(100, 20).name() == "#204060"
    early = drawn(tiles, "two", 1, table)  # the sound has changed: the last picture stands in, as it is
    assert early == first
    time.sleep(PATIENCE_S + 0.05)
    late = drawn(tiles, "two", 1, table)
    assert late.pixelColor(100, 20).lightness() > first.pixelColor(100, 20).lightness() + 30
    assert late.pixelColor(100, 39) == colour("ochre")
    pool.let_go()
    assert drawn(tiles, "two", 1, table) == first
    assert not pool.held


def test_a_picture_on_its_way_takes_the_colours_that_hold_when_it_comes(qapp) -> None:
    pool, table = HeldPool(), [QColor("#ffffff").rgba(), QColor("#204060").rgba()]
    tiles = Tiles(pool, lambda: None)
    drawn(tiles, "one", 1, table)
    tiles.recoloured([QColor("#000000").rgba(), QColor("#a0c0e0").rgba()])
    pool.let_go()
    assert drawn(tiles, "one", 1, table).pixelColor(100, 20).name() == "#a0c0e0"


def test_a_strip_is_named_where_it_can_be_read(bench: Person) -> None:
    session, view = bench.window.session, bench.window.bench.score
    rate = bench.recording.rate
    session.repairs.add_tool("hum", on_selection=False)
    step = session.step.id
    short, long = Span(0, rate // 5), Span(2 * rate, 4 * rate)
    session.document.set_spans(bench.recording.id, step, (short, long))
    bench.settle()
    plan = view.plan
    assert plan.label_box(0).left() == pytest.approx(plan.strip_box(0, long).left(), abs=1)
    bench.window.bench.axis.show_span(4.5 * rate, 5 * rate)
    bench.settle()
    plan = view.plan
    assert plan.out_of_view(0) == long
    right_of = view.grab(plan.row_box(0).toRect()).toImage()
    left = [right_of.pixelColor(x, right_of.height() // 2).name() for x in range(160)]
    assert len(set(left)) > 3  # its name and time stand at the edge on that side
    session.document.set_spans(
        bench.recording.id, step, (Span(4 * rate + rate // 2, 4 * rate + rate // 2 + rate // 50),)
    )
    bench.settle()
    box = view.plan.label_box(0)
    beside = view.grab(QRect(int(box.right()) + 6, int(box.top()), 40, int(box.height()))).toImage()
    tones = {beside.pixelColor(x, y).name() for x in range(40) for y in range(beside.height())}
    assert len(tones) > 3
