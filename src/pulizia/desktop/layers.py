# SPDX-License-Identifier: GPL-3.0-or-later
"""Parts of a view that are drawn once and kept until what they show changes."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QPixmap
from PySide6.QtWidgets import QWidget

from pulizia.desktop.theme import colour


def layer_of(view: QWidget, ground: str = "", *, height: int | None = None) -> QPixmap:
    """An empty layer as large and as fine as a view, or of another height; filled with a colour of the theme or transparent."""
    ratio = view.devicePixelRatioF()
    layer = QPixmap(QSize(view.width(), view.height() if height is None else height) * ratio)
    layer.setDevicePixelRatio(ratio)
    layer.fill(colour(ground) if ground else Qt.GlobalColor.transparent)
    return layer
