# SPDX-License-Identifier: GPL-3.0-or-later
"""A report page printed to PDF, written beside its name and renamed into place."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
from PySide6.QtCore import QBuffer, QMarginsF, QPointF, QRectF, QSizeF, QUrl
from PySide6.QtGui import (
    QColor,
    QImage,
    QPageLayout,
    QPageSize,
    QPainter,
    QPdfWriter,
    QPen,
    QTextDocument,
)

from pulizia.desktop.theme import font
from pulizia.measure.loudness import Measures
from pulizia.media.write import write_bytes
from pulizia.units import format_number

RESOLUTION = 300
MARGIN_MM = 18.0
WIDTH, HEIGHT = 650, 180
PIXELS_PER_INCH = 96.0
PAPER_STYLE = (
    "body, td, th, p, li { font-size: 12px; color: #1b2e3c } h1 { font-size: 20px } h2 { font-size: 14px; margin-top: 18px } "
    "th { color: #55646c; font-weight: 400; font-size: 11px; text-align: left } .soft { color: #55646c } "
    ".over { color: #a8433a; font-weight: 600 } .within { color: #226660; font-weight: 600 }"
)
LOW_LUFS, HIGH_LUFS = -50.0, -10.0


def print_pdf(page: str, found: Measures, target_lufs: float, target: Path) -> None:
    """Print a report page; rich text cannot draw its curve, which is painted from the measures instead.

    Raises
    ------
    DiskError
        When the disk refuses; an existing file is then unchanged.
    """
    memory = QBuffer()
    memory.open(QBuffer.OpenModeFlag.WriteOnly)
    writer = QPdfWriter(memory)
    writer.setResolution(RESOLUTION)
    writer.setPageLayout(
        QPageLayout(
            QPageSize(QPageSize.PageSizeId.A4),
            QPageLayout.Orientation.Portrait,
            QMarginsF(MARGIN_MM, MARGIN_MM, MARGIN_MM, MARGIN_MM),
            QPageLayout.Unit.Millimeter,
        )
    )
    document = QTextDocument()
    document.setUseDesignMetrics(True)
    document.addResource(QTextDocument.ResourceType.ImageResource, QUrl("curve"), curve_image(found, target_lufs))
    document.setDefaultFont(font(13))
    document.setDocumentMargin(0.0)
    document.setHtml(for_paper(page))
    # laid out in pixels of 1/96 inch, as the page means them, and drawn larger by as much as the paper is finer
    finer = RESOLUTION / PIXELS_PER_INCH
    size = QSizeF(writer.width() / finer, writer.height() / finer)
    document.setPageSize(size)
    painter = QPainter(writer)
    painter.scale(finer, finer)
    for number in range(document.pageCount()):
        if number:
            writer.newPage()
        painter.save()
        painter.translate(0.0, -number * size.height())
        document.drawContents(painter, QRectF(0.0, number * size.height(), size.width(), size.height()))
        painter.restore()
    painter.end()
    del writer
    write_bytes(target, bytes(memory.data().data()))


def for_paper(page: str) -> str:
    """The page in the few words that Qt's rich text knows: no ground, tables as wide as the paper, figures to the right."""
    body = re.sub(r"<svg.*?</svg>", f'<img src="curve" width="{WIDTH}" height="{HEIGHT}">', page, flags=re.DOTALL)
    body = re.sub(r"<style>.*?</style>", f"<style>{PAPER_STYLE}</style>", body, flags=re.DOTALL)
    body = body.replace("<table>", '<table width="100%" cellpadding="3" cellspacing="0">')

    def to_the_right(row: re.Match[str]) -> str:
        first, *others = re.split(r"(?=<t[dh])", row.group(0).removeprefix("<tr>"))[1:]
        return "<tr>" + first + "".join(re.sub(r"^<(t[dh])", r'<\1 align="right"', cell) for cell in others)

    return re.sub(r"<tr>.*?(?=</tr>)", to_the_right, body, flags=re.DOTALL)


def curve_image(found: Measures, target_lufs: float) -> QImage:
    """Short-term loudness over time, with the target."""
    image = QImage(2 * WIDTH, 2 * HEIGHT, QImage.Format.Format_RGB32)
    image.fill(QColor("white"))
    painter = QPainter(image)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.scale(2.0, 2.0)
    painter.setFont(font(11))

    def y(level: float) -> float:
        return 8.0 + (HIGH_LUFS - min(max(level, LOW_LUFS), HIGH_LUFS)) / (HIGH_LUFS - LOW_LUFS) * (HEIGHT - 16.0)

    painter.setPen(QPen(QColor("#d9d1c0"), 0.8))
    for level in range(round(LOW_LUFS), round(HIGH_LUFS) + 1, 10):
        painter.drawLine(QPointF(30, y(level)), QPointF(WIDTH - 4, y(level)))
        painter.setPen(QColor("#55646c"))
        painter.drawText(QPointF(2, y(level) + 4), format_number(level, 0))
        painter.setPen(QPen(QColor("#d9d1c0"), 0.8))
    painter.setPen(QPen(QColor("#2c7a73"), 3))
    painter.drawLine(QPointF(30, y(target_lufs)), QPointF(WIDTH - 4, y(target_lufs)))
    thin = max(1, len(found.short_term) // 600)
    levels = found.short_term[: len(found.short_term) // thin * thin].reshape(-1, thin).max(axis=1)
    points = [
        QPointF(30 + (WIDTH - 34) * n / max(1, len(levels) - 1), y(float(v)))
        for n, v in enumerate(levels)
        if np.isfinite(v)
    ]
    painter.setPen(QPen(QColor("#1b2e3c"), 1.2))
    painter.drawPolyline(points)
    painter.end()
    return image
