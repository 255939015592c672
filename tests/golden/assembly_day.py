# SPDX-License-Identifier: GPL-3.0-or-later
"""A day in the assembly: clips, lanes, speech, microphones, notes, lists and what is written of a programme."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import soundfile
from tests.golden.diary import Deeds, Diary, done, files, recording, s

from pulizia.audio.spans import Span
from pulizia.session.heard import Listening
from pulizia.session.session import Session


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
        ("remove a recording in use", lambda x: x.files.remove([recording(x, 0).id])),
        ("remove the programme", lambda x: x.document.remove_programme(x.document.project.programmes[0].id)),
        ("save", lambda x: x.document.save(folder / "two.pulizia")),
    ]  # fmt: skip
    return done(note, deeds)


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
