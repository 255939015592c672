# SPDX-License-Identifier: GPL-3.0-or-later
"""Pictures of 256 columns, made by workers and kept; views only ever blit them."""

from __future__ import annotations

import time
from collections import OrderedDict
from collections.abc import Callable, Hashable
from dataclasses import dataclass

from PySide6.QtCore import QPoint, QRectF, QTimer
from PySide6.QtGui import QImage, QPainter

from pulizia.desktop.theme import colour
from pulizia.session.jobs import VISIBLE, Job, JobPool
from pulizia.words import tr

TILE_COLUMNS = 256
KEPT_BYTES = 32 << 20  # of each view: three screens of a large one
BYTES_A_PIXEL = 5  # its code, and the colour that is blitted
PATIENCE_S = 0.25  # after which what stands in for a picture is shown as what it is


@dataclass(frozen=True, slots=True)
class Place:
    """Which stretch a tile shows, independent of what is drawn in it."""

    frames_per_pixel: float
    index: int

    @property
    def start(self) -> float:
        """First frame."""
        return self.index * TILE_COLUMNS * self.frames_per_pixel

    @property
    def stop(self) -> float:
        """Frame after the last."""
        return (self.index + 1) * TILE_COLUMNS * self.frames_per_pixel


class Tile:
    """A picture as codes with a colour table, and as it is blitted."""

    def __init__(self, place: Place, codes: QImage) -> None:
        self.place, self._codes = place, codes
        self._ready: QImage | None = None

    @property
    def nbytes(self) -> int:
        """How much memory it takes."""
        return self._codes.width() * self._codes.height() * BYTES_A_PIXEL

    def recolour(self, table: list[int]) -> None:
        """Use another colour table."""
        self._codes.setColorTable(table)
        self._ready = None

    def code(self, x: int, y: int) -> int | None:
        """Code of one pixel; None outside."""
        return self._codes.pixelIndex(x, y) if self._codes.valid(x, y) else None

    def image(self) -> QImage:
        """The picture in the format that is copied to the screen as it is."""
        if self._ready is None:
            clear = self._codes.hasAlphaChannel()
            kind = QImage.Format.Format_ARGB32_Premultiplied if clear else QImage.Format.Format_RGB32
            self._ready = self._codes.convertToFormat(kind)
        return self._ready


