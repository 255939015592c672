# SPDX-License-Identifier: GPL-3.0-or-later
"""What is done in the diaries: a day on the bench, and one in the assembly.

python -m tests.golden.deeds        write tests/golden/diaries.json anew, after a change that was meant
"""

from __future__ import annotations

import os
import tempfile
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import soundfile
from tests.golden.diary import Diary, counted_identities, files
from tests.golden.figures import as_text, digest
from tests.golden.sounds import RATE

from pulizia.audio.spans import Span
from pulizia.delivery.deliverable import Deliverable
from pulizia.session.heard import Listening
from pulizia.session.orders import Order
from pulizia.session.plan_service import Aim
from pulizia.session.session import Session

FILE = Path(__file__).with_name("diaries.json")
Deeds = list[tuple[str, Callable[[Session], object]]]


def s(seconds: float, rate: int = RATE) -> int:
    """Frames of seconds."""
    return round(seconds * rate)


def recording(session: Session, number: int) -> Any:
    """A recording of the project."""
    return session.document.project.recordings[number]


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
    return _done(note, deeds)


def _done(note: Diary, deeds: Deeds) -> dict[str, Any]:
    try:
        for words, deed in deeds:
            note(words, deed)
    finally:
        note.session.close()
    return note.rows


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


def assembly(folder: Path) -> dict[str, Any]:
    """Clips, lanes, speech, microphones, notes, lists and what is written of a programme."""
    note, paths = Diary(folder), files(folder)
    out = folder / "out"
    out.mkdir()
    deeds: Deeds = [
        ("open three", lambda x: x.files.open_paths([*paths.values()])),
        ("go there", lambda x: x.assembly.enter()),
        ("nothing to render", lambda x: x.programme_out.render(out / "none.wav")),
        ("add one", lambda x: x.assembly.add_recording(recording(x, 0))),
        ("add a piece of two", lambda x: x.assembly.add_recording(recording(x, 1), Span(s(1.0), s(5.0)))),
        ("add three at a place", lambda x: x.assembly.add_recording(recording(x, 2), at=s(12.0))),
        ("at its timecode", lambda x: x.assembly.add_at_timecode(recording(x, 0))),
        ("take three back", lambda x: x.document.undo()),
        ("choose nothing", lambda x: x.assembly.select([])),
        ("split at two seconds", lambda x: (x.seek(s(2.0)), x.assembly.split())),
        ("split in nothing", lambda x: (x.seek(s(30.0)), x.assembly.split())),
        ("the next cut", lambda x: (x.seek(0), x.assembly.go_to_cut(1))),
        ("the cut before", lambda x: x.assembly.go_to_cut(-1)),
        ("choose the second", lambda x: x.assembly.select([clip(x, 1).id])),
        ("louder", lambda x: x.assembly.add_gain(3.0)),
        ("a gain", lambda x: x.assembly.set_gain(-2.0)),
        ("too much gain", lambda x: x.assembly.set_gain(90.0)),
        ("a gain line", lambda x: x.assembly.set_line(clip(x, 1).id, ((s(1.0), -6.04), (0, 0.0)))),
        ("a fade", lambda x: x.assembly.set_fade("in", 4800, "power")),
        ("a fade out", lambda x: x.assembly.set_fade("out", 2400)),
        ("later", lambda x: x.assembly.nudge(480)),
        ("later still", lambda x: x.assembly.nudge(480)),
        ("the drag ends", lambda x: x.assembly.settle()),
        ("close the gap", lambda x: (x.seek(s(2.005)), x.assembly.close_gap())),
        ("no gap to close", lambda x: (x.seek(s(1.0)), x.assembly.close_gap())),
        ("slip", lambda x: x.assembly.slip(-960)),
        ("trim its start", lambda x: x.assembly.trim(clip(x, 1).id, start=s(2.5))),
        ("trim its end", lambda x: x.assembly.trim(clip(x, 1).id, stop=s(6.0))),
        ("trim to the playhead", lambda x: (x.seek(s(3.0)), x.assembly.trim_to_head("start"))),
        ("trim the end to it", lambda x: (x.seek(s(5.5)), x.assembly.trim_to_head("stop"))),
        ("trim what is not there", lambda x: (x.seek(0), x.assembly.trim_to_head("stop"))),
        ("slide", lambda x: x.assembly.slide(clip(x, 1).id, 4800)),
        ("roll", lambda x: x.assembly.roll(clip(x, 2).id, "start", s(7.5))),
        ("move", lambda x: x.assembly.move(-2400)),
        ("move before the start", lambda x: x.assembly.move(-s(60.0))),
        ("to the lane below", lambda x: x.assembly.move_to_lane(1)),
        ("back up", lambda x: x.assembly.move_to_lane(-1)),
        ("above the top", lambda x: x.assembly.move_to_lane(-1)),
        ("duplicate", lambda x: x.assembly.duplicate()),
        ("cross-fade", lambda x: x.assembly.cross_fade()),
        ("all", lambda x: x.assembly.select_all()),
        ("cross-fade all", lambda x: x.assembly.cross_fade()),
        ("off", lambda x: x.assembly.set_enabled()),
        ("on", lambda x: x.assembly.set_enabled()),
        ("match", lambda x: x.clip_levels.match()),
        ("match peaks together", lambda x: x.clip_levels.match("peak", -6.0, together=True)),
        ("one alone", lambda x: x.assembly.select([clip(x, 0).id])),
        ("match one", lambda x: x.clip_levels.match()),
        ("copy", lambda x: x.assembly.copy()),
        ("paste", lambda x: (x.seek(s(20.0)), x.assembly.paste())),
        ("insert", lambda x: (x.seek(s(1.0)), x.assembly.insert())),
        ("back", lambda x: x.document.undo()),
        ("fill the gaps", lambda x: x.assembly.fill_gaps()),
        ("no gaps left", lambda x: x.assembly.fill_gaps()),
        ("all behind", lambda x: (x.seek(s(8.0)), x.assembly.select_behind())),
        ("remove them", lambda x: x.assembly.remove()),
        ("a section", lambda x: x.assembly.select_span(s(1.0), s(1.5))),
        ("lift it", lambda x: (x.assembly.select([]), x.assembly.select_span(s(1.0), s(1.5)), x.assembly.remove())),
        ("delete and close", lambda x: (x.assembly.select_span(s(0.9), s(1.6)), x.assembly.ripple_delete())),
        ("delete nothing", lambda x: x.assembly.ripple_delete()),
        ("a lane", lambda x: x.assembly.add_lane("effects", "Doors")),
        ("a lane for voices", lambda x: x.assembly.add_lane()),
        ("rename it", lambda x: x.assembly.change_lane(lane(x, -1).id, "Rename a lane", name="Anna")),
        ("mute", lambda x: x.assembly.switch_lane(lane(x, 0).id, "Mute", "muted", on=True)),
        ("sound", lambda x: x.assembly.switch_lane(lane(x, 0).id, "Mute", "muted", on=False)),
        ("its gain", lambda x: x.assembly.set_lane_gain(lane(x, 0).id, -4.5)),
        ("lock", lambda x: x.assembly.lock_lane(lane(x, 0).id)),
        ("an edit on a locked lane", lambda x: (x.assembly.select_all(), x.assembly.nudge(10))),
        ("unlock", lambda x: x.assembly.lock_lane(lane(x, 0).id)),
        ("lane down", lambda x: x.assembly.move_lane(lane(x, 0).id, 1)),
        ("lane up", lambda x: x.assembly.move_lane(lane(x, 1).id, -1)),
        ("remove a lane", lambda x: x.assembly.remove_lane(lane(x, 1).id)),
        ("height", lambda x: x.document.set_lane_height(x.assembly.programme.id, lane(x, 0).id, 2.0)),
        ("to the first lane", lambda x: x.assembly.choose_lane(lane(x, 0).id)),
        ("steps of the programme", lambda x: x.assembly.choose_scope("programme")),
        ("a limiter", lambda x: x.repairs.add_tool("limiter", on_selection=False)),
        ("of the lane", lambda x: x.assembly.choose_scope("lane")),
        ("a high-pass", lambda x: x.repairs.add_tool("equaliser", on_selection=False)),
        ("of a recording", lambda x: (x.assembly.select([clip(x, 0).id]), x.assembly.choose_scope("recording"))),
        ("hum in it", lambda x: x.repairs.add_tool("hum", on_selection=False)),
        ("restore what was", lambda x: (x.assembly.select_span(s(0.2), s(0.6)), x.programme_steps.restore_original())),
        ("before", lambda x: x.set_listening(Listening.BEFORE)),
        ("after", lambda x: x.set_listening(Listening.AFTER)),
        ("before the last edit", lambda x: x.cut_listening.toggle_last_edit()),
        ("as it is", lambda x: x.cut_listening.toggle_last_edit()),
        ("over the cut", lambda x: (x.assembly.select_span(0, 0), x.cut_listening.loop_cut())),
        ("no more", lambda x: (x.cut_listening.loop_cut(), x.stop_playing())),
        ("the next phrase", lambda x: (x.seek(0), x.speech.go(1))),
        ("the phrase after", lambda x: x.speech.go(1)),
        ("the phrase before", lambda x: x.speech.go(-1)),
        ("select it", lambda x: x.speech.select_phrase()),
        ("select a pause", lambda x: x.speech.select_phrase(0)),
        ("word edges", lambda x: x.speech.word_edges(0, s(5.0))),
        ("too tight", lambda x: (x.assembly.select_span(0, 0), x.speech.tighten(0.1))),
        ("tighten", lambda x: x.speech.tighten(0.5)),
        ("a longer pause", lambda x: (x.seek(0), x.speech.lengthen(0.4))),
        ("a breath", lambda x: (x.seek(s(2.0)), x.speech.cut_breath())),
        ("where it crosses zero", lambda x: [x.assembly.zero_crossing(s(t), 200) for t in (0.7, 1.3, 30.0)]),
        ("two voices", lambda x: x.speech.checkerboard()),
        ("breaths and pauses as before", lambda x: x.document.undo()),
        ("a marker", lambda x: (x.seek(s(1.0)), x.assembly.add_marker())),
        ("its name", lambda x: x.assembly.rename_marker(x.assembly.programme.markers[0], "Reel 2")),
        ("notes", lambda x: x.assembly.save_notes(out / "notes.csv")),
        ("as a page", lambda x: x.assembly.save_notes(out / "notes.html")),
        ("remove the marker", lambda x: x.assembly.remove_marker(x.assembly.programme.markers[0])),
        ("another start", lambda x: x.assembly.change_programme("Change the start", start_frame=90_000)),
        ("another name", lambda x: x.assembly.rename("Chapter one")),
        ("render", lambda x: x.programme_out.render(out / "all.wav")),
        ("stems", lambda x: x.programme_out.render_stems(out)),
        ("stems again", lambda x: x.programme_out.render_stems(out)),
        ("a reel", _reel),
        ("reels into no folder", lambda x: x.programme_out.render_reels(out / "reels")),
        ("reels", lambda x: x.programme_out.render_reels(out)),
        ("clips", lambda x: x.programme_out.render_clips(out, handles_s=0.5, joined=False, alone=False)),
        ("clips alone, joined", lambda x: x.programme_out.render_clips(folder, handles_s=0.2, joined=True, alone=True)),
        ("what was written", lambda _: _written(folder)),
        ("what a list loses", lambda x: x.lists.losses(out / "cut.edl", rendered=False)),
        ("a list", lambda x: x.lists.export(out / "cut.edl")),
        ("a list with clips", lambda x: x.lists.export(out / "cut.otio", rendered=True, handles_s=0.25)),
        ("its text", lambda _: (out / "cut.edl").read_text().splitlines()),
        ("no list was received", lambda x: x.lists.save_received(out / "was.edl")),
        ("open the list", lambda x: x.lists.open(out / "cut.edl", [folder], lambda _found: None)),
        ("save it as it came", lambda x: x.lists.save_received(out / "was.edl")),
        ("conform to it", lambda x: x.lists.conform(out / "cut.edl", [folder], lambda _found, _made: None)),
        ("keep as a template", lambda x: x.templates.keep("Talk")),
        ("each from a template", lambda x: x.templates.begin_each(x.templates.known()[0], x.document.project.recordings[:2])),
        ("three microphones", lambda x: (x.assembly.new_programme("Round"), x.assembly.add_recording(recording(x, 2)))),
        ("on lanes", lambda x: x.microphones.on_lanes()),
        ("line up", lambda x: (x.assembly.select_all(), x.line_ups.line_up())),
        ("the best", lambda x: x.microphones.plan(lambda plan: x.microphones.apply(plan, 9.0))),
        ("a film that is none", lambda x: x.film.choose(paths["one"])),
        ("shift it", lambda x: x.film.shift(3)),
        ("leave", lambda x: x.assembly.leave()),
        ("remove a recording in use", lambda x: x.document.remove_recording(recording(x, 0).id)),
        ("remove the programme", lambda x: x.document.remove_programme(x.document.project.programmes[0].id)),
        ("save", lambda x: x.document.save(folder / "two.pulizia")),
    ]  # fmt: skip
    return _done(note, deeds)


