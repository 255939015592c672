# SPDX-License-Identifier: GPL-3.0-or-later
"""Draw the tick and the arrow of each theme, which Qt's style sheets take from files: python scripts/draw_signs.py.

They lie beside the fonts, as src/pulizia/desktop/signs/THEME-SIGN.png, twice as large as they are shown.
"""

from __future__ import annotations

import os
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QGuiApplication, QImage, QPainter, QPen

from pulizia.desktop.theme import THEMES

SIGNS = Path(__file__).resolve().parent.parent / "src" / "pulizia" / "desktop" / "signs"
SHAPES = {"tick": ((2.5, 6.5), (5, 9), (9.5, 3.5)), "arrow": ((2, 4), (6, 8), (10, 4))}
COLOURS = {"tick": "verd", "arrow": "soft"}

if __name__ == "__main__":
    application = QGuiApplication([])
    for theme in THEMES.values():
        for name, points in SHAPES.items():
            image = QImage(24, 24, QImage.Format.Format_ARGB32)
            image.fill(Qt.GlobalColor.transparent)
            painter = QPainter(image)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.scale(2, 2)
            painter.setPen(QPen(QColor(getattr(theme, COLOURS[name])), 1.8))
            painter.drawPolyline([QPointF(x, y) for x, y in points])
            painter.end()
            image.save(str(SIGNS / f"{theme.name}-{name}.png"))
