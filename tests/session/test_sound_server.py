# SPDX-License-Identifier: GPL-3.0-or-later
"""Playing through a real sound server, recorded from its sink and compared with the file."""

from __future__ import annotations

import multiprocessing
import os
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest
from tests.conftest import voice_in_noise
from tests.sound_server import RATE, Recorder, Server, running_server

from pulizia.audio.source import ArraySource, Source
from pulizia.audio.spans import Span
from pulizia.media.open import open_media
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.score.steps import make_step
from pulizia.session.heard import JOIN_S, Heard
from pulizia.session.port_audio_out import devices
from pulizia.session.sound_out import DEVICE, SERVER, output_of, outputs
from pulizia.session.transport import Transport

JOIN = round(JOIN_S * RATE)
pytestmark = pytest.mark.alone  # a server that waits for the processor drops sound


@pytest.fixture
def server(monkeypatch: pytest.MonkeyPatch) -> Iterator[Server]:
    with running_server(monkeypatch) as made:
        yield made


class Player(Transport):
    """The window's transport on a sink, with what it said."""

    def __init__(self, choice: str = SERVER + "desk") -> None:
        super().__init__(output_of(choice))
        self.said: list[str] = []
        self.stopped = self._told = 0
        self.on_error = self.on_notice = self.said.append
        self.on_stopped = self._count

    def _count(self) -> None:
        self.stopped += 1

    def until(self, condition: Callable[[], bool], seconds: float = 10.0) -> None:
        end = time.monotonic() + seconds
        while not condition():
            assert time.monotonic() < end, f"it did not happen in time; said {self.said}"
            time.sleep(0.005)

    def wait(self) -> None:
        """Until it has ended by itself and said so; it stops before it says so, and closing a device takes time."""
        told = self._told
        self.until(lambda: not self.is_playing and self.stopped > told, 60)
        self._told = self.stopped


@pytest.fixture
def player(server: Server) -> Iterator[Player]:
    made = Player()
    yield made
    made.close()


def noise(seconds: float, channels: int = 2, rate: int = RATE) -> Source:
    rng = np.random.default_rng(3)
    return ArraySource((0.1 * rng.standard_normal((channels, round(seconds * rate)))).astype(np.float32), rate)


def tone(seconds: float, hz: float = 100.0) -> ArraySource:
    t = np.arange(round(seconds * RATE)) / RATE
    return ArraySource((0.25 * np.sin(2 * np.pi * hz * t))[None].astype(np.float32), RATE)


def largest_bend(sound: np.ndarray) -> float:
    """The largest second difference: small for a low tone, large for a jump."""
    return float(np.abs(np.diff(sound[0].astype(np.float64), n=2)).max())


SMOOTH = 0.25 / JOIN * 2.5  # what fades of that length do to the tone; a jump to silence is 0.25


def test_playing_ends_and_what_is_recorded_is_the_file_sample_for_sample(server: Server, player: Player) -> None:
    source = noise(2.5)
    player.set_material(Heard(source))
    with server.recording() as recorder:
        began = time.monotonic()
        player.play(0)
        player.wait()
        assert 2.4 < time.monotonic() - began < 10.0
    assert (player.stopped, player.said, player.position) == (1, [], source.frames)
    assert np.array_equal(recorder.heard(), source.read(0, source.frames))


def test_a_selection_ends_and_stop_stops_both_without_a_click(server: Server, player: Player) -> None:
    source = tone(5.0)
    player.set_material(Heard(source))
    with server.recording() as recorder:
        player.play(RATE, RATE + 24_120)  # to the top of the tone
        player.wait()
        assert player.position == RATE + 24_120
        player.play(RATE + 123)
        player.until(lambda: player.position > RATE + 20_000)  # however long the server takes to begin
        before = player.position
        player.stop()
        rest = player.position
        assert before <= rest < before + RATE // 4
        time.sleep(0.3)
    assert player.position == rest
    sound = recorder.heard()
    assert sound.shape[1] > 24_000 + 12_000
    assert largest_bend(sound) < SMOOTH
    gaps = np.flatnonzero(np.diff(np.flatnonzero(np.abs(sound[0]) > 0)) > 100)
    assert len(gaps) == 1  # silence between the two, none inside


