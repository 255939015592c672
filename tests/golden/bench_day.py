# SPDX-License-Identifier: GPL-3.0-or-later
"""A day on the bench: steps, selections, listening, markers, presets, findings, printing and the way back."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import soundfile
from tests.golden.diary import Deeds, Diary, done, files, recording, s
from tests.golden.figures import digest

from pulizia.audio.spans import Span
from pulizia.delivery.deliverable import Deliverable
from pulizia.session.heard import Listening
from pulizia.session.orders import Order
from pulizia.session.plan_service import Aim
from pulizia.session.session import Session


def bench(folder: Path) -> dict[str, Any]:
    """Steps, selections, listening, markers, presets, findings, printing and the way back."""
    note, paths = Diary(folder), files(folder)
    deeds: Deeds = [
        ("nothing can be learned yet", lambda x: x.repairs.take_as_noise()),
        ("no recording, no recipe", lambda x: x.files.apply_recipe(folder / "none.json")),
        ("open two", lambda x: x.files.open_paths([paths["one"], paths["two"]])),
        ("a file that is not there", lambda x: x.files.open_paths([folder / "gone.wav"])),
        ("open the third", lambda x: x.files.open_paths([paths["three"]])),
        ("to the first", lambda x: x.choose_recording(recording(x, 0).id)),
        ("learn without a selection", lambda x: x.repairs.take_as_noise()),
        ("select too little", lambda x: x.select(s(0.2), s(0.22))),
        ("learn from too little", lambda x: x.repairs.take_as_noise()),
        ("select backwards", lambda x: x.select(s(0.9), s(0.1))),
        ("learn", lambda x: x.repairs.take_as_noise()),
        ("select more", lambda x: x.select(s(6.0), s(6.4))),
        ("learn more", lambda x: x.repairs.take_as_noise()),
        ("select a band", lambda x: x.select(s(1.0), s(1.5), (400.0, 2000.0))),
        ("the band alone", lambda x: x.toggle_only_band()),
        ("band up", lambda x: x.move_band(2)),
        ("band narrower", lambda x: x.widen_band(-1)),
        ("the band with the rest", lambda x: x.toggle_only_band()),
        ("as an area", lambda x: x.repairs.take_as_area()),
        ("an area without a selection", lambda x: x.repairs.take_as_area()),
        ("draw an outline", lambda x: x.select_outline(((2.0, 500.0), (2.2, 2500.0), (2.5, 700.0)))),
        ("a second area", lambda x: x.repairs.take_as_area()),
        ("select too much to mend", lambda x: x.select(s(3.0), s(3.2))),
        ("mend too much", lambda x: x.repairs.mend_selection()),
        ("select a click", lambda x: x.select(s(3.0), s(3.005))),
        ("mend it", lambda x: x.repairs.mend_selection()),
        ("select another", lambda x: x.select(s(3.02), s(3.026))),
        ("mend that as well", lambda x: x.repairs.mend_selection()),
        ("select one far away", lambda x: x.select(s(5.0), s(5.004))),
        ("mend what lies outside the step", lambda x: x.repairs.mend_selection()),
        ("hear before", lambda x: x.set_listening(Listening.BEFORE)),
        ("hear removed", lambda x: x.set_listening(Listening.REMOVED)),
        ("hear what the step removes", lambda x: x.set_listening(Listening.STEP)),
        ("the next step", lambda x: x.steps.choose(1)),
        ("beyond the last step", lambda x: x.steps.choose(5)),
        ("the first step", lambda x: x.steps.choose(-9)),
        ("hear after", lambda x: x.set_listening(Listening.AFTER)),
        ("not matched", lambda x: x.set_matched(False)),
        ("matched", lambda x: x.set_matched(True)),
        ("switch the step off", lambda x: x.steps.toggle()),
        ("switch it on", lambda x: x.steps.toggle()),
        ("move it down", lambda x: x.steps.move(1)),
        ("copy it", lambda x: x.steps.copy()),
        ("paste it everywhere", lambda x: x.steps.paste_everywhere()),
        ("back to one", lambda x: x.document.undo()),
        ("select two steps", lambda x: x.choose_steps([t.id for t in recording(x, 0).score[:2]])),
        ("both off", lambda x: x.steps.toggle()),
        ("both on", lambda x: x.steps.toggle()),
        ("one alone", lambda x: x.choose_step(recording(x, 0).score[1].id)),
        ("reach to the first", lambda x: x.steps.select(recording(x, 0).score[0].id, reach=True)),
        ("add by key", lambda x: x.steps.select(recording(x, 0).score[-1].id, add=True)),
        ("drop a step on top", lambda x: x.steps.drop(recording(x, 0).score[1].id, 0)),
        ("settings", lambda x: x.document.change_settings(x.current_id, _step(x, "noise"), reduction_db=9.0)),
        ("settings in a row", lambda x: x.document.change_settings(x.current_id, _step(x, "noise"), reduction_db=8.0)),
        ("let go", lambda x: x.document.history.settle()),
        ("to noise", lambda x: x.choose_step(_step(x, "noise"))),
        ("save as preset", lambda x: x.presets.save(" soft ")),
        ("side B", lambda x: x.presets.switch_side()),
        ("changed on side B", lambda x: x.document.change_settings(x.current_id, _step(x, "noise"), reduction_db=20.0)),
        ("side A", lambda x: x.presets.switch_side()),
        ("preset names", lambda x: x.presets.names("noise")),
        ("other settings", lambda x: x.document.change_settings(x.current_id, _step(x, "noise"), reduction_db=3.0)),
        ("use the preset", lambda x: x.presets.apply("soft")),
        ("a preset that is not there", lambda x: x.presets.apply("loud")),
        ("no preset more", lambda x: x.presets.remove("noise", "soft")),
        ("in a section", lambda x: x.document.set_spans(x.current_id, _step(x, "noise"), (Span(s(1.0), s(5.0)),))),
        ("select a word", lambda x: x.select(s(2.0), s(2.4))),
        ("give back", lambda x: x.repairs.give_back()),
        ("everywhere again", lambda x: x.document.set_spans(x.current_id, _step(x, "noise"), None)),
        ("a marker", lambda x: x.markers.add("here")),
        ("another at the same place", lambda x: x.markers.add()),
        ("to the start", lambda x: x.seek(0)),
        ("clear the selection", lambda x: x.clear_selection()),
        ("a marker at the playhead", lambda x: x.markers.add()),
        ("to the next marker", lambda x: x.markers.go(1)),
        ("no further marker", lambda x: x.markers.go(1)),
        ("to the marker before", lambda x: x.markers.go(-1)),
        ("rename it", lambda x: x.markers.rename(x.markers.all[0], "first")),
        ("export markers", lambda x: x.markers.export(folder / "markers.txt")),
        ("export markers as cues", lambda x: x.markers.export(folder / "cues.wav")),
        ("remove a marker", lambda x: x.markers.remove(x.markers.all[1])),
        ("import markers", lambda x: x.markers.take_in(folder / "markers.txt")),
        ("import cues", lambda x: x.markers.take_in(folder / "cues.wav")),
        ("import nonsense", lambda x: x.markers.take_in(paths["one"].with_suffix(".txt"))),
        ("markers between", lambda x: [m.name for m in x.markers.between(10, s(2.5))]),
        ("the marker near", lambda x: [x.markers.near(s(2.001), 100), x.markers.near(s(2.001), 10)]),
        ("nudge", lambda x: x.nudge(0.5)),
        ("nudge back too far", lambda x: x.nudge(-5.0)),
        ("loop everything", lambda x: x.toggle_loop()),
        ("no loop", lambda x: x.toggle_loop()),
        ("a pause in the loop", lambda x: x.toggle_loop_pause()),
        ("trim without a selection", lambda x: x.repairs.trim_to_selection()),
        ("select the middle", lambda x: x.select(s(1.0), s(6.0))),
        ("trim", lambda x: x.repairs.trim_to_selection()),
        ("all of it", lambda x: x.repairs.untrim()),
        ("inspect", lambda x: x.inspection.run()),
        ("to two", lambda x: x.choose_recording(recording(x, 1).id)),
        ("inspect two", lambda x: x.inspection.run()),
        ("walk", lambda x: x.inspection.walk(1)),
        ("walk on", lambda x: x.inspection.walk(1)),
        ("walk back", lambda x: x.inspection.walk(-1)),
        ("stop", lambda x: (x.stop_playing(), x.seek(0))),
        ("clicks only", lambda x: x.inspection.show_only("clicks")),
        ("walk through clicks", lambda x: x.inspection.walk(1)),
        ("stop again", lambda x: (x.stop_playing(), x.seek(0))),
        ("all kinds", lambda x: x.inspection.show_only("")),
        ("leave hum alone", lambda x: x.inspection.leave("hum", leave=True)),
        ("hum after all", lambda x: x.inspection.leave("hum", leave=False)),
        ("visit the last", lambda x: x.inspection.visit(x.inspection.entries()[-1].now, -1)),
        ("stop there", lambda x: (x.stop_playing(), x.seek(0))),
        ("treat one", lambda x: x.inspection.treat(x.inspection.entries()[0].now)),
        ("treat all", lambda x: x.inspection.treat_all()),
        ("take that back", lambda x: x.document.undo()),
        ("do it again", lambda x: x.document.redo()),
        ("left alone", lambda x: x.set_pick("left")),
        ("mono", lambda x: x.set_pick("mono")),
        ("side", lambda x: x.set_pick("side")),
        ("as it is", lambda x: x.set_pick("")),
        ("a tool on one channel", lambda x: x.document.set_channels(x.current_id, x.step_id, (1,))),
        ("to three", lambda x: x.choose_recording(recording(x, 2).id)),
        ("hear the second channel", lambda x: x.hear_channel(1)),
        ("hear all", lambda x: x.hear_channel(None)),
        ("noise of microphones", lambda x: (x.select(1000, 20_000), x.repairs.take_as_noise())),
        ("hum", lambda x: x.repairs.add_tool("hum", on_selection=False)),
        ("find settings", lambda x: x.surveys.suggest()),
        ("a gate in the selection", lambda x: x.repairs.add_tool("gate", on_selection=True)),
        ("an equaliser over a band", lambda x: (x.select(0, 30_000, (300.0, 900.0)), x.repairs.add_tool("equaliser", on_selection=True))),
        ("remove it", lambda x: x.steps.remove()),
        ("save the recipe", lambda x: x.files.save_recipe(folder / "mine.json")),
        ("to one again", lambda x: x.choose_recording(recording(x, 0).id)),
        ("apply the recipe", lambda x: x.files.apply_recipe(folder / "mine.json")),
        ("an own target", lambda x: x.document.set_target("online-16", x.current_id)),
        ("a plan", _plan),
        ("print all of it", lambda x: x.prints.write("whole", folder)),
        ("print it again", lambda x: x.prints.write("whole", folder)),
        ("print beside it", lambda x: x.prints.write("whole", folder, keep_both=True)),
        ("print the selection", lambda x: (x.select(s(2.0), s(3.0)), x.prints.write("selection", folder, handles_s=0.5))),
        ("print between markers", lambda x: x.prints.write("parts", folder)),
        ("deliver", lambda x: x.queue.add([_order(x, folder / "out.wav")])),
        ("deliver again", lambda x: x.queue.add([_order(x, folder / "out.wav")])),
        ("deliver and stop at once", lambda x: (x.queue.add([_order(x, folder / "two.wav")]), x.queue.stop())),
        ("try again what failed", lambda x: x.queue.again()),
        ("forget what ended", lambda x: x.queue.clear()),
        ("the past", lambda x: [label for label, _ in x.document.history.past][-30:]),
        ("far back", lambda x: x.document.go_to(12)),
        ("forward again", lambda x: x.document.go_to(40)),
        ("save", lambda x: x.document.save(folder / "day.pulizia")),
        ("remove a recording", lambda x: x.document.remove_recording(recording(x, 1).id)),
        ("relink", lambda x: x.files.relink(recording(x, 0).id, paths["three"])),
        ("load", lambda x: x.files.open_project(folder / "day.pulizia")),
        ("load what has changed since", lambda x: (_spoil(paths["two"]), x.files.open_project(folder / "day.pulizia"))),
        ("no project", lambda x: x.files.open_project(folder / "mine.json")),
        ("what nothing removes", lambda x: digest(x.chain.removed_by(None).read(0, 1000))),
        ("remove all", lambda x: x.document.remove_recordings([r.id for r in x.document.project.recordings])),
        ("a new project", lambda x: x.document.start_new()),
    ]  # fmt: skip
    return done(note, deeds)


def _spoil(path: Path) -> None:
    samples, rate = soundfile.read(path, dtype="float32")
    soundfile.write(path, samples[::-1], rate, subtype="PCM_24")


def _step(session: Session, tool_id: str) -> str:
    return next(t.id for t in session.recording.score if t.tool_id == tool_id)


def _plan(session: Session) -> None:
    target = session.target_of(session.current_id)
    session.plans.want(
        session.current_id, Aim(target, "limit", dual=False), lambda: None, lambda text: session.say(text, bad=True)
    )


def _order(session: Session, path: Path) -> Order:
    return Order(
        subject_id=session.current_id, name="one", path=path, wanted=Deliverable(), target=session.target_of(session.current_id),
        way="limit", dual_mono=False, with_report=True, overwrite=False,
    )  # fmt: skip
