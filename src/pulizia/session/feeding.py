# SPDX-License-Identifier: GPL-3.0-or-later
"""The feeding thread of the transport: reads what is heard ahead and fills the output's queue. No Qt."""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np

from pulizia.audio.samples import Samples
from pulizia.audio.spans import Span
from pulizia.dsp.time_stretch import Stretcher
from pulizia.errors import PuliziaError
from pulizia.measure.live import LiveLevels
from pulizia.media.faults import note_fault
from pulizia.session.heard import JOIN_S, Heard, faded_to, joined, read_heard, read_on
from pulizia.session.output_protocol import OutputError, SoundOut
from pulizia.session.sound_out import SimulatedOut
from pulizia.words import tr

BLOCK_S = 0.02
END_S = 0.01  # over which sound fades where playing is stopped
POLL_S = 0.015


class Queued(NamedTuple):
    """A block that was given to the output."""

    at: int  # frame of the run
    position: int  # frame of the source
    block: Samples  # as the source gave it
    speed: float = 1.0  # frames of the source for each of the run

    @property
    def end(self) -> int:
        """The frame of the run behind it."""
        return self.at + int(self.block.shape[1])


@dataclass(slots=True)
class Change:
    """Another place or other material, to be heard as soon as possible."""

    old: Heard | None  # what the queue ends with
    place: int | None = None  # where to go on; None: at the same place


@dataclass(slots=True)
class Run:
    """One run from Play to Stop."""

    output: SoundOut
    queue: deque[Queued] = field(default_factory=deque)
    opened: bool = False
    fed: int = 0
    fade_in: bool = False
    speed: float = 1.0  # backwards below 0; other than 1 while shuttling
    finished: bool = False
    stretcher: Stretcher | None = None  # at speeds that speech is understood at
    pause: int = 0  # frames of silence still to come before a loop begins again
    shown: tuple[int, int] | None = None  # until this frame of the run is heard, the play head rests at that place

    def waiting(self, at: int, most: int) -> Samples | None:
        """What is heard from a frame of the run on, as far as it is in the queue; None where nothing is."""
        parts, here = list[Samples](), at
        for queued in self.queue:
            if queued.at <= here < queued.end and here < at + most:
                parts.append(queued.block[:, here - queued.at :])
                here = queued.end
        return np.concatenate(parts, axis=1)[:, :most] if parts else None