def _reel(session: Session) -> None:
    session.seek(s(3.0))
    session.assembly.add_marker()
    made = session.assembly.programme.markers[-1]
    session.assembly.change_marker(made, replace(made, kind="reel", name="Two", note="after the bell"))


def lane(session: Session, number: int) -> Any:
    """A lane of the programme."""
    return session.assembly.programme.lanes[number]


def clip(session: Session, number: int) -> Any:
    """A clip of its first lane that has any."""
    return next(la for la in session.assembly.programme.lanes if la.clips).clips[number]


def _written(folder: Path) -> list[list[Any]]:
    """Files with their lengths, and sums of their samples."""
    made = []
    for path in sorted(folder.rglob("*.wav")):
        samples, rate = soundfile.read(path, always_2d=True, dtype="float32")
        made.append([str(path.relative_to(folder)), rate, *samples.shape, round(float(np.abs(samples).mean()), 5)])
    return made


DAYS = {"bench": bench, "assembly": assembly}


def day(name: str, folder: Path) -> dict[str, Any]:
    """What a day has written."""
    with counted_identities():
        return DAYS[name](folder)


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as home:
        os.environ["PULIZIA_HOME"] = home
        made = {}
        for name in DAYS:
            (Path(home) / name).mkdir()
            made[name] = day(name, Path(home) / name)
    FILE.write_text(as_text(made))
    print(f"{FILE}: {FILE.stat().st_size} bytes")  # noqa: T201 - what was written
