# SPDX-License-Identifier: GPL-3.0-or-later
"""Two states of a step's settings, presets by name, and what always stays in view under the sheet."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtWidgets import QApplication
from tests.desktop.conftest import Person

from pulizia.desktop.typed_menu import TypedMenu
from pulizia.media.folders import config_folder
from pulizia.project.file import load_project

M = Qt.KeyboardModifier


def test_two_states_of_the_settings_are_compared_and_presets_kept(
    bench: Person, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    session, foot = bench.window.session, bench.window.bench.sheet.foot
    bench.mark(0.1, 0.9)
    bench.key(Qt.Key.Key_N)
    step, document = session.step, session.document
    learned = step.settings.profile_spans_s
    document.change_settings(bench.recording.id, step.id, reduction_db=6.0)
    bench.key(Qt.Key.Key_A, M.AltModifier)  # B begins as a copy
    assert foot.sides.accessibleDescription() == "B"
    assert session.step.settings.reduction_db == 6.0
    document.change_settings(bench.recording.id, step.id, reduction_db=18.0)
    for side, expected in (("A", 6.0), ("B", 18.0), ("A", 6.0)):
        width = foot.sides.width()
        place = QPoint(width // 4 if side == "A" else 3 * width // 4, foot.sides.height() // 2)
        bench.bot.mouseClick(foot.sides, Qt.MouseButton.LeftButton, pos=place)
        assert session.presets.side == side
        assert session.step.settings.reduction_db == expected
    bench.key(Qt.Key.Key_Z, M.ControlModifier)  # each switch is one edit
    assert session.step.settings.reduction_db == 18.0
    assert session.presets.side == "B"
    document.save(tmp_path / "p.pulizia")
    again = load_project(tmp_path / "p.pulizia").recordings[0].score[-1]
    assert (again.compared[0], again.compared[1].reduction_db) == ("B", 6.0)  # both states are in the file

    monkeypatch.setattr("PySide6.QtWidgets.QInputDialog.getText", lambda *_a, **_k: ("Strong", True))
    next(a for a in foot.presets_menu().actions() if a.text().startswith("Save as")).trigger()
    assert "Strong was saved" in bench.said
    document.change_settings(bench.recording.id, step.id, reduction_db=3.0)
    next(a for a in foot.presets_menu().actions() if a.text() == "Strong").trigger()
    assert session.step.settings.reduction_db == 18.0
    assert session.step.settings.profile_spans_s == learned  # what was learned here stays
    assert session.presets.names("hum") == []
    file = config_folder("presets") / "noise.json"
    assert "profile" not in file.read_text() or '"profile_spans_s": []' in file.read_text()
    file.write_text('{"Broken": {"reduction_db": "loud"}, "Odd": 3}')
    assert session.presets.names("noise") == ["Broken"]
    session.presets.apply("Broken")
    assert "Broken cannot be used" in bench.said
    assert session.step.settings.reduction_db == 18.0
    session.presets.remove("noise", "Broken")
    file.write_text("{")
    assert session.presets.names("noise") == []


def test_harm_and_where_a_step_acts_stay_in_view(bench: Person) -> None:
    session, sheet = bench.window.session, bench.window.bench.sheet
    bench.window.resize(1280, 800)
    session.repairs.add_tool("noise", on_selection=False)
    bench.until(lambda: not sheet.is_building)
    bench.settle()
    foot = sheet.foot
    shown = foot.mapTo(bench.window, QPoint(0, foot.height()))
    assert shown.y() < bench.window.foot.mapTo(bench.window, QPoint(0, 0)).y()
    assert foot.gauge.isVisible()
    assert not foot.only.isEnabled()
    bench.mark(1.0, 2.0)
    assert foot.only.isEnabled()
    bench.click(foot.only)
    assert [(s.start, s.stop) for s in session.step.spans] == [
        (session.selection.span.start, session.selection.span.stop)
    ]
    bench.click(foot.whole)
    assert session.step.spans is None
    # what Find settings changed is told, setting by setting, and taken back at once
    session.document.change_settings(bench.recording.id, session.step.id, reduction_db=2.0)
    session.document.history.settle()
    bench.key(Qt.Key.Key_U)
    bench.until(lambda: "Changed: " in bench.said)
    assert "was 2.0 dB" in bench.said
    bench.key(Qt.Key.Key_Z, M.ControlModifier)
    assert session.step.settings.reduction_db == 2.0


@pytest.mark.slow
def test_several_steps_are_switched_moved_copied_and_removed_together(bench: Person) -> None:
    session, score = bench.window.session, bench.window.bench.score
    for tool in ("hum", "clicks", "noise", "limiter"):
        session.repairs.add_tool(tool, on_selection=False)
    bench.settle()
    tools = lambda: [s.tool_id for s in bench.recording.score]  # noqa: E731
    assert tools() == ["clicks", "hum", "noise", "limiter"]
    place = lambda row: QPoint(400, round(score.plan.row_box(row).center().y()))  # noqa: E731
    left = Qt.MouseButton.LeftButton
    bench.bot.mouseClick(score, left, pos=place(0))
    bench.bot.mouseClick(score, left, M.ControlModifier, pos=place(2))
    assert [s.tool_id for s in session.steps_chosen] == ["clicks", "noise"]
    assert session.step.tool_id == "clicks"
    bench.key(Qt.Key.Key_E)
    assert [s.enabled for s in bench.recording.score] == [False, True, False, True]
    assert session.document.history.undo_label == "Switch 2 steps off"
    bench.key(Qt.Key.Key_E)
    bench.settle()
    bench.key(Qt.Key.Key_Down, M.ShiftModifier)
    assert tools() == ["hum", "limiter", "clicks", "noise"]
    bench.key(Qt.Key.Key_C, M.ControlModifier)
    bench.settle()
    bench.drag(score, place(2).toPointF(), place(0).toPointF() + QPointF(0, -14))
    assert tools() == ["clicks", "noise", "hum", "limiter"]
    bench.bot.mouseClick(score, left, pos=place(0))
    bench.bot.mouseClick(score, left, M.ShiftModifier, pos=place(2))
    assert [s.tool_id for s in session.steps_chosen] == ["clicks", "noise", "hum"]
    bench.key(Qt.Key.Key_Delete)
    assert tools() == ["limiter"]
    bench.key(Qt.Key.Key_V, M.ControlModifier)
    assert tools() == ["clicks", "noise", "limiter"]
    assert [s.tool_id for s in session.steps_chosen] == ["clicks", "noise"]
    bench.key(Qt.Key.Key_Z, M.ControlModifier)  # one edit
    assert tools() == ["limiter"]


def test_a_tool_is_found_by_what_is_typed_and_added_by_return_alone(bench: Person) -> None:
    def typed(words: str, *keys: Qt.Key) -> TypedMenu:
        if not isinstance(QApplication.activePopupWidget(), TypedMenu):
            bench.key(Qt.Key.Key_A)
            bench.until(lambda: isinstance(QApplication.activePopupWidget(), TypedMenu))
        menu = QApplication.activePopupWidget()
        bench.bot.keyClicks(menu, words)
        for key in keys:
            bench.bot.keyClick(menu, key)
        return menu

    def offered(menu: TypedMenu) -> list[str]:
        return [row.data() for row in menu.rows if row.isEnabled()]

    menu = typed("leveller")  # letters of its name, of which several are keys of the window
    assert (offered(menu), menu.activeAction().data()) == (["leveller"], "leveller")
    assert list(bench.recording.score) == []
    typed("", Qt.Key.Key_Return)
    bench.until(lambda: QApplication.activePopupWidget() is None)
    assert [s.tool_id for s in bench.recording.score] == ["leveller"]
    assert not bench.window.session.transport.is_playing

    menu = typed("P")
    assert set(offered(menu)) == {"polarity", "plosives"}
    assert offered(typed("l")) == ["plosives"]
    assert set(offered(typed("", Qt.Key.Key_Backspace))) == {"polarity", "plosives"}
    assert len(offered(typed("", Qt.Key.Key_Escape))) == len(menu.rows) > 20
    menu = typed("rev")
    assert offered(menu) == ["room_tail", "reverse"]  # reverb, or Reverse: the name comes first
    assert menu.activeAction().data() == "reverse"
    assert offered(typed("erb")) == ["room_tail"]
    typed("", Qt.Key.Key_Escape)
    assert offered(typed("fan")) == ["noise"]  # what a tool is against
    typed("xyz", Qt.Key.Key_Return)  # nothing is called so: nothing is added
    assert offered(menu) == []
    assert "fanxyz" in menu.words.text()
    typed("", Qt.Key.Key_Escape)
    assert offered(typed("room t")) == ["room_tail", "room_tone"]  # a space goes on with the name
    typed("", Qt.Key.Key_Down, Qt.Key.Key_Return)
    assert bench.window.session.step.tool_id == "room_tone"

    menu = typed("", Qt.Key.Key_Escape)
    bench.until(lambda: QApplication.activePopupWidget() is None)
    assert len(bench.recording.score) == 2
