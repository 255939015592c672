# SPDX-License-Identifier: GPL-3.0-or-later
"""Right-click menus of the lanes: what can be done with the clip or the lane under the mouse."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QInputDialog, QWidget

from pulizia.audio.layouts import channel_names
from pulizia.desktop.actions import Actions
from pulizia.desktop.assembly.geometry import Hit
from pulizia.desktop.form import ask_number
from pulizia.desktop.menu import Menu
from pulizia.project.clips import KINDS, Lane, LaneKind
from pulizia.session.assembly_lanes import HIGHEST_GAIN_DB, LOWEST_GAIN_DB
from pulizia.session.session import Session
from pulizia.words import N_, tr, translated

KIND_WORDS: dict[LaneKind, str] = {
    "voice": N_("voice"), "alternate": N_("alternate takes"), "effects": N_("effects"), "fill": N_("fill"), "atmosphere": N_("atmosphere"),
}  # fmt: skip
PLACEMENT_WORDS = {
    "": N_("left and right"), "L": N_("left"), "R": N_("right"), "C": N_("centre"), "LFE": N_("LFE"), "Ls": N_("left surround"),
    "Rs": N_("right surround"),
}  # fmt: skip


CLIP_ROWS = (
    "programme_split", "programme_trim_start", "programme_trim_end", "programme_cross", "programme_switch", "",
    "programme_level", "programme_match", "", "programme_copy", "programme_duplicate", "",
    "programme_field", "programme_spread", "programme_line_up", "",
    "programme_original", "programme_remove", "programme_ripple",
)  # fmt: skip


def show_clip_menu(session: Session, actions: Actions, hit: Hit, to_bench: Callable[[], None], place: QPoint) -> None:
    """The menu of a clip, with the keys of its commands; it is selected first."""
    service = session.assembly
    if hit.clip.id not in service.clip_ids:
        service.select({hit.clip.id})
    menu = actions.menu_of(CLIP_ROWS)
    first = menu.actions()[0]
    repair = QAction(actions.with_keys(tr("Repair on the Bench"), "programme_bench"), menu)
    repair.triggered.connect(lambda _on=False: to_bench())
    menu.insertAction(first, repair)
    menu.insertSeparator(first)
    menu.popup(place)


def ask_lane_name(session: Session, parent: QWidget, lane: Lane) -> None:
    """Ask for another name of a lane."""
    name, good = QInputDialog.getText(parent, tr("Rename the lane"), tr("Name"), text=lane.name)
    if good and name.strip():
        session.assembly.change_lane(lane.id, tr("Rename the lane"), name=name.strip())


def show_lane_menu(
    session: Session, actions: Actions, parent: QWidget, lane: Lane, hide: Callable[[], None], place: QPoint
) -> None:
    """The menu of a lane."""
    service = session.assembly
    service.choose_lane(lane.id)

    def gain() -> None:
        value = ask_number(
            parent, tr("Gain of the lane"), tr("Gain in dB"), lane.gain_db, LOWEST_GAIN_DB, HIGHEST_GAIN_DB, 1
        )
        if value is not None:
            service.set_lane_gain(lane.id, value)
            service.settle()

    menu = Menu(parent)
    menu.addAction(tr("Rename the lane\u2026")).triggered.connect(lambda: ask_lane_name(session, parent, lane))
    menu.addAction(tr("Gain of the lane\u2026")).triggered.connect(gain)
    kinds = menu.submenu(tr("Kind"))
    for kind in KINDS:
        action = kinds.addAction(translated(KIND_WORDS[kind]))
        action.setCheckable(True)
        action.setChecked(lane.kind == kind)
        action.triggered.connect(
            lambda _on=False, k=kind: service.change_lane(lane.id, tr("Change the kind of a lane"), kind=k)
        )
    places = menu.submenu(tr("One channel is heard"))
    programme = service.programme
    speakers = channel_names(programme.channels) if programme is not None and programme.channels > 1 else ()
    for name in ("", *speakers):
        action = places.addAction(translated(PLACEMENT_WORDS.get(name, name)))
        action.setCheckable(True)
        action.setChecked(lane.placement == name)
        action.triggered.connect(
            lambda _on=False, n=name: service.change_lane(lane.id, tr("Place a lane"), placement=n)
        )
    _add_groups(menu, session, lane)
    menu.addSeparator()
    for name in ("programme_tone", "programme_lane", "programme_voices"):
        menu.addAction(actions.actions[name])
    lock = menu.addAction(actions.with_keys(tr("Lock the lane"), "programme_lock"))
    lock.setCheckable(True)
    lock.setChecked(lane.locked)
    lock.triggered.connect(lambda: service.lock_lane(lane.id))
    menu.addAction(tr("Hide the lane")).triggered.connect(lambda: hide())  # noqa: PLW0108 - the click has an argument
    menu.addAction(tr("Move the lane up")).triggered.connect(lambda: service.move_lane(lane.id, -1))
    menu.addAction(tr("Move the lane down")).triggered.connect(lambda: service.move_lane(lane.id, 1))
    menu.addAction(tr("Remove the lane")).triggered.connect(lambda: service.remove_lane(lane.id))
    menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    menu.popup(place)


def _add_groups(menu: Menu, session: Session, lane: Lane) -> None:
    """The groups that there are, none, and a new one; lanes of a group are muted, soloed and turned up together."""
    service = session.assembly
    groups, programme = menu.submenu(tr("Group")), service.programme
    known = dict.fromkeys(la.group for la in programme.lanes if la.group) if programme is not None else {}
    for name in ("", *known):
        action = groups.addAction(name or tr("No group"))
        action.setCheckable(True)
        action.setChecked(lane.group == name)
        action.triggered.connect(lambda _on=False, n=name: service.change_lane(lane.id, tr("Group a lane"), group=n))

    def another() -> None:
        name, good = QInputDialog.getText(menu.parentWidget(), tr("New group"), tr("Name"))
        if good and name.strip():
            service.change_lane(lane.id, tr("Group a lane"), group=name.strip())

    groups.addAction(tr("New group\u2026")).triggered.connect(another)
