# SPDX-License-Identifier: GPL-3.0-or-later
"""Work that somebody waits for is shown with its share, in every language, and stops when it is asked to."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PySide6.QtWidgets import QApplication
from tests.conftest import voice_in_noise
from tests.desktop.conftest import Person

from pulizia.desktop.language import use_language
from pulizia.session import file_service, inspection_service


def endless(progress: Callable[[float], None]) -> None:
    """Tells 40 % until it is stopped, as often as it can."""
    while True:
        progress(0.4)


@pytest.fixture
def german() -> Iterator[None]:
    use_language("de")
    yield
    use_language("en")


def test_trying_treatments_is_shown_and_can_be_stopped(bench: Person, monkeypatch: pytest.MonkeyPatch) -> None:
    window, findings = bench.window, bench.window.bench.list.findings
    window.session.inspection.run()
    bench.until(window.session.inspection.entries)
    bench.settle()
    monkeypatch.setattr(
        inspection_service, "treatment", lambda *_args, progress, **_more: endless(lambda share: progress(share, "x"))
    )
    name = window.top.name.text()
    bench.click(findings.all_button)
    bench.until(lambda: window.top.name.text() == "Trying treatments… 40 %")
    assert window.top.stop.isVisible()
    assert not findings.all_button.isEnabled()
    assert QApplication.focusWidget() is None  # the next control is no better a place than any other
    bench.click(window.top.stop)
    bench.until(findings.all_button.isEnabled)
    assert bench.said == "Trying treatments was stopped. No step was added."
    assert window.top.name.text() == name
    assert not window.top.stop.isVisible()
    assert QApplication.focusWidget() is None
    assert bench.recording.score == ()


def test_files_that_open_are_shown_in_another_language_too(
    german: None, bench: Person, wav: Callable[..., Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    window = bench.window
    monkeypatch.setattr(file_service, "open_media", lambda _path, progress: endless(progress))
    window.files.open_paths([wav(voice_in_noise(1.0), "zwei.wav"), wav(voice_in_noise(1.0), "drei.wav")])
    bench.until(lambda: window.top.name.text() == "zwei.wav wird geöffnet… 40 %")
    bench.click(window.top.stop)
    bench.until(lambda: not window.session.pool.busy)
    assert "angehalten" in bench.said
    assert len(window.session.document.project.recordings) == 1
    assert window.top.name.text() == "take"


def test_files_that_open_quickly_one_after_the_other_are_one_wait(
    person: Person, wav: Callable[..., Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    opened, pause = file_service.open_media, threading.Event()

    def slowly(path: Path, progress: Callable[[float], None]):
        pause.wait(0.1)
        return opened(path, progress)

    monkeypatch.setattr(file_service, "open_media", slowly)
    person.window.files.open_paths([wav(voice_in_noise(1.0), f"q{n}.wav") for n in range(8)])
    person.until(lambda: person.window.top.name.text().startswith("Opening q"))
    assert person.window.top.stop.isVisible()
    person.until(lambda: len(person.window.session.document.project.recordings) == 8)
    person.until(lambda: person.window.top.name.text() == "q0")


def test_other_work_stops_with_its_name_and_short_work_is_not_shown(bench: Person) -> None:
    window = bench.window
    done: list[object] = []
    window.session.job(lambda job: endless(job.progress), "Lining up", done.append)
    assert window.top.name.text() == "take"  # not for a moment
    bench.until(lambda: window.top.name.text() == "Lining up… 40 %")
    bench.click(window.top.stop)
    bench.until(lambda: not window.session.pool.busy)
    assert bench.said == "Lining up: stopped."
    window.session.job(lambda _job: 7, "Short", done.append)
    bench.until(lambda: done)
    assert (done, window.top.name.text()) == ([7], "take")
