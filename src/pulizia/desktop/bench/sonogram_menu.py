# SPDX-License-Identifier: GPL-3.0-or-later
"""The choices for the sonogram: between moments and lines, window, axis, ramp, channels."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QSlider, QWidget, QWidgetAction

from pulizia.desktop.bench.sonogram_look import Looked
from pulizia.desktop.controls import label
from pulizia.desktop.menu import Menu
from pulizia.desktop.ramps import RAMPS
from pulizia.measure.frequency_axis import AXES
from pulizia.measure.sonogram import SIZES
from pulizia.measure.spectrum import WINDOWS
from pulizia.words import N_, tr, translated

CHANNELS = {"": N_("all, by power"), "left": N_("left"), "right": N_("right"), "mid": N_("mid"), "side": N_("side")}


class SizeSlider(QWidget):
    """One transform length between short ones, which show moments, and long ones, which show lines."""

    def __init__(self, view: Looked) -> None:
        super().__init__()
        self._view = view
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 4, 12, 4)
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setRange(0, len(SIZES) - 1)
        self.slider.setPageStep(1)
        self.slider.setFixedWidth(110)
        self.slider.setAccessibleName(tr("Transform size: short shows clicks, long shows hum"))
        self.size_label = label("", 12, token="soft")
        self.size_label.setFixedWidth(52)
        for part in (label(tr("short"), 12), self.slider, label(tr("long"), 12), self.size_label):
            row.addWidget(part)
        self.slider.setValue(SIZES.index(view.look.size) if view.look.size else SIZES.index(2048))
        self.slider.valueChanged.connect(lambda index: view.choose(size=SIZES[index]))
        self.slider.valueChanged.connect(lambda _index: self.refresh())
        self.refresh()

    def refresh(self) -> None:
        """Show the length in use."""
        size = self._view.look.size
        self.size_label.setText(str(size) if size else tr("blended"))


def sonogram_menu(view: Looked, parent: QWidget) -> Menu:
    """Everything that can be chosen for the sonogram."""
    menu = Menu(parent)
    sizes = SizeSlider(view)
    action = QWidgetAction(menu)
    action.setDefaultWidget(sizes)
    menu.addAction(action)
    blended = menu.addAction(tr("Blended transform sizes"))
    blended.setCheckable(True)
    blended.setChecked(not view.look.size)
    blended.triggered.connect(lambda _on=False: view.choose(size=0))
    sharpened = menu.addAction(tr("Sharpened (reassigned)"))
    sharpened.setCheckable(True)
    sharpened.setChecked(view.look.sharpened)
    sharpened.triggered.connect(lambda on: view.choose(sharpened=on))
    menu.addSeparator()
    groups: tuple[tuple[str, str, dict[str, str]], ...] = (
        (tr("Frequency axis"), "axis", AXES),
        (tr("Window"), "window", WINDOWS),
        (tr("Colours"), "ramp", RAMPS),
        (tr("Channels"), "channel", CHANNELS),
    )
    for title, name, choices in groups:
        part = menu.submenu(translated(title))
        for value, text in choices.items():
            chosen = part.addAction(translated(text))
            chosen.setCheckable(True)
            chosen.setChecked(getattr(view.look, name) == value)
            chosen.triggered.connect(lambda _on=False, n=name, v=value: view.choose(**{n: v}))
    menu.addSeparator()
    menu.addAction(tr("Reset level range")).triggered.connect(lambda: view.set_levels(-84.0, -34.0))
    menu.addAction(tr("Full frequency range")).triggered.connect(lambda: view.set_band(40.0, 20_000.0))
    return menu
