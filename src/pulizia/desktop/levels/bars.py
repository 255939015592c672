# SPDX-License-Identifier: GPL-3.0-or-later
"""Bars: sample and true peak, RMS, VU and PPM per channel, momentary and short-term loudness."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPixmap
from PySide6.QtWidgets import QWidget

from pulizia.desktop.layers import layer_of
from pulizia.desktop.levels.options import SINE_DB, LevelOptions
from pulizia.desktop.theme import colour, font, theme, theme_notice
from pulizia.measure.live import Reading
from pulizia.units import format_number, gain_to_db
from pulizia.words import tr, translated

LEFT, RIGHT = 84.0, 46.0  # the left one grows with longer names
MOST_LEFT = 0.45  # of the width
HEAD, ROW, GAP, SCALE_HEIGHT = 18, 12, 6, 15
FLOOR_DB = -60.0
MOST_CHANNELS = 8


@dataclass(frozen=True, slots=True)
class Bar:
    """One bar: a level, what is held, and a mark that must not be passed."""

    name: str
    level: float | None
    held: float | None = None
    limit: float | None = None
    text: str | None = None


@dataclass(frozen=True, slots=True)
class Group:
    """Bars over one scale."""

    title: str
    bars: Sequence[Bar]
    low: float
    high: float
    ticks: Sequence[float]
    tick_text: Callable[[float], str]

    @property
    def height(self) -> int:
        """Pixels from title to scale."""
        return HEAD + ROW * len(self.bars) + SCALE_HEIGHT + GAP


class BarStack(QWidget):
    """Groups of bars, one over the other."""

    accessible_role = "meter"

    def __init__(self) -> None:
        super().__init__()
        self.groups: list[Group] = []
        self._still: tuple[Hashable, QPixmap] | None = None
        self._left = LEFT  # where the bars begin
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setAccessibleName(tr("Level bars"))
        theme_notice().changed.connect(self.update)

    def show_groups(self, groups: list[Group]) -> None:
        """Draw these."""
        self.groups = groups
        height = sum(group.height for group in groups)
        if height != self.height():
            self.setFixedHeight(height)
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.drawPixmap(0, 0, self._still_parts())
        painter.setFont(font(11))
        top = 0.0
        for group in self.groups:
            self._paint_levels(painter, group, top)
            top += group.height

    def _still_parts(self) -> QPixmap:
        """Titles, names, tracks and scales, drawn anew only when they change."""
        key = (
            tuple((g.title, g.low, g.high, tuple(g.ticks), tuple((b.name, b.limit) for b in g.bars)) for g in self.groups),
            self.width(), self.devicePixelRatioF(), theme().name,
        )  # fmt: skip
        if self._still is None or self._still[0] != key:
            pixmap = layer_of(self, "paper")
            painter = QPainter(pixmap)
            painter.setFont(font(11))
            widest = max(
                (painter.fontMetrics().horizontalAdvance(b.name) for g in self.groups for b in g.bars), default=0
            )
            self._left = min(max(LEFT, widest + 8.0), MOST_LEFT * self.width())
            top = 0.0
            for group in self.groups:
                self._paint_still(painter, group, top)
                top += group.height
            painter.end()
            self._still = (key, pixmap)
        return self._still[1]

    def _x(self, group: Group, value: float) -> float:
        share = (min(max(value, group.low), group.high) - group.low) / (group.high - group.low)
        return self._left + (self.width() - self._left - RIGHT) * share

    def _paint_still(self, painter: QPainter, group: Group, top: float) -> None:
        painter.setPen(colour("soft"))
        metrics, right = painter.fontMetrics(), Qt.TextElideMode.ElideRight
        title = metrics.elidedText(group.title, right, self.width())
        painter.drawText(QRectF(0, top, self.width(), 14), Qt.AlignmentFlag.AlignVCenter, title)
        bottom = top + HEAD + ROW * len(group.bars)
        for n, bar in enumerate(group.bars):
            y = top + HEAD + ROW * n
            painter.drawText(
                QRectF(0, y - 2, self._left - 6, ROW),
                Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
                metrics.elidedText(bar.name, right, int(self._left) - 6),
            )
            painter.fillRect(QRectF(self._left, y, self.width() - self._left - RIGHT, ROW - 5), colour("track"))
        for tick in group.ticks:
            box = QRectF(self._x(group, tick) - 16, bottom - 2, 32, 13)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, translated(group.tick_text(tick)))

    def _paint_levels(self, painter: QPainter, group: Group, top: float) -> None:
        for n, bar in enumerate(group.bars):
            y = top + HEAD + ROW * n
            if bar.level is not None:
                painter.fillRect(QRectF(self._left, y, self._x(group, bar.level) - self._left, ROW - 5), colour("ink"))
            over = bar.limit is not None and bar.held is not None and bar.held > bar.limit
            if bar.held is not None and bar.held > group.low:
                painter.fillRect(
                    QRectF(self._x(group, bar.held) - 1, y - 1, 2, ROW - 3), colour("madder" if over else "verd")
                )
            if bar.limit is not None:
                painter.fillRect(QRectF(self._x(group, bar.limit), y - 1, 1, ROW - 3), colour("madder"))
            painter.setPen(colour("madder" if over else "ink"))
            text = bar.text if bar.text is not None else format_number(bar.held if bar.held is not None else bar.level)
            painter.drawText(
                QRectF(self.width() - RIGHT, y - 2, RIGHT, ROW),
                Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
                translated(text),
            )


def sample_groups(
    reading: Reading | None, names: Sequence[str], options: LevelOptions, ceiling_db: float
) -> list[Group]:
    """Groups for what is heard: peaks, RMS, VU, PPM."""
    names = list(names)[:MOST_CHANNELS]

    def level(values: object, n: int) -> float | None:
        if reading is None or not isinstance(values, np.ndarray) or n >= len(values):
            return None
        return gain_to_db(float(values[n]))

    r = reading
    lift = SINE_DB if options.rms_sine else 0.0

    def raised(db: float | None) -> float | None:
        return None if db is None else db + lift

    peaks = [
        Bar(tr("{n}  sample", n=n), level(r and r.peak, k), level(r and r.peak_since_reset, k), 0.0)
        for k, n in enumerate(names)
    ]
    true = [
        Bar(tr("{n}  true", n=n), level(r and r.true_peak_hold, k), level(r and r.true_peak_since_reset, k), ceiling_db)
        for k, n in enumerate(names)
    ]
    rms = [Bar(n, raised(level(r and r.rms, k))) for k, n in enumerate(names)]
    reference = options.vu_reference_dbfs
    needle = [level(r and r.vu, k) for k in range(len(names))]
    vu = [Bar(n, None if db is None else db - reference) for n, db in zip(names, needle, strict=True)]
    ppm = [Bar(n, level(r and r.ppm, k)) for k, n in enumerate(names)]
    if options.ppm_kind == "IIa":  # 4 dB to a mark, mark 4 at the alignment level of -18 dBFS

        def marks(db: float) -> str:
            return tr("{db:.0f}", db=4 + (db + 18.0) / 4.0)

        ppm = [
            Bar(
                b.name,
                b.level,
                text="\u2013" if b.level is None else format_number(4 + (max(b.level, -32.0) + 18.0) / 4.0),
            )
            for b in ppm
        ]
        needles = Group(
            tr("PPM, type IIa (4 is −18 dBFS)"), ppm, -32.0, -4.0, [-30, -26, -22, -18, -14, -10, -6], marks
        )
    else:
        ppm = [Bar(b.name, None if b.level is None else b.level + 9.0) for b in ppm]
        needles = Group(tr("PPM, type I (0 is −9 dBFS), dB"), ppm, -42.0, 9.0, [-40, -30, -20, -10, 0, 5], _whole)
    db_ticks = [-60, -40, -20, -10, 0]
    return [
        Group(
            tr("Sample and true peak, highest since reset, dBFS and dBTP"),
            [*peaks, *true],
            FLOOR_DB,
            3.0,
            db_ticks,
            _whole,
        ),
        Group(
            tr("{rms_words}, dBFS", rms_words=options.rms_words),
            rms,
            FLOOR_DB,
            3.0 if options.rms_sine else 0.0,
            db_ticks,
            _whole,
        ),
        Group(
            tr("VU (0 is {reference} dBFS)", reference=format_number(reference, 0)),
            vu,
            -20.0,
            3.0,
            [-20, -10, -7, -5, -3, 0, 3],
            _whole,
        ),
        needles,
    ]


def loudness_group(
    momentary: float | None,
    short_term: float | None,
    most: tuple[float | None, float | None],
    options: LevelOptions,
    target_lufs: float,
) -> Group:
    """Momentary and short-term loudness on the chosen scale, with their maxima."""
    low, high = options.loudness_range(target_lufs)
    relative = options.scale != "dbfs"

    def shown(lufs: float) -> float:
        return lufs - target_lufs if relative else lufs

    def bar(name: str, now: float | None, highest: float | None) -> Bar:
        text = "\u2013" if now is None else format_number(shown(now), 1, plus=relative)
        return Bar(name, now, highest, text=text)

    ticks = [-60.0, -50.0, -40.0, -23.0, -10.0, 0.0]
    if relative:
        offsets = (-18, -9, 0, 9) if options.scale == "ebu9" else (-36, -18, 0, 9, 18)
        ticks = [target_lufs + o for o in offsets]
    unit = tr("LU, 0 is {target_lufs} LUFS", target_lufs=format_number(target_lufs, 0)) if relative else "LUFS"
    return Group(
        tr("Loudness, {unit}", unit=unit), [bar(tr("momentary"), momentary, most[0]), bar(tr("short-term"), short_term, most[1])],
        low, high, ticks, lambda v: format_number(shown(v), 0, plus=relative),
    )  # fmt: skip


def _whole(db: float) -> str:
    return format_number(db, 0)
