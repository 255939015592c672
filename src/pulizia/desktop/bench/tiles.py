"""Pictures of 256 columns, made by workers and kept; views only ever blit them."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Hashable
from dataclasses import dataclass

from PySide6.QtCore import QRectF
from PySide6.QtGui import QImage, QPainter

from pulizia.session.jobs import VISIBLE, Job, JobPool

TILE_COLUMNS = 256
KEPT_TILES = 400


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


class Tiles:
    """A cache of tiles by content, with older pictures as stand-ins until new ones are made."""

    def __init__(self, pool: JobPool, made: Callable[[], None]) -> None:
        self._pool, self._made = pool, made
        self._images: OrderedDict[Hashable, tuple[Place, QImage]] = OrderedDict()
        self._shown: list[tuple[Place, QImage]] = []
        self._jobs: dict[Hashable, Job] = {}

    def draw(
        self,
        painter: QPainter,
        target: QRectF,
        left: float,
        frames_per_pixel: float,
        key_of: Callable[[Place], Hashable],
        work_of: Callable[[Place], Callable[[Job], QImage]],
    ) -> bool:
        """Blit what covers ``target``; ask for what is missing. True when nothing is missing."""
        first = int(left / frames_per_pixel // TILE_COLUMNS)
        last = int((left / frames_per_pixel + target.width()) // TILE_COLUMNS)
        wanted: dict[Hashable, Place] = {}
        for index in range(first, last + 1):
            place = Place(frames_per_pixel, index)
            wanted[key_of(place)] = place
        for key in [k for k in self._jobs if k not in wanted]:
            self._jobs.pop(key).cancel()
        missing = [key for key in wanted if key not in self._images]
        if missing:
            self._draw_stand_ins(painter, target, left, frames_per_pixel)
        shown = []
        for key, place in wanted.items():
            if (known := self._images.get(key)) is not None:
                self._images.move_to_end(key)
                painter.drawImage(_rect(place, target, left, frames_per_pixel), known[1])
                shown.append(known)
            elif key not in self._jobs:
                self._ask(key, place, work_of(place))
        if not missing:
            self._shown = shown
        return not missing

    def forget(self) -> None:
        """Another recording: nothing shown before may stand in."""
        self._shown = []
        for job in self._jobs.values():
            job.cancel()
        self._jobs.clear()

    def recoloured(self, table: list[int]) -> None:
        """Give all pictures another colour table."""
        for _, image in [*self._images.values(), *self._shown]:
            image.setColorTable(table)

    def _draw_stand_ins(
        self, painter: QPainter, target: QRectF, left: float, frames_per_pixel: float
    ) -> None:
        for place, image in self._shown:
            painter.drawImage(_rect(place, target, left, frames_per_pixel), image)

    def _ask(self, key: Hashable, place: Place, work: Callable[[Job], QImage]) -> None:
        def done(image: QImage) -> None:
            self._jobs.pop(key, None)
            self._images[key] = (place, image)
            while len(self._images) > KEPT_TILES:
                self._images.popitem(last=False)
            self._made()

        def failed(_sentence: str) -> None:
            self._jobs.pop(key, None)

        self._jobs[key] = self._pool.submit(
            work, title="Drawing", priority=VISIBLE, on_done=done, on_error=failed
        )


def _rect(place: Place, target: QRectF, left: float, frames_per_pixel: float) -> QRectF:
    x = target.left() + (place.start - left) / frames_per_pixel
    if place.frames_per_pixel == frames_per_pixel:
        x = round(x)
    width = (place.stop - place.start) / frames_per_pixel
    return QRectF(x, target.top(), width, target.height())
