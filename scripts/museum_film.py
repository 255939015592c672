# SPDX-License-Identifier: GPL-3.0-or-later
"""A minute of three pendulums that swing at their own pace: the video of the invented clock museum, drawn."""

from __future__ import annotations

from fractions import Fraction
from math import cos, pi, sin
from pathlib import Path

import av
import numpy as np
from PySide6.QtCore import QPointF
from PySide6.QtGui import QColor, QImage, QLinearGradient, QPainter, QPen

WIDTH, HEIGHT, RATE, SECONDS = 640, 360, 25, 60
WALL = ((0.0, "#47545e"), (0.7, "#8d8474"), (1.0, "#3d362e"))


def picture(number: int) -> np.ndarray:
    """(height, width, 3) RGB of one frame."""
    image = QImage(WIDTH, HEIGHT, QImage.Format.Format_RGB888)
    painter = QPainter(image)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    wall = QLinearGradient(0, 0, 0, HEIGHT)
    for place, colour in WALL:
        wall.setColorAt(place, QColor(colour))
    painter.fillRect(0, 0, WIDTH, HEIGHT, wall)
    for k in range(3):
        top = QPointF(130 + 190 * k, 40)
        angle = 0.35 * sin(2 * pi * number / RATE / (1.6 + 0.3 * k))
        end = QPointF(top.x() + 220 * sin(angle), top.y() + 220 * cos(angle))
        painter.setPen(QPen(QColor("#d8c9a3"), 4))
        painter.drawLine(top, end)
        painter.setBrush(QColor("#c79a3c"))
        painter.drawEllipse(end, 26, 26)
    painter.end()
    rows = np.frombuffer(image.constBits(), np.uint8).reshape(HEIGHT, image.bytesPerLine())
    return np.ascontiguousarray(rows[:, : 3 * WIDTH].reshape(HEIGHT, WIDTH, 3))


def write_museum_film(path: Path) -> Path:
    """Write the film."""
    with av.open(str(path), "w") as out:
        stream = out.add_stream("mpeg4", rate=RATE)
        stream.width, stream.height, stream.pix_fmt, stream.bit_rate = WIDTH, HEIGHT, "yuv420p", 4_000_000
        for number in range(RATE * SECONDS):
            frame = av.VideoFrame.from_ndarray(picture(number), format="rgb24")
            frame.pts, frame.time_base = number, Fraction(1, RATE)
            for packet in stream.encode(frame):
                out.mux(packet)
        for packet in stream.encode(None):
            out.mux(packet)
    return path
