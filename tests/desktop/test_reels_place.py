# SPDX-License-Identifier: GPL-3.0-or-later
"""A programme in reels through the window: offered where there are reels, delivered, asked before anything is replaced, rendered."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest
import soundfile
from PySide6.QtWidgets import QFileDialog, QMessageBox
from tests.desktop.conftest import Person
from tests.desktop.test_assembly_keys import do

from pulizia.audio.markers import Marker

RATE = 48_000


def test_a_programme_is_delivered_and_rendered_reel_by_reel(
    place: Person, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    session, orders = place.window.session, place.window.delivery.orders
    place.window.go_to(2)
    place.settle()
    assert not orders.reels_box.isVisible()  # nothing says where a reel begins
    reels = (Marker(0, "Reel 1", kind="reel"), Marker(10 * RATE, "Reel 2", kind="reel"))
    session.assembly.apply(lambda p: replace(p, name="Film", markers=reels), "Reels")
    place.settle()
    orders.refresh()
    assert orders.reels_box.isVisible()
    orders.reels_box.setCurrentIndex(1)
    orders.reels_box.activated.emit(1)
    assert "a file for each reel" in orders.deliverable().words
    out = tmp_path / "out"
    out.mkdir()
    place.window.delivery.ask_into(out)
    place.until(lambda: session.queue.orders and not session.queue.is_working, 60)
    done = session.queue.orders[0].delivered
    assert done is not None
    assert [p.name for p in done.files] == ["Film-ebu-r128-Reel 1.wav", "Film-ebu-r128-Reel 2.wav"]
    assert [round(soundfile.info(p).duration, 3) for p in done.files] == [10.0, 8.0]
    assert done.verified.integrated_lufs == pytest.approx(-23.0, abs=0.1)
    assert place.said.startswith("2 files delivered to")
    seen: list[str] = []
    monkeypatch.setattr(QMessageBox, "exec", lambda box: seen.append(box.text() + box.informativeText()) or 0)
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(out))
    place.window.delivery.ask_and_deliver()  # both are there: it is asked, and without an answer nothing is queued
    assert seen
    assert len(session.queue.orders) == 1
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(tmp_path))
    place.window.go_to(1)
    do(place, "programme_reels")
    place.settle()
    assert (tmp_path / "Film-Reel 1.wav").exists()
    assert soundfile.info(tmp_path / "Film-Reel 2.wav").frames == 8 * RATE
