# SPDX-License-Identifier: GPL-3.0-or-later
"""Playing: play, stop, seek, loop and shuttle over what the feeding thread reads. No Qt."""

from __future__ import annotations

from pulizia.audio.source import Source, read_padded
from pulizia.audio.spans import Span
from pulizia.dsp.time_stretch import Stretcher
from pulizia.measure.live import Reading
from pulizia.session.feeding import Change, Feeding, Run
from pulizia.session.heard import Heard
from pulizia.session.output_protocol import SoundOut

SLOWEST_KEPT, FASTEST_KEPT = 0.5, 2.0  # speeds at which the pitch of speech is kept


class Transport(Feeding):
    """Play, stop, seek, loop; the material may be exchanged at any time while playing."""

    @property
    def loop(self) -> Span | None:
        """The stretch that is repeated."""
        return self._loop

    @loop.setter
    def loop(self, span: Span | None) -> None:
        with self._lock:
            self._loop = span if span is not None and span.frames > 0 else None

    @property
    def waiting(self) -> int:
        """Frames that were read and are not yet heard."""
        with self._lock:
            return self._run.fed - self._run.output.heard() if self._run and self._run.opened else 0

    def heard_levels(self) -> Reading | None:
        """Levels of what is heard at this moment."""
        with self._lock:
            run = self._run
            return self.levels.at(run.output.heard()) if run is not None and run.opened else None

    def set_material(self, material: Heard | None, *, same_place: bool = True) -> None:
        """Exchange what is heard; playing goes on at the same place, with a short cross-fade."""
        with self._lock:
            old = self._material
            if material == old:
                return
            keeps = (
                old is not None
                and material is not None
                and same_place
                and old.source.rate == material.source.rate
                and old.source.channels == material.source.channels
            )
            if not keeps:
                self.stop()
                self._position = 0
            elif self._run is not None and self._run.speed == 1.0:
                pending = self._change
                self._change = Change(pending.old, pending.place) if pending is not None else Change(old)
                self._stir.set()
            self._material = material
            run = self._run
            if run is not None and run.stretcher is not None and material is not None:
                run.stretcher = self._stretcher(material.source, run.speed)

    def play(self, start: int | None = None, stop: int | None = None) -> None:
        """Start at a frame (default: where the head rests); end at ``stop`` or at the end."""
        with self._lock:
            if self._material is None:
                return
            source = self._material.source
            self.stop()
            begin = self._position if start is None else start
            if self._loop is not None and not self._loop.start <= begin < self._loop.stop:
                begin = self._loop.start
            if begin >= source.frames:
                begin = 0
            self._position = self._next = begin
            self._stop_at = stop
            self._change = None
            self._run = Run(self.output, fade_in=begin > 0)
            self.levels.start(source.rate, source.channels)
            self._wake.set()

    @property
    def speed(self) -> float:
        """How fast the sound runs now, backwards below 0; 0 while it rests."""
        return 0.0 if self._run is None else self._run.speed

    def shuttle(self, speed: float) -> None:
        """Play on from where the sound is, at another speed; 0 stops. From half to double speed the pitch is kept.

        Loops and ends of selections do not count meanwhile.
        """
        with self._lock:
            self.stop()
            if speed and self._material is not None:
                frames = self._material.source.frames
                if speed > 0 and self._position >= frames:
                    self._position = 0
                self._loop = None
                self.play(self._position)
                assert self._run is not None  # noqa: S101 - there is material
                self._run.speed, self._run.fade_in = speed, True
                self._next = self._position if speed > 0 else min(self._position, frames)
                if SLOWEST_KEPT <= abs(speed) <= FASTEST_KEPT and abs(speed) != 1.0:
                    self._run.stretcher = self._stretcher(self._material.source, speed)

    def _stretcher(self, source: Source, speed: float) -> Stretcher:
        if speed > 0:
            return Stretcher(lambda a, b: read_padded(source, a, b), source.rate, speed, self._next)
        frames = source.frames  # backwards: the sound from its end
        return Stretcher(
            lambda a, b: read_padded(source, frames - b, frames - a)[:, ::-1], source.rate, -speed, frames - self._next
        )

    def seek(self, frame: int) -> None:
        """Move the play head; goes on playing from there if it plays."""
        with self._lock:
            if self._material is not None:
                frame = max(0, min(frame, self._material.source.frames))
            if self._run is None:
                self._position = frame
                return
            if self._loop is not None and not self._loop.start <= frame < self._loop.stop:
                self._loop = None
            if not self._run.output.exchanges:
                self.play(frame, None)
                return
            old = self._change.old if self._change is not None else self._material
            self._run.speed, self._run.stretcher = 1.0, None
            self._change, self._stop_at = Change(old, frame), None
            self._stir.set()

    def use_output(self, output: SoundOut) -> None:
        """Play through another output from here on."""
        with self._lock:
            self.stop()
            self.output = output

    def close(self) -> None:
        """End the thread."""
        self.stop()
        with self._lock:
            self._closing = True
            self._wake.set()
        self._thread.join(timeout=5)
