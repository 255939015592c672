# SPDX-License-Identifier: GPL-3.0-or-later
"""The lanes move their pictures along when they scroll: what is seen is what a view shows that draws all of it anew."""

from __future__ import annotations

import os
import subprocess
import sys

import numpy as np
import pytest
from numpy.typing import NDArray
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QImage
from tests.desktop.conftest import Person
from tests.desktop.test_assembly_place import at, clips, drag

from pulizia.desktop.assembly.lanes_view import LanesView

RATE = 48_000
TRIES = 10


def pixels(view: LanesView) -> NDArray[np.uint8]:
    """(height, width, 3) of what the view shows, once none of its pictures waits for its turn."""
    seen: list[NDArray[np.uint8]] = []
    while len(seen) < 3 or not all(np.array_equal(seen[-1], one) for one in seen[-3:-1]):
        image = view.grab().toImage().convertToFormat(QImage.Format.Format_RGB32)
        seen.append(np.array(image.constBits()).reshape(image.height(), image.width(), 4)[..., :3])
        assert len(seen) < 60
    return seen[-1]


def assert_as_drawn_anew(person: Person) -> None:
    """Asked again while pictures are still on their way: each paint draws no more than its time allows."""
    for _ in range(TRIES):
        shown, expected = as_shown_and_as_drawn_anew(person)
        different = np.argwhere((shown != expected).any(axis=-1))
        if not len(different):
            break
        person.settle()
    assert shown.std() > 5
    assert len(different) == 0, f"{len(different)} pixels, from {different.min(axis=0)} to {different.max(axis=0)}"


def as_shown_and_as_drawn_anew(person: Person) -> tuple[NDArray[np.uint8], NDArray[np.uint8]]:
    view = person.window.assembly.lanes
    fresh = LanesView(person.window.session, view.axis, person.window.bench.pictures)
    fresh.resize(view.size())
    fresh.head_x, fresh.geometry_of.lane_height = view.head_x, view.geometry_of.lane_height
    try:
        return pixels(view), pixels(fresh)
    finally:
        fresh.deleteLater()


@pytest.fixture
def many(place: Person) -> Person:
    """The two clips cut into a dozen, one of them switched off."""
    session = place.window.session
    for second in (1, 2, 3, 5, 5.1, 8, 9, 11, 14, 16):
        session.seek(round(second * RATE))
        session.assembly.split()
    session.assembly.select({clips(place)[3].id})
    session.assembly.set_enabled()
    place.settle()
    return place


@pytest.mark.parametrize("span", [(3.0, 9.0), (0.0, 17.0), (8.2, 8.9)])  # some clips, all, less than one
def test_scrolling_shows_what_drawing_anew_would(many: Person, span: tuple[float, float]) -> None:
    view, axis = many.window.assembly.lanes, many.window.assembly.axis
    axis.show_span(span[0] * RATE, span[1] * RATE, 0.0)
    many.settle()
    assert_as_drawn_anew(many)
    for by in (9, 1, 130, -40, 0.4, -3.7, 5000, -200):
        axis.scroll(by)
        assert_as_drawn_anew(many)
    view.move_head(200)
    assert_as_drawn_anew(many)


def test_edits_choices_and_drags_are_seen_after_scrolling(many: Person) -> None:
    session, view, axis = many.window.session, many.window.assembly.lanes, many.window.assembly.axis
    axis.show_span(2 * RATE, 10 * RATE, 0.0)
    axis.scroll(17)
    assert_as_drawn_anew(many)
    deeds = {
        "another choice": lambda: session.assembly.select({clips(many)[4].id, clips(many)[9].id}),
        "a gain": lambda: session.assembly.add_gain(-6.0),
        "a cross-fade": session.assembly.cross_fade,
        "a move": lambda: session.assembly.move(RATE // 10),
        "undo": session.document.undo,
        "nothing chosen": lambda: session.assembly.select(()),
    }
    for deed in deeds.values():
        deed()
        axis.scroll(-13)
        assert_as_drawn_anew(many)
    many.bot.mousePress(view, Qt.MouseButton.LeftButton, pos=at(many, 6.5))
    still = pixels(view)
    many.bot.mouseMove(view, at(many, 6.5) + QPoint(15, 0))
    many.bot.mouseMove(view, at(many, 6.5) + QPoint(60, 0))
    held = pixels(view)
    many.bot.mouseRelease(view, Qt.MouseButton.LeftButton, pos=at(many, 6.5) + QPoint(60, 0))
    many.settle()
    assert_as_drawn_anew(many)
    assert (held != still).any(axis=-1).sum() > 200  # the clip has been seen to move
    drag(many, at(many, 3.5), at(many, 3.8))
    assert_as_drawn_anew(many)


def test_a_repair_is_seen_on_the_lanes(many: Person) -> None:
    view, axis = many.window.assembly.lanes, many.window.assembly.axis
    axis.show_span(2 * RATE, 10 * RATE, 0.0)
    before = pixels(view)
    recording = many.window.session.document.project.recordings[0]
    many.window.session.document.add_step(recording.id, "level", {"gain_db": -12.0})
    many.settle()
    assert_as_drawn_anew(many)
    assert not np.array_equal(before, pixels(view))


@pytest.mark.slow
def test_a_screen_of_a_fraction_of_pixels_shows_the_same() -> None:
    """All of this file at one and a half pixels for each: the toolkit takes the scale when it begins."""
    done = subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", "-k", "not fraction", __file__],
        env=os.environ | {"QT_SCALE_FACTOR": "1.5"},
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0, done.stdout[-2000:]
