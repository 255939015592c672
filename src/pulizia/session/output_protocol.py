# SPDX-License-Identifier: GPL-3.0-or-later
"""What an output of sound does. Outputs take two channels; they know nothing of what is played."""

from __future__ import annotations

from typing import Protocol

from pulizia.audio.samples import Samples
from pulizia.errors import PuliziaError

LOUDSPEAKERS = 2


class OutputError(PuliziaError):
    """An output cannot be used, or has gone."""


class SoundOut(Protocol):
    """An output that holds a queue of samples and tells how much of it has been heard."""

    name: str
    exchanges: bool
    """Whether what waits in the queue can be replaced."""
    underruns: int
    """How often the queue ran dry while more was to come, since the program started."""

    def open(self, rate: int) -> None:
        """Get ready for a run at this rate; OutputError with one sentence."""

    def room(self) -> int:
        """Frames that may be written now; OutputError when the device has gone."""

    def earliest(self) -> int:
        """The first frame of the run that can still be exchanged; where nothing can, the next to be written."""

    def write(self, block: Samples, at: int) -> None:
        """Queue (2, frames) samples from frame ``at`` of the run on; never waits.

        ``at`` is the next frame, or where ``exchanges`` an earlier one from :meth:`earliest` on: what
        waited from there on is forgotten.
        """

    def finish(self) -> None:
        """No more follows: what waits is played to its end, and ``heard`` reaches what was written."""

    def heard(self) -> int:
        """Frames heard since open, latency taken off."""

    def close(self, last: Samples | None = None, at: int = 0) -> None:
        """Stop. ``last`` is still heard from frame ``at`` on, where the output exchanges; else all stops at once."""

    def notice(self) -> str:
        """One sentence about a change at the device, once; "" for nothing new."""
