# SPDX-License-Identifier: GPL-3.0-or-later
"""Playing: one thread reads the chosen Source ahead and fills the output's queue. No Qt."""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field
from enum import Enum
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.layouts import channel_names, into_two
from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, read_padded
from pulizia.audio.spans import Span
from pulizia.dsp.time_stretch import Stretcher
from pulizia.errors import PuliziaError
from pulizia.measure.live import LiveLevels, Reading
from pulizia.media.faults import note_fault
from pulizia.session.output_protocol import OutputError, SoundOut
from pulizia.session.sound_out import SimulatedOut
from pulizia.words import N_, tr

BLOCK_S = 0.02
JOIN_S = 0.005  # over which sound goes from one place or material to another: too short to be heard, too long to click
END_S = 0.01  # over which sound fades where playing is stopped
POLL_S = 0.015
SLOWEST_KEPT, FASTEST_KEPT = 0.5, 2.0  # speeds at which the pitch of speech is kept


class Listening(Enum):
    """What is heard."""

    BEFORE = N_("Before")
    AFTER = N_("After")
    REMOVED = N_("Removed")
    STEP = N_("By step")

    @property
    def is_removed(self) -> bool:
        """Whether it is what was taken away, which is no programme to measure."""
        return self in (Listening.REMOVED, Listening.STEP)


@dataclass(frozen=True, slots=True)
class Heard:
    """A Source with the gain that matches its level to the others, and its channels' names."""

    source: Source
    gain: float = 1.0
    names: tuple[str, ...] = ()
    only: int | None = None  # one channel alone, on both sides

    def weights(self) -> NDArray[np.float32]:
        """(2, channels): how its channels are heard from two loudspeakers."""
        channels = self.source.channels
        if self.only is not None and self.only < channels:
            weights = np.zeros((2, channels))
            weights[:, self.only] = 1.0
        else:
            weights = into_two(channel_names(channels, self.names))
        return weights.astype(np.float32)


class _Queued(NamedTuple):
    """A block that was given to the output."""

    at: int  # frame of the run
    position: int  # frame of the source
    block: Samples  # as the source gave it
    speed: float = 1.0  # frames of the source for each of the run

    @property
    def end(self) -> int:
        return self.at + int(self.block.shape[1])


@dataclass(slots=True)
class _Change:
    """Another place or other material, to be heard as soon as possible."""

    old: Heard | None  # what the queue ends with
    place: int | None = None  # where to go on; None: at the same place


@dataclass(slots=True)
class _Run:
    """One run from Play to Stop."""

    output: SoundOut
    queue: deque[_Queued] = field(default_factory=deque)
    opened: bool = False
    fed: int = 0
    fade_in: bool = False
    speed: float = 1.0  # backwards below 0; other than 1 while shuttling
    finished: bool = False
    stretcher: Stretcher | None = None  # at speeds that speech is understood at
    pause: int = 0  # frames of silence still to come before a loop begins again
    shown: tuple[int, int] | None = None  # until this frame of the run is heard, the play head rests at that place


