# SPDX-License-Identifier: GPL-3.0-or-later
"""Playing what is heard: from the selection, around it, in loops, at other speeds. No Qt."""

from __future__ import annotations

from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.session.events import Telling
from pulizia.session.transport import Transport
from pulizia.units import seconds_to_frames

LEAD_IN_S, LEAD_OUT_S, LOOP_PAUSE_S = 2.0, 1.0, 0.7
FASTEST = 8.0  # times the usual speed


class Playing(Telling):
    """The part of a session that moves its transport."""

    transport: Transport

    @property
    def heard_source(self) -> Source | None:
        """What the pictures and the ears read now."""
        raise NotImplementedError

    @property
    def marked(self) -> Span | None:
        """The selected section of what is heard."""
        raise NotImplementedError

    @property
    def rate(self) -> int:
        """Frames a second of what is heard."""
        raise NotImplementedError

    def play_or_stop(self) -> None:
        """Start from the selection or the play head, or stop."""
        if self.transport.is_playing:
            self.transport.stop()
        elif (marked := self.marked) is not None and self.transport.loop is None:
            self.transport.play(marked.start, marked.stop)
        else:
            self.transport.play()
        self.events.playing.emit()

    def play_around(self) -> None:
        """Play the selection, or on from the playhead, with what leads up to it; behind a selection a little more."""
        source = self.heard_source
        if source is None:
            return
        before, behind = (seconds_to_frames(s, source.rate) for s in (LEAD_IN_S, LEAD_OUT_S))
        marked = self.marked
        start = marked.start if marked is not None else self.transport.position
        stop = None if marked is None else min(source.frames, marked.stop + behind)
        self.transport.loop = None
        self.transport.play(max(0, start - before), stop)
        self.events.playing.emit()

    def toggle_loop_pause(self) -> None:
        """A pause before a loop begins again, or none."""
        self.transport.loop_pause_s = 0.0 if self.transport.loop_pause_s else LOOP_PAUSE_S
        self.events.playing.emit()

    def shuttle(self, direction: int, *, slow: bool = False) -> None:
        """Play backwards (-1) or forwards (1); the same direction again doubles the speed; ``slow`` is half speed."""
        now = self.transport.speed
        if slow:
            speed = 0.5 * direction
        elif now * direction >= 1.0:
            speed = min(abs(now) * 2.0, FASTEST) * direction
        else:
            speed = float(direction)
        self.transport.shuttle(speed)
        self.events.playing.emit()

    def stop_playing(self) -> None:
        """Stop where the sound is."""
        self.transport.stop()
        self.events.playing.emit()

    def toggle_loop(self) -> None:
        """Repeat the selection, or everything when nothing is marked."""
        source = self.heard_source
        if source is None:
            return
        if self.transport.loop is not None:
            self.transport.loop = None
        else:
            self.transport.loop = self.marked or Span(0, source.frames)
        self.events.playing.emit()

    def seek(self, frame: int) -> None:
        """Move the play head."""
        self.transport.seek(frame)
        self.events.playing.emit()

    def nudge(self, seconds: float) -> None:
        """Move the play head by a little."""
        if self.heard_source is not None:
            self.seek(max(0, self.transport.position + seconds_to_frames(seconds, self.rate)))