class Tiles:
    """A cache of tiles by content, with older pictures as stand-ins until new ones are made."""

    def __init__(
        self, pool: JobPool, made: Callable[[], None], *, dims: bool = True, most_bytes: int = KEPT_BYTES
    ) -> None:
        self._pool, self._made, self._most_bytes = pool, made, most_bytes
        self._dims = dims  # what stands in for a picture that takes long
        self._images: OrderedDict[Hashable, Tile] = OrderedDict()
        self._held = 0  # bytes of these
        self._shown: list[Tile] = []
        self._jobs: dict[Hashable, Job] = {}
        self._asked: dict[Hashable, float] = {}  # when
        self._table: list[int] | None = None  # the colours that hold now, where they were changed

    def draw(
        self,
        painter: QPainter,
        target: QRectF,
        left: float,
        frames_per_pixel: float,
        key_of: Callable[[Place], Hashable],
        work_of: Callable[[Place], Callable[[Job], QImage]],
        priority: int = VISIBLE,
        below: Callable[[], object] = lambda: None,
    ) -> bool:
        """Blit what covers ``target``; ask for what is missing. True when nothing is missing.

        Where something is missing and no older picture can stand in, ``below`` draws what may.
        """
        first = int(left / frames_per_pixel // TILE_COLUMNS)
        last = int((left / frames_per_pixel + target.width()) // TILE_COLUMNS)
        wanted: dict[Hashable, Place] = {}
        for index in range(first, last + 1):
            place = Place(frames_per_pixel, index)
            wanted[key_of(place)] = place
        for key in [k for k in self._jobs if k not in wanted]:
            self._jobs.pop(key).cancel()
            self._asked.pop(key, None)
        missing = [key for key in wanted if key not in self._images]
        if missing and not self._shown:
            below()
        elif missing:
            self._draw_stand_ins(painter, target, left, frames_per_pixel)
        shown = []
        for key, place in wanted.items():
            if (known := self._images.get(key)) is not None:
                self._images.move_to_end(key)
                _blit(painter, known, target, left, frames_per_pixel)
                shown.append(known)
            elif key not in self._jobs:
                self._ask(key, place, work_of(place), priority)
        if not missing:
            self._shown = shown
        self._dim(painter, target, left, frames_per_pixel, [wanted[key] for key in missing if self._is_late(key)])
        return not missing

    def _is_late(self, key: Hashable) -> bool:
        return self._dims and key in self._asked and time.monotonic() - self._asked[key] >= PATIENCE_S

    def _dim(self, painter: QPainter, target: QRectF, left: float, frames_per_pixel: float, late: list[Place]) -> None:
        """What is being made anew is paler, with a line under it that ends where the new picture begins."""
        for place in late:
            first = max(target.left(), target.left() + (place.start - left) / frames_per_pixel)
            last = min(target.right(), target.left() + (place.stop - left) / frames_per_pixel)
            painter.fillRect(QRectF(first, target.top(), last - first, target.height()), colour("panel", 0.5))
            painter.fillRect(QRectF(first, target.bottom() - 2, last - first, 2), colour("ochre"))

    def code_at(self, x: float, y: float, left: float, frames_per_pixel: float) -> int | None:
        """Code of the picture at a pixel of the target, where it is drawn exactly."""
        column = round(left / frames_per_pixel + x)
        for tile in self._shown:
            if tile.place.frames_per_pixel == frames_per_pixel and column // TILE_COLUMNS == tile.place.index:
                return tile.code(column % TILE_COLUMNS, int(y))
        return None

    def forget(self) -> None:
        """Another recording: nothing shown before may stand in."""
        self._shown = []
        for job in self._jobs.values():
            job.cancel()
        self._jobs.clear()
        self._asked.clear()

    def recoloured(self, table: list[int]) -> None:
        """Give all pictures another colour table, also those that are still being made."""
        self._table = table
        for tile in {*self._images.values(), *self._shown}:
            tile.recolour(table)

    def _draw_stand_ins(self, painter: QPainter, target: QRectF, left: float, frames_per_pixel: float) -> None:
        for tile in self._shown:
            _blit(painter, tile, target, left, frames_per_pixel)

    def _keep(self, key: Hashable, tile: Tile) -> None:
        old = self._images.pop(key, None)
        self._images[key] = tile
        self._held += tile.nbytes - (old.nbytes if old is not None else 0)
        while self._held > self._most_bytes and len(self._images) > 1:
            self._held -= self._images.popitem(last=False)[1].nbytes

    def _ask(self, key: Hashable, place: Place, work: Callable[[Job], QImage], priority: int) -> None:
        def made(job: Job) -> Tile:
            tile = Tile(place, work(job))
            tile.image()
            return tile

        def done(tile: Tile) -> None:
            self._jobs.pop(key, None)
            self._asked.pop(key, None)
            if self._table is not None:
                tile.recolour(self._table)
            self._keep(key, tile)
            self._made()

        def failed(_sentence: str) -> None:
            self._jobs.pop(key, None)
            self._asked.pop(key, None)

        self._asked[key] = time.monotonic()
        if self._dims:
            QTimer.singleShot(round(1000 * PATIENCE_S) + 20, lambda: self._made() if key in self._asked else None)
        self._jobs[key] = self._pool.submit(made, title=tr("Drawing"), priority=priority, on_done=done, on_error=failed)


def _blit(painter: QPainter, tile: Tile, target: QRectF, left: float, frames_per_pixel: float) -> None:
    x = target.left() + (tile.place.start - left) / frames_per_pixel
    image = tile.image()
    if tile.place.frames_per_pixel == frames_per_pixel and image.height() == int(target.height()):
        painter.drawImage(QPoint(round(x), int(target.top())), image)
        return
    width = (tile.place.stop - tile.place.start) / frames_per_pixel
    painter.drawImage(QRectF(x, target.top(), width, target.height()), image)
