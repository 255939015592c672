# SPDX-License-Identifier: GPL-3.0-or-later
"""The table of everything that can be done in the window, with its keys."""

from __future__ import annotations

from collections.abc import Callable

from pulizia.desktop.actions import Command
from pulizia.desktop.theme import theme, use_theme
from pulizia.desktop.window import MainWindow
from pulizia.measure.sonogram import SIZES
from pulizia.session.transport import Listening


def window_commands(window: MainWindow) -> list[Command]:
    """All commands of the window."""
    return [*_files(window), *_edits(window), *_listening(window), *_views(window), *_score(window), *_rest(window)]


def _files(w: MainWindow) -> list[Command]:
    has = lambda: w.studio.recording is not None  # noqa: E731
    return [
        Command("new", "File", "New project", ("Ctrl+N",), w.new_project),
        Command("open", "File", "Open\u2026", ("Ctrl+O",), w.open_files),
        Command("save", "File", "Save project", ("Ctrl+S",), lambda: _do(w.save)),
        Command("save_as", "File", "Save project as\u2026", ("Ctrl+Shift+S",), lambda: _do(w.save_as)),
        Command("relink", "File", "Relink the recording\u2026", (), w.relink, has),
        Command("recipe", "File", "Recipes\u2026", ("Ctrl+R",), w.doors.choose_recipe),
        Command("save_recipe", "File", "Save steps as a recipe\u2026", ("Ctrl+Shift+R",), w.doors.save_recipe, has),
        Command("print", "File", "Render\u2026", ("Ctrl+P",), w.doors.show_print, has),
        Command("find_original", "File", "Find the original\u2026", (), w.doors.find_original, has),
        Command("quit", "File", "Quit", ("Ctrl+Q",), lambda: _do(w.close)),
    ]


def _edits(w: MainWindow) -> list[Command]:
    s = w.studio
    has = lambda: s.recording is not None  # noqa: E731
    marked = lambda: s.selection is not None  # noqa: E731
    trimmed = lambda: s.recording is not None and s.recording.trim is not None  # noqa: E731

    def select_all() -> None:
        if s.recording is not None:
            s.select(0, s.recording.frames)

    def edge(which: str) -> None:
        if s.recording is None:
            return
        here = s.transport.position
        start, stop = (s.selection.span.start, s.selection.span.stop) if s.selection else (0, s.recording.frames)
        if which == "start":
            s.select(here, max(stop, here))
        else:
            s.select(min(start, here), here)

    def clear() -> None:
        w.message.hide()
        s.clear_selection()

    return [
        Command(
            "undo", "Edit", "Undo", ("Ctrl+Z",), s.document.undo, lambda: s.document.history.undo_label is not None
        ),
        Command(
            "redo",
            "Edit",
            "Redo",
            ("Ctrl+Shift+Z", "Ctrl+Y"),
            s.document.redo,
            lambda: s.document.history.redo_label is not None,
        ),
        Command("select_all", "Edit", "Select all", ("Ctrl+A",), select_all, has),
        Command("mark_start", "Edit", "Set selection start at playhead", ("[", "I"), lambda: edge("start"), has),
        Command("mark_stop", "Edit", "Set selection end at playhead", ("]", "O"), lambda: edge("stop"), has),
        Command("clear", "Edit", "Select none", ("Esc",), clear),
        Command("noise", "Edit", "Learn noise", ("N",), s.repairs.take_as_noise, marked),
        Command("marker", "Edit", "Set a marker", ("M",), lambda: _do(s.markers.add), lambda: s.recording is not None),
        Command(
            "marker_rename",
            "Edit",
            "Rename the marker here\u2026",
            ("Ctrl+M",),
            w.rename_marker_here,
            lambda: bool(s.markers.all),
        ),
        Command(
            "marker_next", "Edit", "Next marker", ("Ctrl+PgDown",), lambda: s.markers.go(1), lambda: bool(s.markers.all)
        ),
        Command(
            "marker_previous",
            "Edit",
            "Previous marker",
            ("Ctrl+PgUp",),
            lambda: s.markers.go(-1),
            lambda: bool(s.markers.all),
        ),
        Command("markers_out", "Edit", "Export markers\u2026", (), w.export_markers, lambda: bool(s.markers.all)),
        Command("markers_in", "Edit", "Import markers\u2026", (), w.take_in_markers, has),
        Command("mend", "Edit", "Repair selected click", ("C",), s.repairs.mend_selection, marked),
        Command("blot", "Edit", "Repair selected area", ("P",), s.repairs.take_as_blot, marked),
        Command("trim", "Edit", "Trim to selection", ("D",), s.repairs.trim_to_selection, marked),
        Command("untrim", "Edit", "Remove trim", ("Shift+D",), s.repairs.untrim, trimmed),
        Command("give_back", "Edit", "Restore original", ("G",), s.repairs.give_back, marked),
    ]


