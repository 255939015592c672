# SPDX-License-Identifier: GPL-3.0-or-later
"""Playing through the simulated output, which keeps real time."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator

import numpy as np
import pytest

from pulizia.audio.source import ArraySource
from pulizia.audio.spans import Span
from pulizia.errors import MediaError
from pulizia.measure.live import LiveLevels
from pulizia.session.feeding import END_S
from pulizia.session.heard import JOIN_S, Heard
from pulizia.session.jobs import VISIBLE, Job, JobPool
from pulizia.session.sound_out import SimulatedOut
from pulizia.session.transport import Transport

RATE = 48_000
pytestmark = pytest.mark.alone  # the simulated output keeps real time


def until(condition: Callable[[], bool], seconds: float = 5.0) -> None:
    end = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < end, "it did not happen in time"
        time.sleep(0.002)


@pytest.fixture
def transport() -> Iterator[Transport]:
    made = Transport(SimulatedOut())
    yield made
    made.close()


def ramp(seconds: float = 3.0) -> ArraySource:
    return ArraySource((np.arange(round(seconds * RATE)) / 1e6)[None].astype(np.float32), RATE)


def played(transport: Transport) -> np.ndarray:
    return np.concatenate([np.zeros((2, 0), np.float32), *transport.output.kept], axis=1)


def test_what_is_played_is_the_source_sample_by_sample_in_real_time(transport: Transport) -> None:
    source = ramp(0.8)
    transport.set_material(Heard(source))
    began = time.monotonic()
    transport.play(4800)
    until(lambda: not transport.is_playing)
    assert 0.6 < time.monotonic() - began < 3.0  # 0.7 s of sound; a busy machine may start late
    fade = round(JOIN_S * RATE)
    got, expected = played(transport), np.repeat(source.read(4800, source.frames), 2, axis=0)
    assert np.array_equal(got[:, fade:], expected[:, fade:])
    assert np.abs(got[:, :fade]).max() <= expected[:, fade].max()
    assert transport.position == source.frames


def test_position_follows_the_clock_and_stop_keeps_the_place(transport: Transport) -> None:
    transport.set_material(Heard(ramp()))
    transport.play(0)
    time.sleep(0.4)
    transport.stop()
    assert 0.2 * RATE < transport.position < 2.0 * RATE
    place = transport.position
    transport.seek(place + 1000)
    assert transport.position == place + 1000


def test_a_loop_repeats_its_stretch_without_a_gap(transport: Transport) -> None:
    source = ramp()
    transport.set_material(Heard(source))
    transport.loop = Span(10_000, 20_000)
    transport.play(0)
    until(lambda: played(transport).shape[1] > 45_000)
    transport.stop()
    expected = np.tile(source.read(10_000, 20_000), 6)
    got = played(transport)[:1]
    sounds_alone = np.arange(got.shape[1]) % 10_000 >= round(JOIN_S * RATE)  # away from the joins
    assert np.array_equal(got[:, sounds_alone], expected[:, : got.shape[1]][:, sounds_alone])
    assert np.abs(np.diff(got[0])).max() < 1e-4  # no jump from the last sample back to the first


def test_exchanged_material_is_heard_within_a_quarter_second_without_a_jump(transport: Transport) -> None:
    quiet = ArraySource(np.full((1, 5 * RATE), 0.25, np.float32), RATE)
    loud = ArraySource(np.full((1, 5 * RATE), 0.5, np.float32), RATE)
    transport.set_material(Heard(quiet))
    transport.play(0)
    time.sleep(0.3)
    changed_at = transport.output.heard()
    transport.set_material(Heard(loud))
    until(lambda: played(transport)[0, -1:] == 0.5)
    got = played(transport)[0]
    first_new = int(np.argmax(got > 0.25))
    assert (first_new - changed_at) / RATE < 0.25
    assert np.abs(np.diff(got)).max() < 0.01


def test_an_error_while_reading_stops_with_its_sentence(transport: Transport) -> None:
    gone = "x.wav is no longer there."

    class Broken(ArraySource):
        def read(self, _start: int, _stop: int):
            raise MediaError(gone)

    said: list[str] = []
    transport.on_error = said.append
    transport.set_material(Heard(Broken(np.zeros((1, RATE), np.float32), RATE)))
    transport.play(0)
    until(lambda: bool(said))
    assert said == [gone]
    assert not transport.is_playing


def test_gauges_read_the_moment_that_is_heard() -> None:
    levels = LiveLevels()
    levels.start(RATE, 2)
    t = np.arange(960) / RATE
    for n in range(50):
        amplitude = 0.5 if n < 25 else 0.05
        tone = amplitude * np.sin(2 * np.pi * 1000 * (t + n * 0.02))
        levels.feed(np.stack([tone, -tone]).astype(np.float32), n * 960)
    levels.rms_s = 0.3
    early, late = levels.at(24 * 960), levels.at(50 * 960)
    assert early.peak[0] == pytest.approx(0.5, rel=0.01)
    assert early.correlation == pytest.approx(-1.0, abs=1e-6)
    assert late.rms[0] == pytest.approx(0.05 / np.sqrt(2), rel=0.01)
    assert late.true_peak_hold[0] == pytest.approx(0.5, rel=0.02)
    assert late.peak[0] < early.peak[0]


def test_jobs_run_most_urgent_and_newest_first_and_a_slot_keeps_one() -> None:
    pool = JobPool(threads=1)
    order: list[str] = []
    gate = pool.submit(lambda _job: time.sleep(0.05))

    def note(name: str) -> Callable[[Job], None]:
        return lambda _job: order.append(name)

    pool.submit(note("old"))
    pool.submit(note("new"))
    last = pool.submit(note("replaced"), slot="s")
    done = pool.submit(note("kept"), slot="s")
    pool.submit(note("visible"), priority=VISIBLE)
    gate.finished.wait(2)
    until(lambda: len(order) == 4)
    assert order == ["visible", "kept", "new", "old"]
    assert last.is_cancelled
    assert not done.is_cancelled
    pool.close()


@pytest.mark.parametrize("speed", [-1.0, 4.0, 3.0, -3.0])
def test_shuttling_plays_every_sample_of_its_way_at_its_speed(transport: Transport, speed: float) -> None:
    source = ramp(3.0)
    transport.set_material(Heard(source))
    transport.seek(RATE)
    transport.shuttle(speed)
    until(lambda: played(transport).shape[1] > 12_000)
    assert transport.speed == speed
    place = transport.position
    transport.stop()
    assert transport.speed == 0.0
    assert (place - RATE) * speed > 0
    got = played(transport)[0, round(JOIN_S * RATE) : 9000]
    expected = (RATE + speed * (np.arange(round(JOIN_S * RATE), 9000) - (0 if speed > 0 else -1 / speed))) / 1e6
    assert np.abs(got - expected).max() < 3 * abs(speed) / 1e6


def test_shuttling_stops_at_either_end(transport: Transport) -> None:
    transport.set_material(Heard(ramp(0.4)))
    transport.seek(round(0.1 * RATE))
    transport.shuttle(-2.0)
    until(lambda: not transport.is_playing)
    assert transport.position == 0
    transport.shuttle(8.0)
    until(lambda: not transport.is_playing)
    assert transport.position == round(0.4 * RATE)


def test_half_and_double_speed_keep_the_pitch_of_a_voice(transport: Transport) -> None:
    t = np.arange(2 * RATE) / RATE
    buzz = sum(np.sin(2 * np.pi * 140 * k * t) / k for k in range(1, 12))  # as voiced speech: harmonics of 140 Hz
    transport.set_material(Heard(ArraySource((0.2 * buzz)[None].astype(np.float32), RATE)))
    for speed, place, seconds in ((0.5, RATE // 2, 0.7), (-0.5, RATE, 0.7), (2.0, 0, 0.7)):
        transport.seek(place)
        transport.output.kept.clear()
        transport.shuttle(speed)
        time.sleep(seconds)
        transport.stop()
        moved = (transport.position - place) / RATE
        got = played(transport)[0]
        assert moved / speed == pytest.approx(len(got) / RATE, abs=0.15)
        steady = got[RATE // 10 : RATE // 10 + RATE // 2]
        spectrum = np.abs(np.fft.rfft(steady * np.hanning(len(steady))))
        assert np.argmax(spectrum) * RATE / len(steady) == pytest.approx(140, abs=3)
        assert np.abs(np.diff(steady)).max() < 1.2 * 0.2 * np.abs(np.diff(buzz)).max()  # no click where segments meet


def test_a_loop_rests_before_it_begins_again(transport: Transport) -> None:
    samples = np.full((1, RATE), 0.25, np.float32)
    transport.set_material(Heard(ArraySource(samples, RATE)))
    transport.loop, transport.loop_pause_s = Span(RATE // 4, RATE // 2), 0.3
    transport.play(RATE // 4)
    time.sleep(1.3)
    rests = transport.position
    transport.stop()
    got = played(transport)[0]
    silent = got == 0.0
    edges = np.flatnonzero(np.diff(silent.astype(int)))
    lengths = np.diff(edges)[(silent[edges[:-1] + 1])]
    assert lengths[0] == pytest.approx(0.3 * RATE, abs=0.02 * RATE)
    assert RATE // 4 <= rests <= RATE // 2
    assert np.abs(np.diff(got)).max() < 0.01  # faded, never cut


class Waiting(SimulatedOut):
    """An output that takes a second and lets nothing be heard; what waits in it may be exchanged from ``place`` on."""

    exchanges = True

    def __init__(self, place: int) -> None:
        super().__init__()
        self.place, self.fed = place, 0
        self.last: tuple[np.ndarray, int] | None = None

    def room(self) -> int:
        return RATE - self.fed

    def earliest(self) -> int:
        return self.place

    def heard(self) -> int:
        return 0

    def write(self, block: np.ndarray, at: int) -> None:
        self.fed = at + block.shape[1]

    def close(self, last: np.ndarray | None = None, at: int = 0) -> None:
        if last is not None:
            self.last = (last, at)


@pytest.mark.parametrize("place", [9_600, 9_601, 10_079, 10_200, 10_559])  # blocks are of 960 frames
def test_stopping_fades_over_its_whole_length_wherever_in_a_block_it_falls(place: int) -> None:
    """A fade that ended with its block was as short as one frame: a click in one of twenty stops."""
    output = Waiting(place)
    transport = Transport(output)
    source = ramp()
    try:
        transport.set_material(Heard(source))
        transport.play(0)
        until(lambda: output.fed > 40_000)
        transport.stop()
    finally:
        transport.close()
    assert output.last is not None
    last, at = output.last
    frames = round(END_S * RATE)
    assert (at, last.shape[1]) == (place, frames)
    assert np.allclose(last[0], source.read(place, place + frames)[0] * np.linspace(1.0, 0.0, frames), atol=1e-6)


def test_closing_while_it_plays_does_not_wait() -> None:
    """The thread that was just told to stop missed that it should end, and closing took five seconds."""
    for _ in range(10):
        transport = Transport(SimulatedOut())
        transport.set_material(Heard(ramp()))
        transport.play(0)
        until(lambda made=transport: made.position > 0)
        began = time.monotonic()
        transport.close()
        assert time.monotonic() - began < 2.0
        assert not transport._thread.is_alive()
