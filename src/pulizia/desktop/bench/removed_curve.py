# SPDX-License-Identifier: GPL-3.0-or-later
"""The level of what its step takes away, along the lower edge."""

from __future__ import annotations

from collections.abc import Callable, Hashable

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QImage, QPainter

from pulizia.audio.source import DifferenceSource
from pulizia.desktop.bench.pictures import Pictures, is_of_programme
from pulizia.desktop.bench.tiles import TILE_COLUMNS, Place, Tiles
from pulizia.desktop.bench.time_axis import TimeAxis
from pulizia.desktop.bench.wave_image import indexed_image, removed_codes, removed_heights, token_table
from pulizia.desktop.theme import theme
from pulizia.score.chain import Stage
from pulizia.session.jobs import Job


def taken_by(stage: Stage) -> DifferenceSource:
    """What a step takes away."""
    return DifferenceSource(stage.upstream, stage)


def draw_removed(
    painter: QPainter,
    box: QRectF,
    plot: QRectF,
    axis: TimeAxis,
    stage: Stage,
    pictures: Pictures,
    tiles: Tiles,
    *,
    filled: bool,
) -> None:
    """Draw what is in view of a strip's ``box``; ``filled`` is the selected strip."""
    taken = taken_by(stage)
    picture, of_programme = pictures.of(taken, levels_only=True), is_of_programme(taken)
    token, name, most = "removed" if filled else "verd_soft", theme().name, int(box.height()) - 3
    table = token_table(token)

    def key_of(place: Place) -> Hashable:
        a = max(0, min(int(place.start), taken.frames - 1))
        b = max(a + 1, min(int(place.stop) + 1, taken.frames))
        named = stage.serial if of_programme else stage.span_key(a, b)
        return (named, place, most, token, name, picture.version_in(a, b))

    def work_of(place: Place) -> Callable[[Job], QImage]:
        def work(job: Job) -> QImage:
            job.progress(0.0)
            heights = removed_heights(picture, place.start, place.frames_per_pixel, TILE_COLUMNS)
            return indexed_image(removed_codes(heights * most, most), table)

        return work

    painter.save()
    # a rectangle inside the rounded ends: clipping by a path would cost more than all the rest
    painter.setClipRect(box.adjusted(4, 0, -4, -1), Qt.ClipOperation.IntersectClip)
    target = QRectF(plot.left(), box.bottom() - most, plot.width(), most)
    tiles.draw(painter, target, axis.left, axis.frames_per_pixel, key_of, work_of)
    painter.restore()