def _listening(w: MainWindow) -> list[Command]:
    s = w.studio
    has = lambda: s.chain is not None  # noqa: E731

    two = lambda: s.recording is not None and s.recording.channels == 2  # noqa: E731

    def swap() -> None:
        s.set_listening(Listening.BEFORE if s.listening is not Listening.BEFORE else Listening.AFTER)

    def to(place: str) -> None:
        if s.recording is not None:
            s.seek(s.recording.kept.start if place == "start" else s.recording.kept.stop)

    return [
        Command("play", "Listen", "Play or stop", ("Space",), s.play_or_stop, has),
        Command("shuttle_back", "Listen", "Play backwards, again for faster", ("J",), lambda: w.shuttle.go(-1), has),
        Command("shuttle_stop", "Listen", "Stop; held with J or L, half speed", ("K",), w.shuttle.hold, has),
        Command("shuttle_forward", "Listen", "Play forwards, again for faster", ("L",), lambda: w.shuttle.go(1), has),
        Command("loop", "Listen", "Loop", ("R",), s.toggle_loop, has, lambda: s.transport.loop is not None),
        Command("compare", "Listen", "Switch Before/After", ("B",), swap, has),
        Command(
            "before",
            "Listen",
            "Before",
            ("1",),
            lambda: s.set_listening(Listening.BEFORE),
            has,
            lambda: s.listening is Listening.BEFORE,
        ),
        Command(
            "after",
            "Listen",
            "After",
            ("2",),
            lambda: s.set_listening(Listening.AFTER),
            has,
            lambda: s.listening is Listening.AFTER,
        ),
        Command(
            "removed",
            "Listen",
            "Removed",
            ("3",),
            lambda: s.set_listening(Listening.REMOVED),
            has,
            lambda: s.listening is Listening.REMOVED,
        ),
        Command("both", "Listen", "Both channels", ("4",), lambda: s.set_pick(""), two, lambda: not s.pick),
        Command("left", "Listen", "Left only", ("5",), lambda: s.set_pick("left"), two, lambda: s.pick == "left"),
        Command("right", "Listen", "Right only", ("6",), lambda: s.set_pick("right"), two, lambda: s.pick == "right"),
        Command("mid", "Listen", "Mid", ("7",), lambda: s.set_pick("mid"), two, lambda: s.pick == "mid"),
        Command("side", "Listen", "Side", ("8",), lambda: s.set_pick("side"), two, lambda: s.pick == "side"),
        Command("mono", "Listen", "Mono sum", ("9",), lambda: s.set_pick("mono"), two, lambda: s.pick == "mono"),
        Command(
            "matched",
            "Listen",
            "Matched level",
            ("Shift+M",),
            lambda: s.set_matched(not s.matched),
            has,
            lambda: s.matched,
        ),
        Command(
            "only_band", "Listen", "Selected band only", ("Shift+O",), s.toggle_only_band, has, lambda: s.only_band
        ),
        Command("output", "Listen", "Sound output\u2026", (), w.doors.show_sound),
        Command("start", "Listen", "To the start", ("Home",), lambda: to("start"), has),
        Command("end", "Listen", "To the end", ("End",), lambda: to("end"), has),
        Command("back", "Listen", "Back a little", ("Left",), lambda: s.nudge(-0.1), has),
        Command("forward", "Listen", "Forward a little", ("Right",), lambda: s.nudge(0.1), has),
        Command("back_far", "Listen", "Back two seconds", ("Shift+Left",), lambda: s.nudge(-2.0), has),
        Command("forward_far", "Listen", "Forward two seconds", ("Shift+Right",), lambda: s.nudge(2.0), has),
    ]