class Transport:
    """Play, stop, seek, loop; the material may be exchanged at any time while playing."""

    def __init__(self, output: SoundOut) -> None:
        self.output = output
        self.levels = LiveLevels()
        self.volume = 1.0  # of the loudspeakers only: gauges and files do not see it
        self.on_error: Callable[[str], None] = lambda _text: None
        self.on_notice: Callable[[str], None] = lambda _text: None
        self.on_stopped: Callable[[], None] = lambda: None
        self._lock = threading.RLock()
        self._material: Heard | None = None
        self._change: _Change | None = None
        self._run: _Run | None = None  # while playing
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
    def loop(self) -> Span | None:
        """The stretch that is repeated."""
        return self._loop

    @loop.setter
    def loop(self, span: Span | None) -> None:
        with self._lock:
            self._loop = span if span is not None and span.frames > 0 else None

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
                self._change = _Change(pending.old, pending.place) if pending is not None else _Change(old)
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
            self._run = _Run(self.output, fade_in=begin > 0)
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
            waiting = [q for q in run.queue if q.at <= run.output.earliest() < q.end]
            if not run.output.exchanges or not waiting or self._material is None:
                run.output.close()
                return
            at = run.output.earliest()
            tail = waiting[0].block[:, at - waiting[0].at :][:, : round(END_S * self._material.source.rate)]
            fade = np.linspace(1.0, 0.0, tail.shape[1], dtype=np.float32)
            run.output.close(self._for_ears(tail, self._material) * fade, at)

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
            self._change, self._stop_at = _Change(old, frame), None
            self._stir.set()

    def use_output(self, output: SoundOut) -> None:
        """Play through another output from here on."""
        with self._lock:
            self.stop()
            self.output = output

    def close(self) -> None:
        """End the thread."""
        self.stop()
        self._closing = True
        self._wake.set()
        self._thread.join(timeout=5)

    # -- the feeding thread

    def _feed(self) -> None:
        while True:
            self._wake.wait()
            if self._closing:
                return
            with self._lock:
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

    def _advance(self, run: _Run) -> bool:
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

    def _open(self, run: _Run) -> None:
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

    def _go_on(self, run: _Run, material: Heard) -> bool:
        """Read and queue the next block; True when all there is has been queued."""
        with self._lock:
            if run is not self._run or self._change is not None:
                return False
            if run.speed != 1.0:
                return self._shuttle_on(run, material)
            if run.pause:
                return self._pause_on(run, material)
            joined = self._at_loop_end(material)
            if joined is not None and self._loop is not None and self.loop_pause_s > 0.0:
                run.pause = max(1, round(self.loop_pause_s * self._rate))
                self._next = self._loop.start
                return False
            start = self._loop.start if joined is not None and self._loop is not None else self._next
            stop = min(start + self._block_frames, self._end(material))
            if start >= stop:
                return self._rest(run)
            ends_at = self._stop_at if self._loop is None else self._loop.stop if self.loop_pause_s > 0.0 else None
        block = _faded_to(_read(material, start, stop), start, ends_at, material.source)
        if joined is not None:
            block = _joined(_read_on(material, joined, block.shape[1]), block, material.source.rate)
        return self._put(run, run.fed, start, block, material)

    def _pause_on(self, run: _Run, material: Heard) -> bool:
        """Queue a little of the silence before a loop begins again."""
        count = min(run.pause, self._block_frames)
        place = self._next
        run.pause -= count
        run.fade_in = False
        self._put(run, run.fed, place, np.zeros((material.source.channels, count), np.float32), material, speed=0.0)
        self._next = place
        run.fade_in = not run.pause
        return False

    def _shuttle_on(self, run: _Run, material: Heard) -> bool:
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
        sound = _read(material, low, high)
        if run.speed < 0:
            sound = sound[:, ::-1]
        count = max(1, round((high - low) / abs(run.speed)))
        at = np.minimum(np.arange(count) * abs(run.speed), high - low - 1)
        whole = np.arange(high - low)
        block = np.stack([np.interp(at, whole, row) for row in sound]).astype(np.float32)
        self._put(run, run.fed, start, block, material)
        self._next = high if run.speed > 0 else low
        return False

    def _stretch_on(self, run: _Run, stretcher: Stretcher, material: Heard) -> bool:
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

    def _exchange(self, run: _Run, change: _Change, material: Heard) -> bool:
        """Read what a change asks for, and let it take the place of what waits."""
        with self._lock:
            at, position, queued = self._join_place(run)
            start = position if change.place is None else change.place
            end = self._end(material)
        if start >= end and self._loop is not None:
            start = self._loop.start
        stop = min(start + self._block_frames, end)
        block = _read(material, start, stop) if start < stop else np.zeros((material.source.channels, 0), np.float32)
        frames = block.shape[1]
        if queued is not None and queued.shape[1] >= min(frames, round(JOIN_S * self._rate)):
            old = queued
        else:
            old = _read_on(change.old, position, frames) if change.old is not None else block
        block = _joined(old, block, material.source.rate)
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
        self, run: _Run, at: int, start: int, block: Samples, material: Heard, *, speed: float | None = None
    ) -> bool:
        with self._lock:
            if run is not self._run or run.fed != at:
                return False
            if run.fade_in:
                count = min(block.shape[1], round(JOIN_S * self._rate))
                block = block.copy()
                block[:, :count] *= np.linspace(0.0, 1.0, count, dtype=np.float32)
                run.fade_in = False
            run.queue.append(_Queued(at, start, block, run.speed if speed is None else speed))
            self.levels.feed(block, at)
            run.fed = at + block.shape[1]
            self._next = start + block.shape[1]
            run.finished = False
            run.output.write(self._for_ears(block, material), at)
        return False

    def _rest(self, run: _Run) -> bool:
        """All has been queued: wait until it is heard, then rest at the place where it began or ended."""
        if not run.finished:
            run.finished = True
            run.output.finish()
        if run.output.heard() < run.fed:
            return True
        self.stop()
        self.on_stopped()
        return False

    def _fail(self, run: _Run, sentence: str) -> None:
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

    def _join_place(self, run: _Run) -> tuple[int, int, Samples | None]:
        """Where a change can be heard first: the frame of the run, that of the source, and what waits there."""
        earliest = run.output.earliest()
        for queued in run.queue:
            if queued.at >= earliest:
                return queued.at, queued.position, queued.block
        return run.fed, self._next, None

    def _forget_after(self, run: _Run, at: int) -> None:
        while run.queue and run.queue[-1].at >= at:
            run.queue.pop()
        if run.fed > at:
            self.levels.forget_from(at)
            run.fed = at

    def _for_ears(self, block: Samples, material: Heard) -> Samples:
        return np.asarray((material.weights() * np.float32(self.volume)) @ block, dtype=np.float32)


def _read(heard: Heard, start: int, stop: int) -> Samples:
    block = heard.source.read(start, stop)
    return block if heard.gain == 1.0 else block * np.float32(heard.gain)


def _read_on(heard: Heard, start: int, frames: int) -> Samples:
    """What would have followed, with silence after the end."""
    count = min(frames, round(JOIN_S * heard.source.rate))
    return read_padded(heard.source, start, start + count) * np.float32(heard.gain)


def _faded_to(block: Samples, start: int, ends_at: int | None, source: Source) -> Samples:
    """A block that begins at ``start``, faded where playing ends inside the source: no click there."""
    if ends_at is None or ends_at >= source.frames:
        return block
    left = ends_at - np.arange(start, start + block.shape[1])
    count = round(JOIN_S * source.rate)
    if left[-1] > count:
        return block
    return block * (np.clip(left / count, 0.0, 1.0)).astype(np.float32)


def _joined(old: Samples, new: Samples, rate: int) -> Samples:
    """The new samples, cross-faded over from the old ones."""
    count = min(new.shape[1], old.shape[1], round(JOIN_S * rate))
    weight = np.linspace(0.0, 1.0, count, dtype=np.float32)
    mixed = new.copy()
    mixed[:, :count] = old[:, :count] * (1 - weight) + new[:, :count] * weight
    return mixed
