# SPDX-License-Identifier: GPL-3.0-or-later
"""What is kept in circles is let go at rest, and after a while also where somebody works without a rest."""

from __future__ import annotations

import threading
import weakref

import pytest
from tests.desktop.conftest import Person

from pulizia.desktop import start


class Circle:
    """Something that holds itself."""

    def __init__(self) -> None:
        self.me = self


def test_circles_are_let_go_at_rest_and_after_a_while_also_at_work(
    person: Person, monkeypatch: pytest.MonkeyPatch
) -> None:
    timer = start.collect_at_rest(person.window)
    timer.stop()

    def is_kept() -> bool:
        circle = weakref.ref(Circle())
        timer.timeout.emit()
        return circle() is not None

    assert not is_kept()
    done = threading.Event()
    person.window.session.pool.submit(lambda _job: done.wait(20), title="Work")
    try:
        person.until(lambda: person.window.session.pool.busy)
        assert is_kept()
        monkeypatch.setattr(start, "LONGEST_WITHOUT_S", 0.0)
        assert not is_kept()
    finally:
        done.set()