def _views(w: MainWindow) -> list[Command]:
    axis, sonogram, wave, s = w.bench.axis, w.bench.sonogram, w.bench.waveform, w.studio
    has = lambda: s.recording is not None  # noqa: E731

    def zoom(factor: float) -> None:
        x = axis.x_at(s.transport.position)
        axis.zoom(factor, x if 0 <= x <= axis.width else axis.width / 2)

    def to_selection() -> None:
        if s.selection is not None:
            axis.show_span(s.selection.span.start, s.selection.span.stop)

    def other_theme() -> None:
        name = "lamplight" if theme().name == "linen" else "linen"
        use_theme(name)
        w.preferences.set("theme", name)

    def size(step: int) -> None:
        sizes = (0, *SIZES)
        at = sizes.index(sonogram.look.size) + step
        sonogram.choose(size=sizes[at % len(sizes)])
        now = sonogram.look.size
        shown = f"transform size {now}" if now else "blended transform sizes"
        s.say(f"The sonogram uses {shown}.")

    return [
        Command("bench", "View", "Bench", ("F2",), lambda: w.go_to(0)),
        Command("delivery", "View", "Delivery", ("F4",), lambda: w.go_to(1)),
        Command("zoom_in", "View", "Zoom in", ("+", "="), lambda: zoom(1.5), has),
        Command("zoom_out", "View", "Zoom out", ("-",), lambda: zoom(1 / 1.5), has),
        Command("zoom_whole", "View", "Show all", ("0",), axis.show_whole, has),
        Command("zoom_marked", "View", "Zoom to selection", ("Z",), to_selection, lambda: s.selection is not None),
        Command("page_back", "View", "Scroll back", ("PgUp",), lambda: axis.scroll(-0.8 * axis.width), has),
        Command("page_on", "View", "Scroll forward", ("PgDown",), lambda: axis.scroll(0.8 * axis.width), has),
        Command("longer", "View", "Sonogram: next transform size", ("Ctrl+Right",), lambda: size(1), has),
        Command("shorter", "View", "Sonogram: previous transform size", ("Ctrl+Left",), lambda: size(-1), has),
        Command(
            "darker",
            "View",
            "Sonogram: darker",
            ("Ctrl+Up",),
            lambda: sonogram.set_levels(sonogram.low_db - 3, sonogram.high_db - 3),
            has,
        ),
        Command(
            "paler",
            "View",
            "Sonogram: lighter",
            ("Ctrl+Down",),
            lambda: sonogram.set_levels(sonogram.low_db + 3, sonogram.high_db + 3),
            has,
        ),
        Command(
            "comb",
            "View",
            "Sonogram: harmonics at pointer",
            ("H",),
            sonogram.toggle_comb,
            has,
            lambda: sonogram.comb,
        ),
        Command("inspect", "View", "Inspect", ("Ctrl+I",), w.inspect, has),
        Command(
            "harm",
            "View",
            "Sonogram: show harm to the voice",
            ("Shift+H",),
            sonogram.toggle_harm,
            has,
            lambda: sonogram.shows_harm,
        ),
        Command("figures", "View", "Measurements\u2026", ("Shift+I",), w.doors.show_figures, has),
        Command("freeze", "View", "Spectrum: freeze or resume", ("F",), w.bench.freeze_spectrum, has),
        Command(
            "spectrum",
            "View",
            "Enlarged spectrum",
            ("S",),
            w.bench.toggle_spectrum,
            has,
            w.bench.large_spectrum.isVisible,
        ),
        Command("levels", "View", "Levels", ("V",), w.bench.toggle_levels, has, lambda: w.bench.shows_levels),
        Command(
            "wave_linear",
            "View",
            "Waveform: linear amplitude",
            ("Y",),
            lambda: wave.set_look(linear=not wave.linear),
            has,
            lambda: wave.linear,
        ),
        Command(
            "wave_rows",
            "View",
            "Waveform: each channel in its row",
            ("Shift+Y",),
            lambda: wave.set_look(in_rows=not wave.in_rows),
            has,
            lambda: wave.in_rows,
        ),
        Command("sonogram_menu", "View", "Sonogram: display options\u2026", ("W",), sonogram.show_menu, has),
        Command(
            "closer_hz",
            "View",
            "Sonogram: zoom in on frequency",
            ("Alt+Up",),
            lambda: sonogram.zoom_band(0.8, sonogram.height() / 2),
            has,
        ),
        Command(
            "wider_hz",
            "View",
            "Sonogram: zoom out in frequency",
            ("Alt+Down",),
            lambda: sonogram.zoom_band(1.25, sonogram.height() / 2),
            has,
        ),
        Command(
            "theme",
            "View",
            "Dark theme (Lamplight)",
            ("Ctrl+L",),
            other_theme,
            checked=lambda: theme().name == "lamplight",
        ),
    ]