class Feeding:
    """One run after the other; what is heard may be exchanged at any time while it is fed."""

    def __init__(self, output: SoundOut) -> None:
        self.output = output
        self.levels = LiveLevels()
        self.volume = 1.0  # of the loudspeakers only: gauges and files do not see it
        self.on_error: Callable[[str], None] = lambda _text: None
        self.on_notice: Callable[[str], None] = lambda _text: None
        self.on_stopped: Callable[[], None] = lambda: None
        self._lock = threading.RLock()
        self._material: Heard | None = None
        self._change: Change | None = None
        self._run: Run | None = None  # while playing
        self._position = 0  # where to start, or where the play head rests
        self._next = 0  # the next frame to be read
        self._stop_at: int | None = None
        self._loop: Span | None = None
        self.loop_pause_s = 0.0  # of silence between the end of a loop and its beginning
        self._wake = threading.Event()  # there is a run
        self._stir = threading.Event()  # something has changed in it
        self._closing = False
        self._thread = threading.Thread(target=self._feed, name="transport", daemon=True)
        self._thread.start()

    @property
    def is_playing(self) -> bool:
        """Whether sound runs."""
        return self._run is not None

    @property
    def position(self) -> int:
        """The frame that is heard now, or where playing will start."""
        with self._lock:
            run = self._run
            if run is None:
                return self._position
            if self._change is not None and self._change.place is not None:
                return self._change.place
            heard = run.output.heard() if run.opened else 0
            if run.shown is not None:
                if heard < run.shown[0]:
                    return run.shown[1]
                run.shown = None
            while len(run.queue) > 1 and run.queue[0].end <= heard:
                run.queue.popleft()
            if not run.queue:
                return self._position
            first = run.queue[0]
            return max(0, first.position + round(first.speed * min(max(heard - first.at, 0), first.end - first.at)))

    def stop(self) -> None:
        """Stop where the sound is, without a click where the output allows it."""
        with self._lock:
            run = self._run
            if run is None:
                return
            self._position = self.position
            self._run = self._change = None
            self._stir.set()
            if not run.opened:
                return
            at = run.output.earliest()
            tail = run.waiting(at, round(END_S * self._rate)) if run.output.exchanges else None
            if tail is None or self._material is None:
                run.output.close()
                return
            fade = np.linspace(1.0, 0.0, tail.shape[1], dtype=np.float32)
            run.output.close(self._for_ears(tail, self._material) * fade, at)

    # -- the feeding thread

    def _feed(self) -> None:
        while True:
            self._wake.wait()
            with self._lock:  # also that it closes: else its wake could be cleared unseen
                if self._closing:
                    return
                run = self._run
                if run is None:
                    self._wake.clear()
                    continue
            try:
                idle = self._advance(run)
            except PuliziaError as error:
                self._fail(run, str(error))
            except Exception as error:  # noqa: BLE001 - the thread must live on
                self._fail(run, note_fault(error, tr("Playing")))
            else:
                if idle:
                    self._stir.wait(POLL_S)
                    self._stir.clear()

    def _advance(self, run: Run) -> bool:
        """Do the next thing of a run; True when there is nothing to do for a moment."""
        if not run.opened:
            self._open(run)
            return False
        if notice := run.output.notice():
            self.on_notice(notice)
        with self._lock:
            if run is not self._run:
                return False
            if self._change is not None:
                change, material = self._change, self._material
            else:
                change, material = None, self._material
                if run.output.room() < round(BLOCK_S * self._rate):
                    return True
        assert material is not None  # noqa: S101 - there is no run without it
        return self._exchange(run, change, material) if change is not None else self._go_on(run, material)

    @property
    def _rate(self) -> int:
        return self._material.source.rate if self._material is not None else 48_000

    def _open(self, run: Run) -> None:
        material = self._material
        if material is None:
            return
        try:
            run.output.open(material.source.rate)
        except OutputError as error:
            # silence for this time only: the next run asks the device again
            run.output = SimulatedOut()
            run.output.open(material.source.rate)
            self.on_error(tr("{error} Playback is silent this time.", error=error))
        with self._lock:
            run.opened = True
            if run is not self._run:
                run.output.close()

    def _go_on(self, run: Run, material: Heard) -> bool:
        """Read and queue the next block; True when all there is has been queued."""
        with self._lock:
            if run is not self._run or self._change is not None:
                return False
            if run.speed != 1.0:
                return self._shuttle_on(run, material)
            if run.pause:
                return self._pause_on(run, material)
            loop_end = self._at_loop_end(material)
            if loop_end is not None and self._loop is not None and self.loop_pause_s > 0.0:
                run.pause = max(1, round(self.loop_pause_s * self._rate))
                self._next = self._loop.start
                return False
            start = self._loop.start if loop_end is not None and self._loop is not None else self._next
            stop = min(start + self._block_frames, self._end(material))
            if start >= stop:
                return self._rest(run)
            ends_at = self._stop_at if self._loop is None else self._loop.stop if self.loop_pause_s > 0.0 else None
        block = faded_to(read_heard(material, start, stop), start, ends_at, material.source)
        if loop_end is not None:
            block = joined(read_on(material, loop_end, block.shape[1]), block, material.source.rate)
        return self._put(run, run.fed, start, block, material)

    def _pause_on(self, run: Run, material: Heard) -> bool:
        """Queue a little of the silence before a loop begins again."""
        count = min(run.pause, self._block_frames)
        place = self._next
        run.pause -= count
        run.fade_in = False
        self._put(run, run.fed, place, np.zeros((material.source.channels, count), np.float32), material, speed=0.0)
        self._next = place
        run.fade_in = not run.pause
        return False

    def _shuttle_on(self, run: Run, material: Heard) -> bool:
        """Queue the next block at another speed; True at the end.

        Where the pitch is not kept, by straight lines between samples.
        """
        if run.stretcher is not None:
            return self._stretch_on(run, run.stretcher, material)
        frames, span = material.source.frames, round(abs(run.speed) * self._block_frames)
        start = self._next
        low, high = (start, min(start + span, frames)) if run.speed > 0 else (max(0, start - span), start)
        if low >= high:
            return self._rest(run)
        sound = read_heard(material, low, high)
        if run.speed < 0:
            sound = sound[:, ::-1]
        count = max(1, round((high - low) / abs(run.speed)))
        at = np.minimum(np.arange(count) * abs(run.speed), high - low - 1)
        whole = np.arange(high - low)
        block = np.stack([np.interp(at, whole, row) for row in sound]).astype(np.float32)
        self._put(run, run.fed, start, block, material)
        self._next = high if run.speed > 0 else low
        return False

    def _stretch_on(self, run: Run, stretcher: Stretcher, material: Heard) -> bool:
        frames, place = material.source.frames, round(stretcher.place)
        if place >= frames:
            return self._rest(run)
        count = int((frames - place) / abs(run.speed))  # at the end of the sound the block ends with it
        block = stretcher.block()[:, : max(1, count)] * np.float32(material.gain)
        start = place if run.speed > 0 else frames - place
        self._put(run, run.fed, start, block, material)
        after = min(round(stretcher.place), frames)
        self._next = after if run.speed > 0 else frames - after
        return False

    def _exchange(self, run: Run, change: Change, material: Heard) -> bool:
        """Read what a change asks for, and let it take the place of what waits."""
        with self._lock:
            at, position, queued = self._join_place(run)
            start = position if change.place is None else change.place
            end = self._end(material)
        if start >= end and self._loop is not None:
            start = self._loop.start
        stop = min(start + self._block_frames, end)
        block = (
            read_heard(material, start, stop) if start < stop else np.zeros((material.source.channels, 0), np.float32)
        )
        frames = block.shape[1]
        if queued is not None and queued.shape[1] >= min(frames, round(JOIN_S * self._rate)):
            old = queued
        else:
            old = read_on(change.old, position, frames) if change.old is not None else block
        block = joined(old, block, material.source.rate)
        with self._lock:
            if run is not self._run or self._change is not change:
                return False  # something newer is wanted
            if at < run.output.earliest() and at < run.fed:
                return False  # reading took too long: the place has gone by, the next one will do
            self._change = None
            self._stop_at = self._stop_at if change.place is None else None
            self._forget_after(run, at)
            run.pause = 0
            if change.place is not None:
                run.shown = (at, change.place)
            if not frames:
                self._next = start
                return False
        return self._put(run, at, start, block, material)

    def _put(
        self, run: Run, at: int, start: int, block: Samples, material: Heard, *, speed: float | None = None
    ) -> bool:
        with self._lock:
            if run is not self._run or run.fed != at:
                return False
            if run.fade_in:
                count = min(block.shape[1], round(JOIN_S * self._rate))
                block = block.copy()
                block[:, :count] *= np.linspace(0.0, 1.0, count, dtype=np.float32)
                run.fade_in = False
            run.queue.append(Queued(at, start, block, run.speed if speed is None else speed))
            self.levels.feed(block, at)
            run.fed = at + block.shape[1]
            self._next = start + block.shape[1]
            run.finished = False
            run.output.write(self._for_ears(block, material), at)
        return False

    def _rest(self, run: Run) -> bool:
        """All has been queued: wait until it is heard, then rest at the place where it began or ended."""
        if not run.finished:
            run.finished = True
            run.output.finish()
        if run.output.heard() < run.fed:
            return True
        self.stop()
        self.on_stopped()
        return False

    def _fail(self, run: Run, sentence: str) -> None:
        with self._lock:
            if run is not self._run:
                return
            self.stop()
        self.on_error(sentence)
        self.on_stopped()

    # -- places

    @property
    def _block_frames(self) -> int:
        return max(64, 2 * round(BLOCK_S * self._rate / 2))

    def _end(self, material: Heard) -> int:
        frames = material.source.frames
        if self._loop is not None:
            return min(self._loop.stop, frames)
        return frames if self._stop_at is None else min(self._stop_at, frames)

    def _at_loop_end(self, material: Heard) -> int | None:
        """The place at which a loop goes back to its start now; None elsewhere."""
        if self._loop is None or self._next < self._end(material) or self._loop.start >= material.source.frames:
            return None
        return self._next

    def _join_place(self, run: Run) -> tuple[int, int, Samples | None]:
        """Where a change can be heard first: the frame of the run, that of the source, and what waits there."""
        earliest = run.output.earliest()
        for queued in run.queue:
            if queued.at >= earliest:
                return queued.at, queued.position, queued.block
        return run.fed, self._next, None

    def _forget_after(self, run: Run, at: int) -> None:
        while run.queue and run.queue[-1].at >= at:
            run.queue.pop()
        if run.queue and run.queue[-1].end > at:
            last = run.queue.pop()
            run.queue.append(last._replace(block=last.block[:, : at - last.at]))
        if run.fed > at:
            self.levels.forget_from(at)
            run.fed = at

    def _for_ears(self, block: Samples, material: Heard) -> Samples:
        return np.asarray((material.weights() * np.float32(self.volume)) @ block, dtype=np.float32)
