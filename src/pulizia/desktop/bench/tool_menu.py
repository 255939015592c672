# SPDX-License-Identifier: GPL-3.0-or-later
"""The menu of tools for a new step."""

from __future__ import annotations

from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QWidget

from pulizia.desktop.typed_menu import TypedMenu
from pulizia.session.session import Session
from pulizia.tools.base import FAMILIES
from pulizia.tools.registry import ALL
from pulizia.words import translated


def show_tool_menu(session: Session, steps: QWidget, corner: QPoint, *, on_selection: bool) -> None:
    """Offer the tools by family; the chosen one becomes a step, over everything or over the selection.

    ``steps`` shows the steps: it takes the keys, so that Tab goes on to the new step's settings.
    """

    def add(tool_id: str) -> None:
        session.repairs.add_tool(tool_id, on_selection=on_selection)
        steps.setFocus()

    menu = TypedMenu(steps)
    for family in FAMILIES:
        menu.addSeparator()
        for tool in (t for t in ALL if t.family == family and not t.other_field):  # those are made by a search
            action = menu.addAction(f"{translated(tool.title)}\t{translated(tool.summary)}")
            action.setData(tool.id)
            action.triggered.connect(lambda _on=False, t=tool.id: add(t))
    menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    menu.popup(corner)
