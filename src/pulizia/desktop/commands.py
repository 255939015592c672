# SPDX-License-Identifier: GPL-3.0-or-later
"""The table of everything that can be done in the window, with its keys."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from pulizia.audio.spans import with_edge
from pulizia.desktop.actions import Command
from pulizia.desktop.assembly.commands import assembly_commands, on_the_bench
from pulizia.desktop.bars import DELIVERY
from pulizia.desktop.view_commands import listen_commands, view_commands
from pulizia.desktop.window import MainWindow
from pulizia.words import N_, tr

EDITS = frozenset({
    "noise", "mend", "area", "trim", "untrim", "give_back", "add", "treat", "treat_all", "suggest", "leave_moment", "ab", "step_paste",
    "step_paste_all", "step_on", "step_down", "step_up", "step_remove",
})  # fmt: skip
"""Commands that change a recording: they rest in Delivery, where nobody sees what they do."""


def _in_sight(window: MainWindow, commands: list[Command]) -> list[Command]:
    def resting(command: Command) -> Command:
        usual = command.enabled
        return replace(command, enabled=lambda: window.places.currentIndex() != DELIVERY and usual())

    return [resting(command) if command.id in EDITS else command for command in commands]


def window_commands(window: MainWindow) -> list[Command]:
    """All commands of the window."""
    parts = (_files, _edits, listen_commands, view_commands, _score, _rest)
    commands = [command for part in parts for command in part(window)]
    return [
        *_in_sight(window, on_the_bench(window.session, commands)),
        *assembly_commands(
            window.session,
            window.assembly,
            window.list_places,
            window.add_to_programme,
            window.render_programme,
            window.render_stems,
            window.render_reels,
            window.render_clips,
            window.deliver_programme,
        ),
    ]


def _files(w: MainWindow) -> list[Command]:
    has = lambda: w.session.recording is not None  # noqa: E731
    has_steps = lambda: w.session.recording is not None and bool(w.session.recording.score)  # noqa: E731
    return [
        Command("new", N_("File"), tr("New project"), ("Ctrl+N",), w.files.new_project),
        Command("open", N_("File"), tr("Open…"), ("Ctrl+O",), w.files.open_files),
        Command("save", N_("File"), tr("Save project"), ("Ctrl+S",), lambda: _do(w.files.save)),
        Command("save_as", N_("File"), tr("Save project as…"), ("Ctrl+Shift+S",), lambda: _do(w.files.save_as)),
        Command("relink", N_("File"), tr("Relink the recording…"), (), w.files.relink, has),
        Command(
            "recording_remove", N_("File"), tr("Remove the recording from the project"), (), w.remove_recordings, has
        ),
        Command("recipe", N_("File"), tr("Recipes…"), ("Ctrl+R",), w.dialogs.choose_recipe),
        Command(
            "save_recipe",
            N_("File"),
            tr("Save steps as a recipe…"),
            ("Ctrl+Shift+R",),
            w.dialogs.save_recipe,
            has_steps,
        ),
        Command("print", N_("File"), tr("Render…"), ("Ctrl+P",), w.dialogs.show_print, has),
        Command("find_original", N_("File"), tr("Find the original…"), (), w.dialogs.find_original, has),
        Command("quit", N_("File"), tr("Quit"), ("Ctrl+Q",), lambda: _do(w.close)),
    ]


def _edits(w: MainWindow) -> list[Command]:
    s = w.session
    has = lambda: s.recording is not None  # noqa: E731
    marked = lambda: s.selection is not None  # noqa: E731
    trimmed = lambda: s.recording is not None and s.recording.trim is not None  # noqa: E731

    def select_all() -> None:
        if s.recording is not None:
            s.select(0, s.recording.frames)

    def edge(which: str) -> None:
        if s.recording is not None:
            selected = s.selection.span if s.selection else None
            span = with_edge(selected, which, s.transport.position, s.recording.frames)
            s.select(span.start, span.stop)

    def clear() -> None:
        w.message.hide()
        s.clear_selection()

    return [
        Command(
            "undo",
            N_("Edit"),
            tr("Undo"),
            ("Ctrl+Z",),
            s.document.undo,
            lambda: s.document.history.undo_label is not None,
        ),
        Command(
            "redo",
            N_("Edit"),
            tr("Redo"),
            ("Ctrl+Shift+Z", "Ctrl+Y"),
            s.document.redo,
            lambda: s.document.history.redo_label is not None,
        ),
        Command("history", N_("Edit"), tr("History…"), ("Ctrl+H",), w.dialogs.show_history),
        Command("select_all", N_("Edit"), tr("Select all"), ("Ctrl+A",), select_all, has),
        Command(
            "mark_start", N_("Edit"), tr("Set selection start at playhead"), ("[", "I"), lambda: edge("start"), has
        ),
        Command("mark_stop", N_("Edit"), tr("Set selection end at playhead"), ("]", "O"), lambda: edge("stop"), has),
        Command(
            "phrase",
            N_("Edit"),
            tr("Select the phrase or pause at playhead"),
            ("W",),
            lambda: s.phrases.select_at(),  # noqa: PLW0108 - triggered with nothing
            has,
        ),
        Command("phrase_next", N_("Edit"), tr("Next phrase"), ("Ctrl+Right",), lambda: s.phrases.go_phrase(1), has),
        Command(
            "phrase_previous", N_("Edit"), tr("Previous phrase"), ("Ctrl+Left",), lambda: s.phrases.go_phrase(-1), has
        ),
        Command("pause_next", N_("Edit"), tr("Next pause"), ("Alt+Right",), lambda: s.phrases.go_pause(1), has),
        Command("pause_previous", N_("Edit"), tr("Previous pause"), ("Alt+Left",), lambda: s.phrases.go_pause(-1), has),
        Command("band_up", N_("Edit"), tr("Move the selected band up"), ("Alt+Shift+Up",), lambda: s.move_band(1), has),
        Command(
            "band_down",
            N_("Edit"),
            tr("Move the selected band down"),
            ("Alt+Shift+Down",),
            lambda: s.move_band(-1),
            has,
        ),
        Command(
            "band_wider", N_("Edit"), tr("Widen the selected band"), ("Alt+Shift+Right",), lambda: s.widen_band(1), has
        ),
        Command(
            "band_narrower",
            N_("Edit"),
            tr("Narrow the selected band"),
            ("Alt+Shift+Left",),
            lambda: s.widen_band(-1),
            has,
        ),
        Command("clear", N_("Edit"), tr("Select none"), ("Esc",), clear),
        Command(
            "noise",
            N_("Edit"),
            tr("Learn noise"),
            ("N",),
            s.repairs.take_as_noise,
            lambda: s.owner_selection is not None,
        ),
        Command(
            "marker",
            N_("Edit"),
            tr("Set a marker"),
            ("M",),
            lambda: _do(s.markers.add),
            lambda: s.recording is not None,
        ),
        Command(
            "marker_rename",
            N_("Edit"),
            tr("Rename the marker here…"),
            ("Ctrl+M",),
            w.markers.rename_here,
            lambda: bool(s.markers.all),
        ),
        Command(
            "marker_next",
            N_("Edit"),
            tr("Next marker"),
            ("Ctrl+PgDown",),
            lambda: s.markers.go(1),
            lambda: bool(s.markers.all),
        ),
        Command(
            "marker_previous",
            N_("Edit"),
            tr("Previous marker"),
            ("Ctrl+PgUp",),
            lambda: s.markers.go(-1),
            lambda: bool(s.markers.all),
        ),
        Command("markers_out", N_("Edit"), tr("Export markers…"), (), w.markers.export, lambda: bool(s.markers.all)),
        Command("markers_in", N_("Edit"), tr("Import markers…"), (), w.markers.take_in, has),
        Command("mend", N_("Edit"), tr("Repair selected click"), ("C",), s.repairs.mend_selection, marked),
        Command("area", N_("Edit"), tr("Repair selected area"), ("P",), s.repairs.take_as_area, marked),
        Command("trim", N_("Edit"), tr("Trim to selection"), ("D",), s.repairs.trim_to_selection, marked),
        Command("untrim", N_("Edit"), tr("Remove trim"), ("Shift+D",), s.repairs.untrim, trimmed),
        Command("give_back", N_("Edit"), tr("Restore original"), ("G",), s.repairs.give_back, marked),
    ]


def _score(w: MainWindow) -> list[Command]:
    s = w.session
    has = lambda: s.owner is not None  # noqa: E731
    on_step = lambda: s.step is not None  # noqa: E731

    return [
        Command("add", N_("Steps"), tr("Add a step…"), ("A",), lambda: w.here.choose_tool(on_selection=False), has),
        Command(
            "treat",
            N_("Steps"),
            tr("Add step in selection…"),
            ("T",),
            lambda: w.here.choose_tool(on_selection=True),
            lambda: s.owner_selection is not None,
        ),
        Command("step_copy", N_("Steps"), tr("Copy the step"), ("Ctrl+C",), s.steps.copy, on_step),
        Command(
            "step_paste",
            N_("Steps"),
            tr("Paste the step"),
            ("Ctrl+V",),
            s.steps.paste,
            lambda: s.steps.can_paste,
        ),
        Command(
            "step_paste_all",
            N_("Steps"),
            tr("Paste the step to every recording"),
            ("Ctrl+Shift+V",),
            s.steps.paste_everywhere,
            lambda: s.steps.can_paste,
        ),
        Command(
            "suggest",
            N_("Steps"),
            tr("Find settings"),
            ("U",),
            s.surveys.suggest,
            lambda: s.step is not None and s.step.tool.suggest is not None,
        ),
        Command(
            "next_moment",
            N_("Steps"),
            tr("Next place of the step"),
            ("Shift+N",),
            lambda: w.here.go_to_moment(1),
            on_step,
        ),
        Command(
            "previous_moment",
            N_("Steps"),
            tr("Previous place of the step"),
            ("Shift+B",),
            lambda: w.here.go_to_moment(-1),
            on_step,
        ),
        Command("leave_moment", N_("Steps"), tr("Skip or include this place"), ("X",), w.bench.leave_moment, on_step),
        Command("ab", N_("Steps"), tr("Switch settings A/B"), ("Alt+A",), s.presets.switch_side, on_step),
        Command("step_on", N_("Steps"), tr("Switch the step on or off"), ("E",), s.steps.toggle, on_step),
        Command("step_next", N_("Steps"), tr("Next step"), ("Down",), lambda: s.steps.choose(1), on_step),
        Command("step_previous", N_("Steps"), tr("Previous step"), ("Up",), lambda: s.steps.choose(-1), on_step),
        Command("step_down", N_("Steps"), tr("Move the step down"), ("Shift+Down",), lambda: s.steps.move(1), on_step),
        Command("step_up", N_("Steps"), tr("Move the step up"), ("Shift+Up",), lambda: s.steps.move(-1), on_step),
        Command("step_remove", N_("Steps"), tr("Remove the step"), ("Del",), s.steps.remove, on_step),
    ]


def _rest(w: MainWindow) -> list[Command]:
    def go_and_deliver() -> None:
        w.go_to(DELIVERY)
        w.delivery.ask_and_deliver()

    def has_sound() -> bool:
        return w.session.chain is not None

    measuring = w.delivery.measuring
    with_sound: tuple[tuple[str, str, tuple[str, ...], Callable[[], None]], ...] = (
        ("loudest", tr("Loudest 3 s"), (), lambda: measuring.go_to_loudest(3.0)),
        ("loudest_long", tr("Loudest 10 s"), (), lambda: measuring.go_to_loudest(10.0)),
        ("readings", tr("Other loudness readings…"), (), measuring.show_readings),
        ("side_by_side", tr("Compare programmes…"), (), measuring.show_all),
        ("deliver", tr("Deliver…"), ("Ctrl+D",), go_and_deliver),
    )
    return [
        *(Command(name, N_("Delivery"), title, keys, call, has_sound) for name, title, keys, call in with_sound),
        Command("own_target", N_("Delivery"), tr("Custom target…"), ("Ctrl+T",), w.dialogs.edit_target),
        Command("menu", N_("Help"), tr("Open the menu"), ("F10",), w.top.menu.showMenu),
        Command("first_steps", N_("Help"), tr("First steps"), (), w.show_first_steps),
        Command("storage", N_("Help"), tr("Cache…"), (), w.dialogs.show_storage),
        Command("manual", N_("Help"), tr("Manual"), ("F1",), w.dialogs.show_help),
        Command("about", N_("Help"), tr("About Pulizia"), (), w.dialogs.show_about),
        Command("keys", N_("Help"), tr("Keys"), ("Shift+F1",), w.dialogs.show_keys),
    ]


def _do(call: Callable[[], object]) -> None:
    call()
