# SPDX-License-Identifier: GPL-3.0-or-later
"""How the commands lie in their menus: in groups with a line between, and in submenus where there are many."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from PySide6.QtGui import QAction

from pulizia.desktop.menu import Menu
from pulizia.words import N_, translated

LINE = ""
Rows = tuple["str | tuple[str, Rows]", ...]
"""Names of commands, LINE, and (title, rows) of submenus."""

_EDIT: Rows = (
    "undo", "redo", "history", LINE,
    (N_("Select"), (
        "select_all", "clear", "mark_start", "mark_stop", LINE, "phrase", "phrase_next", "phrase_previous", "pause_next",
        "pause_previous", LINE, "band_up", "band_down", "band_wider", "band_narrower",
    )),
    (N_("Markers"), ("marker", "marker_rename", "marker_next", "marker_previous", LINE, "markers_out", "markers_in")), LINE,
    "noise", "mend", "area", LINE, "trim", "untrim", "give_back",
)  # fmt: skip
_LISTEN: Rows = (
    "play", "loop", "play_around", "loop_pause", "follow", LINE,
    (N_("Go"), ("start", "end", "back", "forward", "back_far", "forward_far", LINE, "go_to_time")),
    (N_("Shuttle"), ("shuttle_back", "shuttle_stop", "shuttle_forward")),
    (N_("Channels"), ("both", "left", "right", "mid", "side", "mono")), LINE,
    "compare", "before", "after", "removed", "removed_by_step", "matched", "only_band", LINE, "output",
)  # fmt: skip
_VIEW: Rows = (
    "bench", "assembly", "delivery", LINE, "zoom_in", "zoom_out", "zoom_whole", "zoom_marked", "page_back", "page_on", LINE,
    "inspect", "treat_all", "finding_next", "finding_previous", "harm", "figures", LINE, "levels", "spectrum", "freeze",
    (N_("Sonogram"), ("sonogram_menu", LINE, "longer", "shorter", "darker", "paler", "comb", LINE, "closer_hz", "wider_hz")),
    (N_("Waveform"), ("wave_linear", "wave_rows", "wave_larger", "wave_smaller")), LINE, "theme", "appearance", "language",
)  # fmt: skip
_STEPS: Rows = (
    "add", "treat", LINE, "step_on", "step_up", "step_down", "step_remove", LINE, "step_copy", "step_paste", "step_paste_all",
    LINE, "suggest", "ab", LINE, "next_moment", "previous_moment", "leave_moment", LINE, "step_next", "step_previous",
)  # fmt: skip
_ASSEMBLY: Rows = (
    "programme_add", "programme_timecode", LINE, "programme_new", "template_new", "template_keep", LINE,
    (N_("Clips"), (
        "programme_split", "programme_trim_start", "programme_trim_end", "programme_cross", "programme_switch", LINE,
        "programme_remove", "programme_ripple", "programme_close_gap", LINE, "programme_copy", "programme_paste", "programme_insert",
        "programme_duplicate", LINE, "programme_bench", LINE, "programme_louder", "programme_quieter", "programme_match", "programme_level",
    )),
    (N_("Move"), (
        "programme_earlier", "programme_later", "programme_bit_earlier", "programme_bit_later", "programme_sample_earlier",
        "programme_sample_later", LINE, "programme_lane_up", "programme_lane_down", LINE, "programme_slip_back", "programme_slip_on",
    )),
    (N_("Select"), (
        "programme_clip", "programme_clip_next", "programme_clip_previous", LINE, "programme_all", "programme_of_lane",
        "programme_behind", "programme_phrase", "programme_span_start", "programme_span_stop", "programme_none",
    )),
    (N_("Speech"), (
        "programme_next_phrase", "programme_previous_phrase", LINE, "programme_tighten", "programme_lengthen", "programme_breath",
        LINE, "programme_words", "programme_voices",
    )),
    (N_("Microphones"), ("programme_lay", "programme_field", "programme_spread", "programme_line_up", "programme_microphones")),
    (N_("Lanes"), (
        "programme_lane_previous", "programme_lane_next", "programme_mute", "programme_solo", "programme_lock", "programme_lane_menu",
        LINE, "programme_lane", "programme_tone", LINE, "programme_taller", "programme_flatter", "programme_show_lanes",
    )),
    (N_("Steps"), (
        "programme_step_switch", "programme_step_up", "programme_step_down", "programme_step_remove", LINE, "programme_step_copy",
        "programme_step_paste", "programme_step_lanes", LINE, "programme_original",
    )),
    (N_("Notes"), ("programme_marker", "programme_note", "programme_notes")), LINE,
    (N_("Listen"), ("programme_next_cut", "programme_previous_cut", "programme_loop_cut", "programme_last_edit")),
    (N_("View"), (
        "programme_closer", "programme_farther", "programme_whole", LINE, "programme_levels", "programme_spectrum", "programme_inspect",
    )),
    (N_("Video"), ("film_show", "film_alone", "film_choose", LINE, "film_next", "film_previous")), LINE,
    (N_("Edit list"), ("list_export", "list_conform", LINE, "list_report", "list_received")),
    (N_("Render"), ("programme_render", "programme_stems", "programme_reels", "programme_clips")),
    "programme_deliver",
)  # fmt: skip
ORDER: Mapping[str, Rows] = {
    "File": (
        "new", "open", "save", "save_as", LINE, "relink", "find_original", "recording_remove", LINE, "recipe", "save_recipe", LINE, "print", LINE, "quit",
    ),
    "Edit": _EDIT, "Listen": _LISTEN, "View": _VIEW, "Steps": _STEPS, "Assembly": _ASSEMBLY,
    "Delivery": ("deliver", "own_target", LINE, "readings", "loudest", "loudest_long", "side_by_side"),
    "Help": ("first_steps", "manual", "keys", "menu", "area_next", "area_previous", LINE, "storage", "about"),
}  # fmt: skip


def names_in(rows: Rows) -> list[str]:
    """The commands of a menu and of what lies in it."""
    found: list[str] = []
    for row in rows:
        found += [row] if isinstance(row, str) else names_in(row[1])
    return [name for name in found if name != LINE]


def fill(menu: Menu, rows: Rows, action: Callable[[str], QAction]) -> None:
    """Put commands, lines and submenus into a menu."""
    for row in rows:
        if isinstance(row, tuple):
            fill(menu.submenu(translated(row[0])), row[1], action)
        elif row == LINE:
            menu.addSeparator()
        else:
            menu.addAction(action(row))