def _score(w: MainWindow) -> list[Command]:
    s, document = w.studio, w.studio.document
    has = lambda: s.recording is not None  # noqa: E731
    on_step = lambda: s.step is not None  # noqa: E731

    def toggle() -> None:
        if s.step is not None and s.recording is not None:
            document.set_enabled(s.recording.id, s.step.id, enabled=not s.step.enabled)

    def remove() -> None:
        if s.step is not None and s.recording is not None:
            document.remove_step(s.recording.id, s.step.id)

    def move(by: int) -> None:
        if s.step is not None and s.recording is not None:
            place = [x.id for x in s.recording.score].index(s.step.id) + by
            document.move_step(s.recording.id, s.step.id, place)

    def choose(by: int) -> None:
        if s.recording is not None and s.recording.score:
            ids = [x.id for x in s.recording.score]
            at = ids.index(s.step_id) + by if s.step_id in ids else 0
            s.choose_step(ids[min(max(at, 0), len(ids) - 1)])

    return [
        Command("add", "Steps", "Add a step\u2026", ("A",), lambda: w.bench.choose_tool(on_selection=False), has),
        Command(
            "treat",
            "Steps",
            "Add step in selection\u2026",
            ("T",),
            lambda: w.bench.choose_tool(on_selection=True),
            lambda: s.selection is not None,
        ),
        Command("step_copy", "Steps", "Copy the step", ("Ctrl+C",), s.repairs.copy_step, on_step),
        Command(
            "step_paste", "Steps", "Paste the step", ("Ctrl+V",), s.repairs.paste_step, lambda: s.repairs.can_paste
        ),
        Command(
            "step_paste_all",
            "Steps",
            "Paste the step to every recording",
            ("Ctrl+Shift+V",),
            s.repairs.paste_everywhere,
            lambda: s.repairs.can_paste,
        ),
        Command(
            "suggest",
            "Steps",
            "Find settings",
            ("U",),
            s.surveys.suggest,
            lambda: s.step is not None and s.step.tool.suggest is not None,
        ),
        Command(
            "next_moment", "Steps", "Next place of the step", ("Shift+N",), lambda: w.bench.go_to_moment(1), on_step
        ),
        Command(
            "previous_moment",
            "Steps",
            "Previous place of the step",
            ("Shift+B",),
            lambda: w.bench.go_to_moment(-1),
            on_step,
        ),
        Command("leave_moment", "Steps", "Skip or include this place", ("X",), w.bench.leave_moment, on_step),
        Command("step_on", "Steps", "Switch the step on or off", ("E",), toggle, on_step),
        Command("step_next", "Steps", "Next step", ("Down",), lambda: choose(1), on_step),
        Command("step_previous", "Steps", "Previous step", ("Up",), lambda: choose(-1), on_step),
        Command("step_down", "Steps", "Move the step down", ("Shift+Down",), lambda: move(1), on_step),
        Command("step_up", "Steps", "Move the step up", ("Shift+Up",), lambda: move(-1), on_step),
        Command("step_remove", "Steps", "Remove the step", ("Del",), remove, on_step),
    ]


def _rest(w: MainWindow) -> list[Command]:
    def go_and_deliver() -> None:
        w.go_to(1)
        w.delivery.ask_and_deliver()

    def has_sound() -> bool:
        return w.studio.chain is not None

    measuring = w.delivery.measuring
    with_sound: tuple[tuple[str, str, tuple[str, ...], Callable[[], None]], ...] = (
        ("loudest", "Loudest 3 s", (), lambda: measuring.go_to_loudest(3.0)),
        ("loudest_long", "Loudest 10 s", (), lambda: measuring.go_to_loudest(10.0)),
        ("readings", "Other loudness readings\u2026", (), measuring.show_readings),
        ("side_by_side", "Compare programmes\u2026", (), measuring.show_all),
        ("deliver", "Deliver\u2026", ("Ctrl+D",), go_and_deliver),
    )
    return [
        *(Command(name, "Delivery", title, keys, call, has_sound) for name, title, keys, call in with_sound),
        Command("own_target", "Delivery", "Custom target\u2026", ("Ctrl+T",), w.doors.edit_target),
        Command("menu", "Help", "Open the menu", ("F10",), w.top.menu.showMenu),
        Command("tour", "Help", "Tour", (), w.show_tour),
        Command("storage", "Help", "Cache\u2026", (), w.doors.show_storage),
        Command("manual", "Help", "Manual", ("F1",), w.doors.show_help),
        Command("about", "Help", "About Pulizia", (), w.doors.show_about),
        Command("keys", "Help", "Keys", ("Shift+F1",), w.doors.show_keys),
    ]


def _do(call: Callable[[], object]) -> None:
    call()
