# SPDX-License-Identifier: GPL-3.0-or-later
"""Tools of other packages in the window: one that fails, and one that is not installed."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from PySide6.QtWidgets import QLabel
from tests.cli.test_commands import run
from tests.desktop.conftest import Person

from pulizia.audio.samples import Samples
from pulizia.errors import AnalysisError
from pulizia.project.file import load_project
from pulizia.tools import extensions, registry
from pulizia.tools.base import AnyTool, Block, Tool
from pulizia.tools.extensions import failure_of, guarded
from pulizia.tools.registry import tool_of


def _fails(_block: Block, _settings: object, _analysis: object) -> Samples:
    message = "nothing goes into nothing"
    raise ZeroDivisionError(message)


@pytest.fixture
def bad(monkeypatch: pytest.MonkeyPatch) -> AnyTool:
    """A tool of another package that cannot even name itself."""
    tool = guarded(
        Tool(
            id="bad", title="Bad", summary="Fails.", settings=tool_of("level").settings, order=50, process=_fails,
            caption=lambda settings: str(settings.nothing),
        )
    )  # fmt: skip
    registry._BY_ID["bad"] = tool  # and stays: the window that closes later still asks for it
    monkeypatch.setattr(extensions, "_failures", {})
    return tool


def test_a_tool_that_fails_is_switched_off_and_says_so(bad: AnyTool, bench: Person) -> None:
    session = bench.window.session
    session.document.add_step(session.current_id, bad.id, {})
    bench.settle()
    with pytest.raises(AnalysisError, match=r"Bad is switched off: it failed \(ZeroDivisionError"):
        session.chain.after.read(0, 4800)
    assert failure_of("bad")
    session.choose_step(session.recording.score[-1].id)
    bench.settle()
    assert any("Bad is switched off" in label.text() for label in bench.window.findChildren(QLabel))
    assert bench.window.isVisible()


def test_a_project_keeps_the_steps_of_a_tool_that_is_not_installed(
    bench: Person, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    session = bench.window.session
    session.document.add_step(session.current_id, "level", {"gain_db": 3.0, "way": "gain"})
    path = tmp_path / "p.pulizia"
    session.document.save(path)
    content = json.loads(path.read_text())
    text = path.read_text().replace('"level"', '"of_another_house"')
    assert text != path.read_text()
    path.write_text(text)
    project = load_project(path)
    step = project.recordings[0].score[-1]
    assert (step.tool.title, step.tool.caption(step.settings)) == ("Of another house", "not installed")
    bench.window.files.open_paths([path])
    bench.settle()
    assert session.recording.score[-1].tool_id == "of_another_house"
    again = tmp_path / "again.pulizia"
    session.document.save(again)
    before, after = (c["recordings"][0]["score"][-1] for c in (content, json.loads(again.read_text())))
    assert after == before | {"tool": "of_another_house"}
    code, _, err = run(capsys, "render", again, "-o", tmp_path / "r.wav")
    assert code == 1
    assert "The tool of_another_house is not installed." in err
