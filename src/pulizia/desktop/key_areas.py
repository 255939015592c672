# SPDX-License-Identifier: GPL-3.0-or-later
"""From one area of the window to the next by one key: list, selection, steps, settings, spectrum, foot."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import chain

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QWidget

TAB = Qt.FocusPolicy.TabFocus


def turn(areas: Sequence[QWidget], by: int) -> None:
    """Give the keys to the next area (``by`` 1) or the one before (-1): to what had them there last, else to its first stop.

    ``areas`` stand in the order of the work; one may lie in another. Those without anything that takes keys are passed over.
    """
    stops = [(area, stop) for area in areas if (stop := _stop_of(areas, area)) is not None]
    if not stops:
        return
    here: QWidget | None = QApplication.focusWidget()
    mine = None if here is None else _area_of(areas, here)
    at = next((n for n, (area, _) in enumerate(stops) if area is mine), None)
    first = 0 if by > 0 else len(stops) - 1
    stops[first if at is None else (at + by) % len(stops)][1].setFocus(Qt.FocusReason.TabFocusReason)


def _area_of(areas: Sequence[QWidget], widget: QWidget) -> QWidget | None:
    """The innermost area that holds a widget."""
    holding = [area for area in areas if area.isAncestorOf(widget)]  # a widget is one of itself
    return next((area for area in holding if all(other.isAncestorOf(area) for other in holding)), None)


def _stop_of(areas: Sequence[QWidget], area: QWidget) -> QWidget | None:
    """What had the keys there last, else the first that takes them.

    Widgets are taken in the order in which they were made. The chain of the focus would have the order of Tab, but to ask
    a widget for the next one there makes it, for the bindings, the owner of that one: what is deleted later, a menu
    for instance, would take the rest of the window along.
    """
    last: QWidget | None = area.focusWidget()
    known = () if last is None else (last,)
    inside = chain(known, _with_all_inside(area))
    return next((stop for stop in inside if _takes_keys(stop) and _area_of(areas, stop) is area), None)


def _with_all_inside(widget: QWidget) -> Iterator[QWidget]:
    yield widget
    for child in widget.children():
        if isinstance(child, QWidget):
            yield from _with_all_inside(child)


def _takes_keys(widget: QWidget) -> bool:
    return widget.isVisible() and widget.isEnabled() and bool(widget.focusPolicy() & TAB)
