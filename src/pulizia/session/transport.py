"""Playing: one thread reads the chosen Source ahead and feeds the output. No Qt."""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass
from enum import Enum

import numpy as np

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.errors import PuliziaError
from pulizia.measure.live import LiveLevels, Reading
from pulizia.session.sound_out import SimulatedOut, SoundOut

BLOCK_S = 0.02
SWITCH_FADE_S = 0.008


class Listening(Enum):
    """What is heard."""

    BEFORE = "Before"
    AFTER = "After"
    REMOVED = "Removed"


@dataclass(frozen=True, slots=True)
class Heard:
    """A Source with the gain that matches its level to the others."""

    source: Source
    gain: float = 1.0


class Transport:
    """Play, stop, seek, loop; the material may be exchanged at any time while playing."""

    def __init__(self, output: SoundOut) -> None:
        self.output = output
        self.levels = LiveLevels()
        self.volume = 1.0  # of the loudspeakers only: gauges and files do not see it
        self.on_error: Callable[[str], None] = lambda _text: None
        self.on_stopped: Callable[[], None] = lambda: None
        self._lock = threading.RLock()
        self._material: Heard | None = None
        self._fade_from: Heard | None = None
        self._playing = False
        self._position = 0  # where to start, or where the play head rests
        self._next = 0  # the next frame to be read
        self._stop_at: int | None = None
        self._loop: Span | None = None
        self._fed: deque[tuple[int, int, int]] = deque()  # (fed frame, position, frames)
        self._fed_frames = 0
        self._wake = threading.Event()
        self._closing = False
        self._generation = 0
        self._thread = threading.Thread(target=self._feed, name="transport", daemon=True)
        self._thread.start()

    @property
    def is_playing(self) -> bool:
        """Whether sound runs."""
        return self._playing

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
            if not self._playing:
                return self._position
            heard = self.output.heard()
            while len(self._fed) > 1 and self._fed[0][0] + self._fed[0][2] <= heard:
                self._fed.popleft()
            if not self._fed:
                return self._position
            fed, position, frames = self._fed[0]
            return position + min(max(heard - fed, 0), frames)

    def heard_levels(self) -> Reading | None:
        """Levels of what is heard at this moment."""
        return self.levels.at(self.output.heard()) if self._playing else None

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
            self._fade_from = old if keeps and self._playing else None
            self._material = material
            if not keeps:
                self.stop()
                self._position = 0

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
            self._fed.clear()
            self._fed_frames = 0
            self._fade_from = None
            try:
                self.output.open(source.rate, source.channels)
            except Exception as error:  # noqa: BLE001 - PortAudio raises many kinds
                self.output = SimulatedOut()
                self.output.open(source.rate, source.channels)
                self.on_error(f"The sound device cannot be used ({error}). Playing silently.")
            self.levels.start(source.rate, source.channels)
            self._generation += 1
            self._playing = True
            self._wake.set()

    def stop(self) -> None:
        """Stop where the sound is."""
        with self._lock:
            if not self._playing:
                return
            self._position = self.position
            self._playing = False
            self.output.close()

    def seek(self, frame: int) -> None:
        """Move the play head; goes on playing from there if it plays."""
        with self._lock:
            if self._material is not None:
                frame = max(0, min(frame, self._material.source.frames))
            if self._playing:
                if self._loop is not None and not self._loop.start <= frame < self._loop.stop:
                    self._loop = None
                self.play(frame, None)
            else:
                self._position = frame

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

    def _feed(self) -> None:
        while True:
            self._wake.wait()
            if self._closing:
                return
            with self._lock:
                if not self._playing:
                    self._wake.clear()
                    continue
                generation = self._generation
                place = self._next_place()
            if place is None:
                self._drain(generation)
                continue
            start, stop, material, old = place
            block = self._block(start, stop, material, old)
            if block is None:
                continue
            with self._lock:
                if generation != self._generation or not self._playing:
                    continue
                self._fed.append((self._fed_frames, start, stop - start))
                self.levels.feed(block, self._fed_frames)
                self._fed_frames += stop - start
                output = self.output
            try:
                output.write(block if self.volume == 1.0 else block * np.float32(self.volume))
            except Exception as error:  # noqa: BLE001 - PortAudio raises many kinds
                if generation == self._generation and self._playing:
                    self._fail(f"The sound device failed ({error}).")

    def _block(self, start: int, stop: int, material: Heard, old: Heard | None) -> Samples | None:
        """The next samples, faded over from the old material; None when reading failed."""
        try:
            block = _read(material, start, stop)
            if old is not None:
                block = _cross_faded(_read(old, start, stop), block, material.source.rate)
        except PuliziaError as error:
            self._fail(str(error))
        except Exception as error:  # noqa: BLE001 - the thread must live on
            self._fail(f"Playing stopped unexpectedly ({error}).")
        else:
            return block
        return None

    def _fail(self, sentence: str) -> None:
        self.stop()
        self.on_error(sentence)
        self.on_stopped()

    def _next_place(self) -> tuple[int, int, Heard, Heard | None] | None:
        material = self._material
        if material is None:
            return None
        source = material.source
        end = source.frames if self._stop_at is None else min(self._stop_at, source.frames)
        if self._loop is not None:
            end = min(self._loop.stop, source.frames)
            if self._next >= end:
                self._next = self._loop.start
        if self._next >= end:
            return None
        start = self._next
        stop = min(start + max(64, round(BLOCK_S * source.rate)), end)
        self._next = stop
        old, self._fade_from = self._fade_from, None
        return start, stop, material, old

    def _drain(self, generation: int) -> None:
        """Wait until what was fed is heard, then rest at the place where it began or ended."""
        while True:
            with self._lock:
                if generation != self._generation or not self._playing:
                    return
                if self._loop is not None and self._fed_frames == 0:
                    break
                if self.output.heard() >= self._fed_frames:
                    break
            if self._closing:
                return
            threading.Event().wait(0.005)
        self.stop()
        self.on_stopped()


def _read(heard: Heard, start: int, stop: int) -> Samples:
    block = heard.source.read(start, stop)
    return block if heard.gain == 1.0 else block * np.float32(heard.gain)


def _cross_faded(old: Samples, new: Samples, rate: int) -> Samples:
    count = min(new.shape[1], round(SWITCH_FADE_S * rate))
    weight = np.linspace(0.0, 1.0, count, dtype=np.float32)
    mixed = new.copy()
    mixed[:, :count] = old[:, :count] * (1 - weight) + new[:, :count] * weight
    return mixed
