# SPDX-License-Identifier: GPL-3.0-or-later
"""The folder in which a dialog proposes to write."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from tests.conftest import voice_in_noise
from tests.desktop.conftest import Person

from pulizia.desktop.demo import demo_files
from pulizia.desktop.folders import proposed_folder


def test_it_is_that_of_the_project_or_recording_and_never_the_programs_own(
    person: Person, wav: Callable[..., Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("HOME", str(tmp_path / "home"))
    session = person.window.session
    assert proposed_folder(session) == tmp_path / "home"
    person.open(demo_files()[0])
    assert proposed_folder(session) == tmp_path / "home"
    path = wav(voice_in_noise(1.0), "talk.wav")
    person.open(path)
    assert proposed_folder(session) == path.parent
    assert proposed_folder(session, session.document.project.recordings[0]) == path.parent
    (tmp_path / "jobs").mkdir()
    session.document.save(tmp_path / "jobs" / "museum.pulizia")
    assert proposed_folder(session) == tmp_path / "jobs"
