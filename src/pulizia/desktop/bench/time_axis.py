# SPDX-License-Identifier: GPL-3.0-or-later
"""The one time axis that overview, sonogram, waveform and score share."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal

GUTTER = 40
CLOSEST_FRAMES_PER_PIXEL = 1 / 24
ZOOM_STEP = 1.5


class TimeAxis(QObject):
    """Which stretch of the recording lies between the gutters."""

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.frames = 0
        self.rate = 48_000
        self.width = 680
        self.left = 0.0  # frame at the left edge
        self.frames_per_pixel = 1.0

    def show_recording(self, frames: int, rate: int) -> None:
        """A recording comes onto the bench: show all of it."""
        self.frames, self.rate = frames, rate
        self.show_whole()

    def set_width(self, width: int) -> None:
        """The window was resized; the left edge stays, a whole view stays whole."""
        width = max(16, width)
        if width == self.width:
            return
        whole = self.is_whole
        self.width = width
        if whole:
            self.show_whole()
        else:
            self._settle()

    @property
    def is_whole(self) -> bool:
        """Whether all of the recording is in view."""
        return self.frames_per_pixel >= self.frames / self.width * 0.999

    @property
    def right(self) -> float:
        """Frame at the right edge."""
        return self.left + self.width * self.frames_per_pixel

    def show_whole(self) -> None:
        """Show everything."""
        self.left = 0.0
        self.frames_per_pixel = max(self.frames / self.width, CLOSEST_FRAMES_PER_PIXEL)
        self.changed.emit()

    def show_span(self, start: float, stop: float, margin: float = 0.08) -> None:
        """Show a stretch with a little on both sides."""
        spare = (stop - start) * margin
        self.frames_per_pixel = (stop - start + 2 * spare) / self.width
        self.left = start - spare
        self._settle()

    def zoom(self, factor: float, at_x: float) -> None:
        """Zoom in (factor above 1) around a pixel counted from the left gutter."""
        fixed = self.frame_at(at_x)
        self.frames_per_pixel /= factor
        self._limit_zoom()
        self.left = fixed - at_x * self.frames_per_pixel
        self._settle()

    def scroll(self, pixels: float) -> None:
        """Move the view to the right."""
        self.scroll_to(self.left + pixels * self.frames_per_pixel)

    def scroll_to(self, left: float) -> None:
        """Move the view."""
        self.left = left
        self._settle()

    def bring_into_view(self, frame: float) -> None:
        """Scroll by a page when a frame lies outside, as far as there is anything to show.

        What is heard may be longer than what is shown: the programme before an edit, say. Then the view stays at its end.
        """
        if self.left <= frame <= self.right:
            return
        span = self.width * self.frames_per_pixel
        wanted = min(max(frame - 0.1 * span, 0.0), max(0.0, self.frames - span))
        if wanted != self.left:
            self.scroll_to(wanted)

    def frame_at(self, x: float) -> float:
        """Frame under a pixel counted from the left gutter."""
        return self.left + x * self.frames_per_pixel

    def x_at(self, frame: float) -> float:
        """Pixel of a frame, counted from the left gutter."""
        return (frame - self.left) / self.frames_per_pixel

    def clamped_frame(self, x: float) -> int:
        """Whole frame inside the recording under a pixel."""
        return round(min(max(self.frame_at(x), 0.0), float(self.frames)))

    def ticks(self, wanted_px: float = 84.0) -> tuple[float, list[float]]:
        """Distance of labelled ticks in seconds, and the ticks in view."""
        seconds_per_px = self.frames_per_pixel / self.rate
        choices = [m * 10.0**e for e in range(-6, 0) for m in (1, 2, 5)]
        choices += [1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200]
        step = next((c for c in choices if c / seconds_per_px >= wanted_px), 7200.0)
        first = int(self.left / self.rate / step)
        last = int(self.right / self.rate / step) + 1
        ticks = [n * step for n in range(first, last + 1)]
        return step, [t for t in ticks if self.left <= t * self.rate <= min(self.right, self.frames)]

    def _limit_zoom(self) -> None:
        widest = max(self.frames / self.width, CLOSEST_FRAMES_PER_PIXEL)
        self.frames_per_pixel = min(max(self.frames_per_pixel, CLOSEST_FRAMES_PER_PIXEL), widest)

    def _settle(self) -> None:
        self._limit_zoom()
        most = max(0.0, self.frames - self.width * self.frames_per_pixel)
        self.left = min(max(self.left, 0.0), most)
        self.changed.emit()
