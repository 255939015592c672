# SPDX-License-Identifier: GPL-3.0-or-later
"""What can be done in the assembly, with its keys; the keys are those of the place, so they may be others elsewhere."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from pulizia.audio.spans import with_edge
from pulizia.desktop.actions import Command
from pulizia.desktop.assembly.assembly import LEVELS, SPECTRUM, Assembly
from pulizia.desktop.assembly.list_places import ListPlaces
from pulizia.session.session import Session
from pulizia.words import N_, tr

NUDGE_S = 0.01
EVERYWHERE = frozenset({
    "new", "open", "save", "save_as", "quit", "undo", "redo", "history", "recipe", "bench", "assembly", "delivery", "theme", "area_next", "area_previous", "appearance", "language",
    "play", "loop", "shuttle_back", "shuttle_stop", "shuttle_forward", "back", "forward", "start", "end", "compare", "before",
    "after", "removed", "matched", "output", "menu", "first_steps", "storage", "manual", "about", "keys", "own_target", "programme_add", "relink", "recording_remove", "add", "treat", "noise", "suggest", "next_moment", "previous_moment",
    "step_next", "step_previous", "removed_by_step", "ab", "play_around", "loop_pause", "follow", "go_to_time", "figures",
})  # fmt: skip
"""Commands that mean the same in every place."""


def on_the_bench(session: Session, commands: list[Command]) -> list[Command]:
    """Commands of the bench, which rest while the assembly is shown; its own may have the same keys."""

    def resting(command: Command) -> Command:
        usual = command.enabled
        return replace(command, enabled=lambda: not session.assembly.is_open and usual(), place="bench")

    return [command if command.id in EVERYWHERE else resting(command) for command in commands]


def assembly_commands(
    session: Session,
    place: Assembly,
    lists: ListPlaces,
    add_here: Callable[[], None],
    render: Callable[[], None],
    stems: Callable[[], None],
    reels: Callable[[], None],
    clips: Callable[[], None],
    deliver: Callable[[], None],
) -> list[Command]:
    """All commands of the place."""
    service, steps, speech = session.assembly, session.programme_steps, session.speech
    here = lambda: service.is_open  # noqa: E731
    there = lambda: service.is_open and service.programme is not None  # noqa: E731
    chosen = lambda: service.is_open and bool(service.clip_ids)  # noqa: E731
    marked = lambda: service.is_open and (bool(service.clip_ids) or service.span is not None)  # noqa: E731

    copied = lambda: service.is_open and service.programme is not None and service.has_copied  # noqa: E731
    walk = session.clip_walk
    laned = lambda: service.is_open and service.lane is not None  # noqa: E731
    listed = lambda: service.is_open and service.programme is not None and service.programme.received is not None  # noqa: E731
    stepped = lambda: service.is_open and session.step is not None  # noqa: E731

    def by_picture(count: int) -> int:
        programme = service.programme
        return 0 if programme is None else count * round(programme.rate / programme.picture_rate)

    def by_time(sign: int) -> int:
        programme = service.programme
        return 0 if programme is None else sign * round(NUDGE_S * programme.rate)

    def clear() -> None:
        service.select_span(0, 0)

    def edge(which: str) -> None:
        if service.programme is not None:
            span = with_edge(service.span, which, session.transport.position, service.programme.frames)
            service.select_span(span.start, span.stop)

    rows: tuple[tuple[str, str, tuple[str, ...], Callable[[], None], Callable[[], bool]], ...] = (
        ("programme_new", tr("New programme"), (), service.new_programme, here),
        ("programme_split", tr("Split at playhead"), ("Shift+S",), service.split, there),
        ("programme_trim_start", tr("Trim start to playhead"), ("Alt+I",), lambda: service.trim_to_head("start"), chosen),
        ("programme_trim_end", tr("Trim end to playhead"), ("Alt+O",), lambda: service.trim_to_head("stop"), chosen),
        ("programme_remove", tr("Remove clips"), ("Del",), service.remove, marked),
        ("programme_ripple", tr("Delete and close the gap"), ("Shift+Del",), service.ripple_delete, marked),
        ("programme_close_gap", tr("Close the gap at playhead"), ("Ctrl+Del",), service.close_gap, there),
        ("programme_cross", tr("Cross-fade with the clip before"), ("X",), service.cross_fade, chosen),
        ("programme_switch", tr("Switch clips off or on"), ("E",), service.set_enabled, chosen),
        ("programme_tone", tr("Fill gaps with room tone"), ("Shift+T",), service.fill_gaps, there),
        ("programme_earlier", tr("Move clips back by a picture frame"), ("Alt+Left",), lambda: service.nudge(by_picture(-1)), chosen),
        ("programme_later", tr("Move clips on by a picture frame"), ("Alt+Right",), lambda: service.nudge(by_picture(1)), chosen),
        ("programme_bit_earlier", tr("Move clips back by 10 ms"), ("Alt+Shift+Left",), lambda: service.nudge(by_time(-1)), chosen),
        ("programme_bit_later", tr("Move clips on by 10 ms"), ("Alt+Shift+Right",), lambda: service.nudge(by_time(1)), chosen),
        ("programme_slip_back", tr("Slip the sound back by 10 ms"), ("Alt+,",), lambda: service.slip(by_time(-1)), chosen),
        ("programme_slip_on", tr("Slip the sound on by 10 ms"), ("Alt+.",), lambda: service.slip(by_time(1)), chosen),
        ("programme_louder", tr("Clips louder by 1 dB"), ("Alt+Up",), lambda: service.add_gain(1.0), chosen),
        ("programme_quieter", tr("Clips quieter by 1 dB"), ("Alt+Down",), lambda: service.add_gain(-1.0), chosen),
        ("programme_match", tr("Match the loudness of clips"), ("Shift+L",), session.clip_levels.match, chosen),
        ("programme_next_cut", tr("Next cut"), ("Ctrl+PgDown",), lambda: service.go_to_cut(1), there),
        ("programme_previous_cut", tr("Previous cut"), ("Ctrl+PgUp",), lambda: service.go_to_cut(-1), there),
        ("programme_copy", tr("Copy clips"), ("Ctrl+C",), service.copy, chosen),
        ("programme_paste", tr("Paste clips at playhead"), ("Ctrl+V",), service.paste, copied),
        ("programme_all", tr("Select all clips"), ("Ctrl+A",), service.select_all, there),
        ("programme_clip", tr("Select the clip at playhead"), ("C",), walk.clip_here, there),
        ("programme_clip_next", tr("Next clip of the lane"), ("Shift+PgDown",), lambda: walk.next_clip(1), there),
        ("programme_clip_previous", tr("Previous clip of the lane"), ("Shift+PgUp",), lambda: walk.next_clip(-1), there),
        ("programme_bench", tr("Repair the clip on the Bench"), ("Ctrl+B",), place.lanes.repair_chosen, chosen),
        ("programme_behind", tr("Select clips after playhead"), ("Shift+End",), service.select_behind, there),
        ("programme_span_start", tr("Set selection start at playhead"), ("[", "I"), lambda: edge("start"), there),
        ("programme_span_stop", tr("Set selection end at playhead"), ("]", "O"), lambda: edge("stop"), there),
        ("programme_none", tr("Select none"), ("Esc",), clear, here),
        ("programme_note", tr("Add a note…"), ("Ctrl+Shift+M",), place.ask_note, there),
        ("programme_notes", tr("Save the notes…"), (), place.ask_notes, lambda: service.is_open and service.programme is not None and bool(service.programme.markers)),
        ("programme_marker", tr("Set a marker"), ("M",), service.add_marker, there),
        ("programme_lane", tr("Add a lane"), (), service.add_lane, there),
        ("programme_lock", tr("Lock or unlock the lane"), ("Alt+L",), lambda: service.lock_lane(), laned),  # noqa: PLW0108
        ("programme_lane_next", tr("Choose the lane below"), ("Alt+End",), lambda: walk.next_lane(1), laned),
        ("programme_lane_previous", tr("Choose the lane above"), ("Alt+Home",), lambda: walk.next_lane(-1), laned),
        ("programme_mute", tr("Mute the lane or end it"), ("Alt+Q",), lambda: walk.switch("muted"), laned),
        ("programme_solo", tr("Solo the lane or end it"), ("Alt+S",), lambda: walk.switch("soloed"), laned),
        ("programme_lane_menu", tr("Menu of the lane…"), ("Alt+K",), place.lanes.open_lane_menu, laned),
        ("programme_closer", tr("Zoom in"), ("+", "="), lambda: place.zoom(1.5), there),
        ("programme_farther", tr("Zoom out"), ("-",), lambda: place.zoom(1 / 1.5), there),
        ("programme_whole", tr("Show all"), ("0",), place.axis.show_whole, there),
        ("programme_taller", tr("Taller lanes"), ("Shift+Down",), lambda: place.lanes.set_lane_height(place.lanes.geometry_of.lane_height + 12), there),
        ("programme_flatter", tr("Flatter lanes"), ("Shift+Up",), lambda: place.lanes.set_lane_height(place.lanes.geometry_of.lane_height - 12), there),
        ("programme_original", tr("Restore the original of clips"), ("Shift+G",), steps.restore_original, marked),
        ("programme_step_switch", tr("Switch the step on or off"), ("Shift+E",), steps.switch, stepped),
        ("programme_step_up", tr("Move the step up"), ("Alt+PgUp",), lambda: steps.move(-1), stepped),
        ("programme_step_down", tr("Move the step down"), ("Alt+PgDown",), lambda: steps.move(1), stepped),
        ("programme_step_copy", tr("Copy the step"), ("Alt+C",), session.steps.copy, stepped),
        ("programme_step_paste", tr("Paste the step"), ("Alt+V",), session.steps.paste, lambda: service.is_open and session.steps.can_paste),
        ("programme_step_lanes", tr("Paste the step to every lane of this kind"), (), steps.paste_on_lanes, stepped),
        ("programme_step_remove", tr("Remove the step"), ("Ctrl+Shift+Del",), steps.remove, stepped),
        ("programme_next_phrase", tr("Next phrase"), ("Ctrl+Right",), lambda: speech.go(1), there),
        ("programme_previous_phrase", tr("Previous phrase"), ("Ctrl+Left",), lambda: speech.go(-1), there),
        ("programme_phrase", tr("Select the phrase or pause at playhead"), ("W",), lambda: speech.select_phrase(), there),  # noqa: PLW0108
        ("programme_tighten", tr("Tighten pauses…"), ("Shift+P",), place.ask_tighten, there),
        ("programme_lengthen", tr("Lengthen the pause…"), ("Ctrl+Shift+T",), place.ask_lengthen, there),
        ("programme_breath", tr("Replace the breath with room tone"), ("Shift+X",), speech.cut_breath, there),
        ("programme_words", tr("Find these words in other takes…"), ("Alt+W",), place.ask_words, marked),
        ("programme_voices", tr("Part the voices onto two lanes"), (), speech.checkerboard, there),
        ("programme_lay", tr("Line up recordings of one moment"), (), session.line_ups.lay_on_lanes, lambda: len(session.document.project.recordings) > 1),
        ("programme_line_up", tr("Line up clips of one moment"), ("Shift+U",), session.line_ups.line_up, marked),
        ("programme_field", tr("Use field recordings of the same moment"), (), session.field_recordings.use, chosen),
        ("programme_spread", tr("Lay each microphone onto a lane of its own"), (), session.microphones.on_lanes, chosen),
        ("programme_microphones", tr("Choose the best microphone…"), ("Alt+M",), place.ask_microphones, marked),
        ("programme_duplicate", tr("Duplicate clips"), ("Ctrl+Shift+D",), service.duplicate, chosen),
        ("programme_insert", tr("Insert copied clips at playhead"), ("Ctrl+Shift+V",), service.insert, copied),
        ("programme_lane_up", tr("Move clips to the lane above"), ("Ctrl+Up",), lambda: service.move_to_lane(-1), chosen),
        ("programme_lane_down", tr("Move clips to the lane below"), ("Ctrl+Down",), lambda: service.move_to_lane(1), chosen),
        ("programme_sample_earlier", tr("Move clips back by a sample"), ("Ctrl+Shift+Left",), lambda: service.nudge(-1), chosen),
        ("programme_sample_later", tr("Move clips on by a sample"), ("Ctrl+Shift+Right",), lambda: service.nudge(1), chosen),
        ("programme_of_lane", tr("Select all clips of the lane"), ("Shift+A",), service.select_lane, there),
        ("programme_loop_cut", tr("Loop over the cut with a run-up"), ("Shift+R",), session.cut_listening.loop_cut, there),
        ("programme_last_edit", tr("Hear before the last edit, or now"), ("D",), session.cut_listening.toggle_last_edit, there),
        ("programme_level", tr("Level of clips…"), ("Ctrl+Shift+L",), place.ask_level, chosen),
        ("programme_timecode", tr("Add the recording at its start time"), (), place.add_at_timecode, lambda: service.is_open and session.recording is not None),
        ("programme_show_lanes", tr("Show all lanes"), (), place.lanes.show_lanes, lambda: service.is_open and bool(place.lanes.hidden)),
        ("programme_levels", tr("Levels"), ("V",), lambda: place.show_sheet(LEVELS), there),
        ("programme_spectrum", tr("Spectrum"), ("S",), lambda: place.show_sheet(SPECTRUM), there),
        ("programme_inspect", tr("Inspect"), ("Ctrl+I",), place.inspect, there),
        ("film_show", tr("Video"), ("F6",), place.film.switch, there),
        ("film_alone", tr("Video in a window of its own"), ("Shift+F6",), place.film.alone, there),
        ("film_choose", tr("Choose a video…"), (), place.film.ask, there),
        ("film_next", tr("Next picture"), (".",), lambda: session.film.step(1), there),
        ("film_previous", tr("Previous picture"), (",",), lambda: session.film.step(-1), there),
        ("template_new", tr("New programme from a template…"), (), place.ask_template, here),
        ("template_keep", tr("Save as a template…"), (), place.ask_keep_template, there),
        ("list_conform", tr("Conform to a new cut…"), (), lists.ask_conform, there),
        ("list_export", tr("Export an edit list…"), ("Ctrl+Shift+E",), lists.ask_export, there),
        ("list_report", tr("Report of the edit list…"), (), lists.show_report, listed),
        ("list_received", tr("Save the list as it came…"), (), lists.ask_received, listed),
        ("programme_stems", tr("Render stems…"), (), stems, there),
        ("programme_reels", tr("Render reels…"), (), reels, there),
        ("programme_clips", tr("Render clips…"), (), clips, there),
        ("programme_render", tr("Render the programme…"), ("Ctrl+Shift+P",), render, there),
        ("programme_deliver", tr("Deliver the programme…"), ("Ctrl+D",), deliver, there),
    )  # fmt: skip
    add = Command(
        "programme_add",
        N_("Assembly"),
        tr("Add to the programme"),
        ("Ctrl+Return",),
        add_here,
        lambda: session.recording is not None,
    )
    return [
        add,
        *(
            Command(name, N_("Assembly"), words, keys, call, enabled, place="assembly")
            for name, words, keys, call, enabled in rows
        ),
    ]
