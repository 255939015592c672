# SPDX-License-Identifier: GPL-3.0-or-later
"""The control of one setting, made from its declaration."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from pulizia.desktop.controls import ChoiceBox, Tick, label, setting_name
from pulizia.desktop.sliders import SliderRow
from pulizia.settings.declare import Choice, Declaration, Number, Places, Settings, Switch, default_of
from pulizia.words import translated

BESIDE_NAME = 94  # pixels for the text of a choice beside its name


class Made(NamedTuple):
    """The control, and the row that holds it with its name."""

    control: QWidget
    row: QWidget


def control_of(
    settings: type[Settings],
    name: str,
    declaration: Declaration,
    *,
    change: Callable[[str, Any], None],
    settle: Callable[[], None],
    refuse: Callable[[str], None],
) -> Made | None:
    """A slider, a choice, a tick or a word for a setting; None for those that pictures show."""
    if isinstance(declaration, Number):
        default = default_of(settings, name)
        usual = declaration.low if default is None else float(default)
        slider = SliderRow(declaration, usual, default)
        slider.changed.connect(lambda value: change(name, value))
        slider.let_go.connect(settle)
        slider.refused.connect(refuse)
        return Made(slider, slider)
    if isinstance(declaration, Choice):
        box = ChoiceBox()
        for word, text in declaration.options:
            box.addItem(translated(text), word)
        box.setToolTip(translated(declaration.help))
        box.setAccessibleName(translated(declaration.label))
        box.activated.connect(lambda _index: change(name, box.currentData()))
        longest = max(box.fontMetrics().horizontalAdvance(box.itemText(n)) for n in range(box.count()))
        made = _row if longest <= BESIDE_NAME else _rows
        return Made(box, made(declaration.label, box))
    if isinstance(declaration, Switch):
        check = Tick(declaration.label)
        check.setToolTip(translated(declaration.help))
        check.clicked.connect(lambda on: change(name, on))
        return Made(check, check)
    if isinstance(declaration, Places):
        told = label("", 12, token="soft")
        told.setToolTip(translated(declaration.help))
        return Made(told, _row(declaration.label, told))
    return None


def _row(text: str, widget: QWidget) -> QWidget:
    row = QWidget()
    name = setting_name(text)
    row.setFixedHeight(max(30, name.height()))
    line = QHBoxLayout(row)
    line.setContentsMargins(0, 0, 0, 0)
    line.setSpacing(8)
    line.addWidget(name)
    line.addWidget(widget, 1)
    return row


def _rows(text: str, widget: QWidget) -> QWidget:
    """The name over its control, for a choice whose words are too long to stand beside it."""
    rows = QWidget()
    column = QVBoxLayout(rows)
    column.setContentsMargins(0, 4, 0, 0)
    column.setSpacing(2)
    column.addWidget(label(text))
    column.addWidget(widget)
    return rows
