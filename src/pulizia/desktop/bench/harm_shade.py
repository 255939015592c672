# SPDX-License-Identifier: GPL-3.0-or-later
"""Where the voice lost more than 3 dB, as a shade over the sonogram."""

from __future__ import annotations

from collections.abc import Callable, Hashable

import numpy as np
from PySide6.QtCore import QRectF
from PySide6.QtGui import QImage, QPainter

from pulizia.desktop.bench.tiles import TILE_COLUMNS, Place, Tiles
from pulizia.desktop.bench.time_axis import TimeAxis
from pulizia.desktop.bench.wave_image import indexed_image
from pulizia.desktop.theme import colour
from pulizia.measure.harm import PAST_S, Harm, taken_cells
from pulizia.measure.sonogram_scale import SonogramScale
from pulizia.score.chain import Chain
from pulizia.session.jobs import Job


def draw_shade(
    painter: QPainter, plot: QRectF, tiles: Tiles, axis: TimeAxis, chain: Chain, found: Harm, scale: SonogramScale
) -> None:
    """Blit the shade for what is in view."""
    before, after = chain.before, chain.after
    table = [0, colour("madder", 0.55).rgba()]

    room = None if found.t60_s is None else float(found.t60_s.mean())

    def key_of(place: Place) -> Hashable:
        a = max(0, min(int(place.start) - found.size - round(PAST_S * before.rate), before.frames - 1))
        b = max(a + 1, min(int(place.stop) + found.size, before.frames))
        return ("harm", before.span_key(a, b), after.span_key(a, b), place, scale, found.gain, room)

    def work_of(place: Place) -> Callable[[Job], QImage]:
        def work(job: Job) -> QImage:
            job.progress(0.0)
            centres = place.start + (np.arange(TILE_COLUMNS) + 0.5) * place.frames_per_pixel
            starts = np.rint(centres - found.size / 2).astype(np.int64)
            taken = taken_cells(before, after, found, starts)
            hz = scale.hz_of_row(np.arange(scale.rows) + 0.5)
            bins = np.clip(np.rint(hz * found.size / before.rate).astype(int), 0, taken.shape[1] - 1)
            return indexed_image(taken[:, bins].T.astype(np.uint8), table)

        return work

    tiles.draw(painter, plot, axis.left, axis.frames_per_pixel, key_of, work_of)
