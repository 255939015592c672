# SPDX-License-Identifier: GPL-3.0-or-later
"""What assistive technology is told of widgets that draw themselves: their role, and their value in words."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QObject
from PySide6.QtGui import QAccessible
from PySide6.QtWidgets import QAccessibleWidget, QWidget

ROLES = {
    "button": QAccessible.Role.PushButton, "slider": QAccessible.Role.Slider, "list": QAccessible.Role.List,
    "item": QAccessible.Role.ListItem, "tabs": QAccessible.Role.PageTabList, "choice": QAccessible.Role.RadioButton,
    "picture": QAccessible.Role.Graphic, "chart": QAccessible.Role.Chart, "meter": QAccessible.Role.Meter
    if hasattr(QAccessible.Role, "Meter") else QAccessible.Role.Indicator, "clock": QAccessible.Role.Clock,
    "group": QAccessible.Role.Grouping, "table": QAccessible.Role.Table, "section": QAccessible.Role.Section,
}  # fmt: skip

_made: dict[int, QAccessibleWidget] = {}  # Qt uses them until the widget goes


class _Access(QAccessibleWidget):
    """A widget with the role that its class names in ``accessible_role``."""

    def __init__(self, widget: QWidget, role: str) -> None:
        super().__init__(widget, ROLES[role])
        self._widget = widget

    def text(self, part: QAccessible.Text) -> str:
        """The widget's own words for what it shows, where it has some, in the place of its description."""
        words = getattr(self._widget, "accessible_words", None)
        if part is QAccessible.Text.Description and words is not None:
            return str(words())
        return super().text(part)


def _interface_of(_class_name: str, thing: QObject) -> Any:  # noqa: ANN401 - None leaves it to Qt
    role = getattr(thing, "accessible_role", "")
    if not role or not isinstance(thing, QWidget):
        return None
    key = id(thing)
    made = _made[key] = _Access(thing, role)
    thing.destroyed.connect(lambda: _made.pop(key, None))
    return made


def install() -> None:
    """Tell roles from now on; called once, when the application is made."""
    QAccessible.installFactory(_interface_of)