def test_loops_and_seeks_go_on_without_a_gap_or_a_click(server: Server, player: Player) -> None:
    source = tone(6.0)
    player.set_material(Heard(source))
    player.loop = Span(10_000, 29_873)  # the tone does not fit into it
    with server.recording() as recorder:
        player.play(10_000)
        time.sleep(1.3)
        player.loop = None
        player.seek(3 * RATE + 77)
        player.until(lambda: player.position > 3 * RATE + 9_600)
        player.seek(RATE + 11)
        player.until(lambda: RATE < player.position < 2 * RATE)
        time.sleep(0.2)
        player.stop()
        time.sleep(0.2)
    sound = recorder.heard()[:, JOIN:]
    assert sound.shape[1] > 1.5 * RATE
    assert largest_bend(sound) < SMOOTH
    quiet = np.abs(sound[0, : -2 * JOIN]).reshape(-1)
    runs = np.convolve(quiet[: len(quiet) // 480 * 480].reshape(-1, 480).max(axis=1) < 0.02, np.ones(2), "valid")
    assert runs.max() < 2  # nowhere 20 ms of silence


def test_changed_material_is_heard_at_once_though_a_second_waits(server: Server, player: Player) -> None:
    quiet, loud = (ArraySource(np.full((1, 8 * RATE), level, np.float32), RATE) for level in (0.125, 0.5))
    player.set_material(Heard(quiet))
    with server.recording() as recorder:
        player.play(0)
        player.until(lambda: player.waiting > 0.8 * RATE)
        changed = time.monotonic()
        player.set_material(Heard(loud))
        time.sleep(0.6)
        player.stop()
    sound = recorder.sound()
    first = int(np.argmax(sound[0] > 0.4))
    came = next(at for at, frames in recorder.came if frames >= first)
    assert came - changed < 0.25
    assert np.abs(np.diff(sound[0, first - JOIN : first + JOIN])).max() < 0.01  # a fade, no jump


@pytest.mark.parametrize(("rate", "channels"), [(44_100, 1), (44_100, 2), (48_000, 6), (48_000, 8), (96_000, 2)])
def test_other_rates_and_layouts_into_a_stereo_sink(server: Server, player: Player, rate: int, channels: int) -> None:
    """A tone in each channel alone, one after the other, arrives with the weights of the fold-down."""
    part = round(0.25 * rate)
    t = np.arange(part) / rate
    burst = (0.5 * np.sin(2 * np.pi * 440 * t) * np.hanning(part) ** 0.25).astype(np.float32)
    samples = np.zeros((channels, part * channels), np.float32)
    for n in range(channels):
        samples[n, n * part : (n + 1) * part] = burst
    material = Heard(ArraySource(samples, rate))
    player.set_material(material)
    with server.recording() as recorder:
        player.play(0)
        player.wait()
    sound = recorder.sound()
    begin = int(np.argmax(np.abs(sound).max(axis=0) > 1e-3))
    length = round(0.25 * RATE)
    for n, (left, right) in enumerate(material.weights().T):
        middle = begin + n * length + length // 4
        got = np.abs(sound[:, middle : middle + length // 2]).max(axis=1)
        assert got == pytest.approx([0.5 * left, 0.5 * right], abs=0.02), n


def test_the_play_head_agrees_with_what_is_heard(server: Server, player: Player) -> None:
    """Pulses every half second; the moments at which the recorder gets them beside the play head's."""
    samples = np.zeros((1, 5 * RATE), np.float32)
    at = np.arange(12_000, 5 * RATE, 24_000)
    samples[0, at] = 1.0
    player.set_material(Heard(ArraySource(samples, RATE)))
    heads: list[tuple[float, int]] = []
    with server.recording() as recorder:
        player.play(0)
        while player.is_playing:
            heads.append((time.monotonic(), player.position))
            time.sleep(0.002)
    found = np.flatnonzero(recorder.sound()[0] > 0.5)
    assert len(found) == len(at)
    arrivals = np.array([next(when for when, frames in recorder.came if frames > f) for f in found])
    clock, head = np.array([h[0] for h in heads]), np.array([h[1] for h in heads])
    late = [when - float(np.interp(place, head, clock)) for when, place in zip(arrivals, at, strict=True)]
    assert abs(float(np.median(late))) < 0.02  # seconds; the recorder's own packets are 10 ms


def test_every_sink_is_chosen_by_name(server: Server, player: Player) -> None:
    found = {choice.name: choice.id for choice in outputs()}
    assert {"The desktop's output", "Desk", "Headphones"} <= set(found)
    player.use_output(output_of(found["Headphones"], "Headphones"))
    player.set_material(Heard(tone(0.4)))
    with server.recording("phones") as phones, server.recording("desk") as desk:
        player.play(0)
        player.wait()
    assert phones.heard().shape[1] > 0.3 * RATE
    assert not desk.sound().any()


def test_sinks_that_go_and_servers_that_die_end_in_one_sentence_and_the_next_play_tries_again(
    server: Server, player: Player
) -> None:
    player.set_material(Heard(tone(20.0)))
    player.play(0)
    player.until(lambda: player.position > 4800)
    server.say("suspend-sink", "desk", "1")
    player.until(lambda: any("suspended" in text for text in player.said))
    server.say("suspend-sink", "desk", "0")
    place = player.position
    player.until(lambda: player.position > place + 9600)
    server.kill()
    player.wait()
    assert player.said[-1] == "The sound server is gone: playback stopped. Play again once it is back."
    player.play(0)  # there is no server
    player.until(lambda: len(player.said) >= 3)
    assert player.said[-1].startswith("The sound server does not answer.")
    assert player.said[-1].endswith("Playback is silent this time.")
    player.stop()
    server.start()
    with server.recording() as recorder:
        player.play(0)
        time.sleep(0.4)
        player.stop()
    assert recorder.heard().shape[1] > 9600  # heard again, without anything chosen anew
    player.play(0)
    player.until(lambda: player.position > 4800)
    module = next(
        line.split()[0] for line in server.say("list", "short", "modules").splitlines() if "name=desk " in line
    )
    server.say("unload-module", module)
    player.until(lambda: not player.is_playing or "another output" in player.said[-1])
    assert not any(sign in text for text in player.said for sign in ("PaError", "errno", "-9", "0x"))


def burn(until: float) -> None:
    """Keep a core busy."""
    while time.monotonic() < until:
        sum(n * n for n in range(1000))


@pytest.mark.parametrize("seconds", [8.0])
def test_no_dropout_beside_two_processes_that_burn_both_cores(
    server: Server, player: Player, wav: Callable[..., Path], seconds: float
) -> None:
    media = open_media(wav(voice_in_noise(seconds, channels=2)))
    steps = tuple(make_step(tool) for tool in ("hum", "clicks", "noise"))
    chain = Chain(media.source, steps, ChunkCache(), AnalysisStore())
    chain.prepare()
    hogs = [multiprocessing.Process(target=burn, args=(time.monotonic() + seconds + 4,)) for _ in range(2)]
    for hog in hogs:
        hog.start()
    try:
        player.set_material(Heard(chain.after))
        with server.recording() as recorder:
            player.play(0)
            player.wait()
    finally:
        for hog in hogs:
            hog.kill()
    assert player.output.underruns == 0
    assert_is(recorder, chain.after.read(0, chain.after.frames))


def assert_is(recorder: Recorder, expected: np.ndarray) -> None:
    """What was recorded is this, without a gap; the recorder may have missed none of it either."""
    sound = recorder.sound()
    first = int(np.argmax(np.abs(sound[0]) > 0)) - int(np.argmax(np.abs(expected[0]) > 0))
    assert np.array_equal(sound[:, first : first + expected.shape[1]], expected)


def test_without_the_server_s_own_face_playing_ends_and_is_the_file_as_well(
    server: Server, monkeypatch: pytest.MonkeyPatch
) -> None:
    """PortAudio through ALSA: the way that is left where no sound server answers."""
    settings = server.socket.parent / "asound.conf"
    settings.write_text("pcm.pulse { type pulse }\nctl.pulse { type pulse }\npcm.!default { type pulse }\n")
    monkeypatch.setenv("ALSA_CONFIG_PATH", f"/usr/share/alsa/alsa.conf:{settings}")
    if "pulse" not in devices(again=True):
        if os.environ.get("CI"):
            pytest.fail("ALSA's way to the sound server must be installed on a build machine")
        pytest.skip("ALSA has no way to the sound server (package libasound2-plugins)")
    player = Player(DEVICE + "pulse")
    source = noise(2.0)
    player.set_material(Heard(source))
    try:
        with server.recording() as recorder:
            player.play(0)
            player.wait()
        assert (player.stopped, player.said, player.position) == (1, [], source.frames)
        assert np.array_equal(recorder.heard(), source.read(0, source.frames))
        server.kill()
        player.play(0)
        player.until(lambda: bool(player.said))
        assert player.said[0].startswith("pulse is not there")
    finally:
        player.close()


def test_a_stream_that_is_moved_to_another_sink_goes_on_there(server: Server, player: Player) -> None:
    player.set_material(Heard(tone(20.0)))
    player.play(0)
    player.until(lambda: player.position > 4800)
    stream = server.say("list", "short", "sink-inputs").split()[0]
    with server.recording("phones") as phones:
        server.say("move-sink-input", stream, "phones")
        player.until(lambda: any("another output" in text for text in player.said))
        place = player.position
        player.until(lambda: player.position > place + 9600)
        player.stop()
    assert phones.heard().shape[1] > 4800
