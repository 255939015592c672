# SPDX-License-Identifier: GPL-3.0-or-later
"""Selecting in the recording on the bench: time, band, area; and hearing a band alone. No Qt."""

from __future__ import annotations

from dataclasses import replace

from pulizia.audio.spans import Span
from pulizia.project.model import Recording
from pulizia.session.heard_subject import Selection
from pulizia.session.playing import Playing
from pulizia.settings.areas import Area, bounds_hz, bounds_s
from pulizia.words import tr

BAND_STEP = 2 ** (1 / 6)
FIRST_BAND_HZ, LOWEST_BAND_HZ = (710.0, 1420.0), 20.0


class Selecting(Playing):
    """The part of a session that holds the selection."""

    selection: Selection | None
    only_band: bool

    @property
    def recording(self) -> Recording | None:
        """The recording on the bench."""
        raise NotImplementedError

    def sync(self, *, same_place: bool = True) -> None:
        """Let the ears have what is to be heard now."""
        raise NotImplementedError

    def select(self, start: int, stop: int, band_hz: tuple[float, float] | None = None) -> None:
        """Mark a stretch (frames in any order); an empty one clears the mark."""
        recording = self.recording
        if recording is None:
            return
        first, last = sorted((max(0, start), max(0, stop)))
        span = Span(min(first, recording.frames), min(last, recording.frames))
        self.selection = Selection(span, band_hz) if span.frames else None
        if self.only_band:
            self.only_band = band_hz is not None and bool(span.frames)
            self.sync()
        if self.transport.loop is not None:
            self.transport.loop = self.selection.span if self.selection else None
        self.events.selection.emit()

    def move_band(self, steps: int) -> None:
        """Move the selected band by steps of a sixth of an octave; without one, an octave around 1 kHz is selected."""
        self._change_band(BAND_STEP**steps, BAND_STEP**steps)

    def widen_band(self, steps: int) -> None:
        """Widen (above 0) or narrow the selected band on both sides by a twelfth of an octave."""
        self._change_band(BAND_STEP ** (-steps / 2), BAND_STEP ** (steps / 2))

    def _change_band(self, low_by: float, high_by: float) -> None:
        recording = self.recording
        if recording is None:
            return
        span = self.selection.span if self.selection is not None else Span(0, recording.frames)
        band = self.selection.band_hz if self.selection is not None else None
        low, high = FIRST_BAND_HZ if band is None else (band[0] * low_by, band[1] * high_by)
        top = recording.rate / 2
        if LOWEST_BAND_HZ <= low < high / BAND_STEP and high <= top:
            self.select(span.start, span.stop, (low, high))

    def select_outline(self, outline: Area) -> None:
        """Mark an area that was drawn by hand, in seconds and Hz."""
        recording = self.recording
        if recording is None or len(outline) < 3:
            return
        start, stop = (round(t * recording.rate) for t in bounds_s(outline))
        self.select(start, stop, bounds_hz(outline))
        if self.selection is not None:
            self.selection = replace(self.selection, outline=outline)
            self.events.selection.emit()

    def clear_selection(self) -> None:
        """Mark nothing."""
        self.selection = None
        if self.only_band:
            self.only_band = False
            self.sync()
        self.transport.loop = None
        self.events.selection.emit()

    def toggle_only_band(self) -> None:
        """Hear the marked band alone, or everything again."""
        self.only_band = not self.only_band
        if self.only_band and (self.selection is None or self.selection.band_hz is None):
            self.only_band = False
            self.say(tr("Select a band in the sonogram first: drag over time and frequency."), bad=True)
        elif self.only_band and self.selection is not None and self.selection.band_hz is not None:
            low, high = self.selection.band_hz
            self.say(
                tr(
                    "Monitoring {low:.0f} to {high:.0f} Hz only. Display and files are not affected.",
                    low=low,
                    high=high,
                )
            )
        self.sync()
        self.events.listening.emit()
