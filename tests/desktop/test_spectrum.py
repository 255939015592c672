# SPDX-License-Identifier: GPL-3.0-or-later
"""The spectrum, figures of a passage, the read-out of the sonogram, and listening to sides."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QApplication
from tests.conftest import voice_in_noise
from tests.desktop.conftest import Person, move

from pulizia.desktop.bench.time_axis import GUTTER

RATE = 48_000


def test_spectrum_shows_the_selection_reads_out_compares_freezes_and_exports(bench: Person, tmp_path: Path) -> None:
    view = bench.window.bench.spectrum
    bench.mark(1.2, 2.4)
    bench.until(lambda: view.plot.found is not None and "selection" in view._title.text())
    bench.settle()
    strongest = view.plot.found.hz[np.argmax(view.plot.found.average)]
    assert 100 < strongest < 700
    at = float(view.plot._x(strongest))
    move(view.plot, QPointF(at, 40))
    assert "Hz" in view.read_out.text()
    assert view.plot.hz_at(at) == pytest.approx(strongest, rel=0.02)
    bench.click(view.keep_button)
    kept = view.plot.kept
    bench.mark(0.1, 0.9)
    bench.until(lambda: view.plot.found.average.max() < 1e-4)
    assert view.plot.kept is kept
    bench.key(Qt.Key.Key_F)
    found = view.plot.found
    bench.mark(1.2, 2.4)
    bench.bot.wait(150)
    bench.settle()
    assert view.plot.found is found
    bench.key(Qt.Key.Key_F)
    for changes in (
        {"bands": 3},
        {"bands": 0, "linear": True},
        {"tilt_db": 4.5, "reference": "speech"},
        {"size": 1024, "window": "flat_top"},
    ):
        view.choose(**changes)
        bench.bot.wait(120)
        bench.settle()
        view.plot.grab()
    view.export(tmp_path / "s.csv")
    assert (tmp_path / "s.csv").read_text().count("\n") == 1024 // 2 + 2
    view.export(tmp_path / "s.png")
    assert (tmp_path / "s.png").stat().st_size > 1000
    view.export(tmp_path / "no" / "s.csv")
    assert "does not exist" in bench.said


def test_the_sheet_takes_the_room_of_a_spectrum_that_lies_over_the_sonogram(bench: Person) -> None:
    window, place = bench.window, bench.window.bench
    window.session.repairs.add_tool("hum", on_selection=False)
    bench.settle()

    def left() -> int:
        foot = place.sheet.foot
        return place.height() - foot.mapTo(place, foot.rect().bottomLeft()).y() - 1

    small = left()
    bench.key(Qt.Key.Key_S)
    bench.until(lambda: left() == 0)
    assert place.large_spectrum.isVisible()
    bench.key(Qt.Key.Key_S)
    bench.until(lambda: left() == small > 150)
    assert place.spectrum.isVisible()


def test_live_spectrum_follows_the_play_head(bench: Person) -> None:
    view = bench.window.bench.spectrum
    bench.window.session.transport.seek(RATE)
    bench.click(bench.window.foot.play)
    seen = set()

    def several() -> bool:
        if view.plot.found is not None:
            seen.add(float(view.plot.found.average.sum()))
        return len(seen) > 3

    bench.until(several)
    assert "playhead" in view._title.text()


def test_figures_of_the_selection_are_shown_and_copied(bench: Person) -> None:
    bench.mark(0.1, 0.9)
    bench.key(Qt.Key.Key_I, Qt.KeyboardModifier.ShiftModifier)
    dialog = bench.window.dialogs.figures
    bench.until(lambda: dialog.rows)
    values = {row.name: row.value for row in dialog.rows}
    assert values["RMS"] == pytest.approx(-56, abs=0.3)
    assert values["Length"] == pytest.approx(0.8, abs=0.03)
    bench.click(dialog.copy_button)
    assert "RMS\t\u221256" in QApplication.clipboard().text()
    dialog.accept()


def test_the_sonogram_reads_out_level_and_note_and_shows_harmonics(person: Person, wav: Callable[..., Path]) -> None:
    t = np.arange(4 * RATE) / RATE
    tone = 0.1 * np.sin(2 * np.pi * 440 * t) + 0.01 * np.sin(2 * np.pi * 880 * t)
    person.open(wav(tone[None].astype(np.float32), "tone.wav"))
    view = person.window.bench.sonogram
    view.grab()
    person.settle()
    view.grab()
    place = QPointF(person.at_time(view, 2.0).x(), view.scale.row_of_hz(440))
    person.bot.mouseMove(view, place.toPoint())
    view.hover(place)
    text = person.window.top.read_out.text()
    assert "A4" in text
    assert view.level_at(place.x() - GUTTER, place.y()) == pytest.approx(
        -20, abs=1.6
    )  # between bins it reads up to 1.4 dB low (Hann)
    assert view.level_at(place.x() - GUTTER, view.scale.row_of_hz(880)) == pytest.approx(-40, abs=1.6)
    before = view.grab().toImage()
    person.key(Qt.Key.Key_H)
    view.hover(place)
    after = view.grab().toImage()
    row = int(view.scale.row_of_hz(1320))
    dark = lambda image: sum(image.pixelColor(x, row).lightness() < 120 for x in range(300, 500))  # noqa: E731
    assert dark(after) > dark(before) + 50


def test_left_right_mid_and_side_are_heard_without_touching_the_pictures(
    person: Person, wav: Callable[..., Path]
) -> None:
    samples = voice_in_noise(2.0, channels=2) * np.array([[1.0], [0.25]], np.float32)
    person.open(wav(samples, "two.wav", subtype="FLOAT"))
    session = person.window.session
    left, right = session.chain.before.read(0, 500)
    for key, expected in (
        (Qt.Key.Key_5, left),
        (Qt.Key.Key_6, right),
        (Qt.Key.Key_7, (left + right) / 2),
        (Qt.Key.Key_8, (left - right) / 2),
        (Qt.Key.Key_9, left + right),
    ):
        person.key(key)
        heard = session.transport._material.source.read(0, 500)
        assert np.allclose(heard[0], expected, atol=1e-6)
        assert np.array_equal(heard[0], heard[1])
    assert session.heard_source is session.chain.after
    person.key(Qt.Key.Key_4)
    assert session.transport._material.source is session.chain.after
