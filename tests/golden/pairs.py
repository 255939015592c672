# SPDX-License-Identifier: GPL-3.0-or-later
"""Golden figures of what is told of two sounds together, of tones among talk, of needles that move, and of waveforms."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache, partial
from typing import Any

import numpy as np
from scipy.signal import fftconvolve
from tests.golden.sounds import OTHER_RATE, RATE, spoiled, strange

from pulizia import api
from pulizia.audio.source import ArraySource
from pulizia.audio.spans import Span
from pulizia.measure import (
    best_microphone,
    clip_levels,
    line_up,
    live,
    loudness,
    noise_profile,
    overview,
    readings,
    same_sound,
    sides,
    speech_activity,
    speech_spans,
    steady_tones,
    voices,
)  # fmt: skip
from pulizia.media.open import open_media


@cache
def talk(number: int, seconds: float = 16.0) -> np.ndarray:
    """One of the demo's recordings, (frames,) float64."""
    source = open_media(api.demo_files()[number]).source
    return source.read(0, round(seconds * RATE))[0].astype(np.float64)


def made(x: np.ndarray, rate: int = RATE) -> ArraySource:
    """As a source."""
    return ArraySource(np.atleast_2d(x).astype(np.float32), rate)


def roomy(x: np.ndarray, seed: int, direct: float, *, seconds: float = 0.25) -> np.ndarray:
    """As a microphone far away hears it: the direct sound late and no louder than the room around it."""
    rng = np.random.default_rng(seed)
    t = np.arange(round(seconds * RATE)) / RATE
    room = rng.standard_normal(len(t)) * 10 ** (-3 * t / seconds) * (t > 0.006 * seed)
    room *= 0.8 / np.sqrt(np.sum(room**2))
    room[190 * seed] += direct
    return fftconvolve(x, room)[: len(x)]


def drifting(x: np.ndarray, ppm: float) -> np.ndarray:
    """By another clock."""
    return np.interp(np.arange(len(x)) * (1.0 + 1e-6 * ppm), np.arange(len(x)), x)


def rung(x: np.ndarray) -> np.ndarray:
    """The talk with a telephone of two pitches that rings three times, a beep, and two more that differ by a few cycles."""
    t, out = np.arange(len(x)) / RATE, x.copy()
    for at in (3.0, 5.0, 7.0):
        out += 0.1 * (np.sin(2 * np.pi * 1440 * t) + np.sin(2 * np.pi * 1830 * t)) * ((t > at) & (t < at + 0.3))
    for hz, at in ((1000.0, 10.0), (1006.0, 11.5), (1030.0, 13.0)):
        out += 0.1 * np.sin(2 * np.pi * hz * t) * ((t > at) & (t < at + 0.3))
    return out


def _line_ups() -> dict[str, Callable[[], Any]]:
    x, noise = talk(0), np.random.default_rng(2).standard_normal(16 * RATE) * 10 ** (-62 / 20)
    later = np.concatenate([noise[: RATE // 3], x])[: len(x)]
    stopped = np.concatenate([later[: 7 * RATE], later[round(9.3 * RATE) :]])
    pairs = {
        "far": (roomy(x, 1, 0.5), roomy(x, 2, 0.4)), "near and far": (x + noise, roomy(later, 3, 0.3)),
        "drifting": (x, drifting(later, 80.0)), "turned over": (x, -0.3 * later), "stopped": (x, stopped),
        "other talk": (x, talk(1)), "noise": (noise, x), "short": (x, later[4 * RATE : 6 * RATE]),
    }  # fmt: skip
    listed: dict[str, Callable[[], Any]] = {}
    for words, (a, b) in pairs.items():
        listed[f"line-up, {words}"] = partial(line_up.line_up, made(a), made(b))
    listed["line-up, roughly"] = partial(line_up.line_up, made(x), made(later), exactly=False)
    for words, worked, raw in (
        ("a part, lowered", 0.4 * x[3 * RATE : 9 * RATE], x), ("through a room", roomy(x[RATE:], 1, 1.0), x), ("not there", talk(1)[: 5 * RATE], x),
        ("a moment", x[5 * RATE : round(5.6 * RATE)], x),
    ):  # fmt: skip
        listed[f"same, {words}"] = partial(same_sound.find_same, made(worked), made(raw))
    return listed


def _voices() -> dict[str, Callable[[], Any]]:
    one, two = talk(0), talk(1)
    turns = np.concatenate([one[: 5 * RATE], two[RATE : 5 * RATE], one[5 * RATE : 9 * RATE], two[6 * RATE : 10 * RATE]])
    in_turn = made(turns)
    apart = [np.where(np.arange(len(one)) // (4 * RATE) % 2 == n, x, 0.0) for n, x in enumerate((one, two))]
    bleeding = [made(apart[n] + 0.12 * np.roll(apart[1 - n], 160)) for n in (0, 1)]
    rng = np.random.default_rng(8)
    grows = rng.standard_normal(len(one)) * np.where(np.arange(len(one)) < 8 * RATE, 0.002, 0.008)
    noisy = made(one + grows)
    samples = (Span(0, RATE // 2), Span(15 * RATE, round(15.6 * RATE)))
    quiet = lambda _share: None  # noqa: E731
    return {
        "voices in turn": lambda: voices.voices_of(in_turn, speech_spans.speech_spans(in_turn).phrases),
        "voice of one": lambda: voices.voices_of(made(one), speech_spans.speech_spans(made(one)).phrases),
        "microphones of two": lambda: best_microphone.best_microphones(bleeding),
        "microphones of one": lambda: best_microphone.best_microphones([made(one), made(0.5 * np.roll(one, 480) + grows)]),
        "noise that grows": lambda: noise_profile.by_stretch(noisy, noise_profile.Told(), 2048, quiet),
        "noise, sampled": lambda: noise_profile.by_stretch(noisy, noise_profile.Told(samples=samples), 2048, quiet),
        "noise, rejected": lambda: noise_profile.by_stretch(noisy, noise_profile.Told(rejected=samples[:1]), 2048, quiet),
        "noise, drifting": lambda: noise_profile.drifting(noisy, 2048, quiet),
        "activity in noise": lambda: speech_activity.activity_of(noisy),
        "sides": lambda: [sides.sides_of(ArraySource(spoiled(), RATE)), sides.sides_of(made(np.stack([one, -0.5 * np.roll(one, -31)])))],
        "tones of a telephone": lambda: steady_tones.steady_tones(made(rung(one))),
        "their events": lambda: steady_tones.events_of(steady_tones.steady_tones(made(rung(one))), RATE),
        "their pitches": lambda: steady_tones.pitches_of(steady_tones.tones_in(made(rung(one)), 9 * RATE, 15 * RATE, (900.0, 1100.0))),
        "clip levels": lambda: [
            clip_levels.clip_levels(made(np.clip(one, -0.11, 0.14) + grows * share), (), quiet) for share in (0.0, 0.05, 0.3)
        ],
    }  # fmt: skip


def needles() -> list[Any]:
    """What live meters show of bursts and of talk beyond full scale, block by block, and after some is taken back."""
    rows: list[Any] = []
    t = np.arange(2 * OTHER_RATE) / OTHER_RATE
    bursts = sum(
        np.sin(2 * np.pi * 5000 * t) * ((t >= at) & (t < at + long))
        for at, long in ((0.1, 0.0015), (0.5, 0.01), (0.9, 0.1))
    )
    sound = np.concatenate(
        [np.stack([bursts, 0.5 * np.roll(bursts, 100)]), 4.0 * strange()[:2, : 3 * OTHER_RATE]], axis=1
    ).astype(np.float32)
    for kind in ("I", "IIa"):
        meter = live.LiveLevels()
        meter.ppm_kind = kind
        meter.start(OTHER_RATE, 2)
        size = 1111
        for n, at in enumerate(range(0, sound.shape[1] - size, size)):
            meter.feed(sound[:, at : at + size], at)
            if n == 120:
                meter.forget_from(100 * size)
                meter.feed(0.1 * sound[:, 100 * size : 121 * size], 100 * size)
            if n % 30 == 0 or n in (7, 22, 41):
                shown = meter.at(at - 300)
                rows.append(None if shown is None else [
                    shown.peak, shown.true_peak_hold, shown.rms, shown.correlation, shown.vu, shown.ppm, shown.peak_since_reset,
                    shown.true_peak_since_reset, shown.overs, shown.true_peak_overs,
                ])  # fmt: skip
            if n == 150:
                meter.reset()
    return rows


def waveforms() -> list[Any]:
    """Columns of a picture of two segments and a piece, near and far, with one segment that is not there yet."""
    x = np.tile(spoiled(), (1, 8))[:, : 2 * overview.SEGMENT_FRAMES + 54_321]
    x *= np.linspace(0.2, 1.0, x.shape[1], dtype=np.float32)
    source, store = ArraySource(x, RATE), overview.PeakStore()
    picture, older = overview.PeakPicture(source, store), overview.PeakPicture(ArraySource(0.5 * x, RATE), store)
    for one in (picture, older):
        for index in one.take_known():
            if one is older or index != 1:
                one.put(index, one.compute(index))
    looks = ((0.0, 256.0, 50), (900_000.0, 3000.0, 90), (-5000.0, 40_000.0, 70), (1_000_000.0, 333.3, 200))
    rows = [picture.columns(*look) for look in looks]
    picture.stand_in = older
    return [*rows, *(picture.columns(*look) for look in looks), picture.is_complete, older.is_complete]


def pairs() -> dict[str, Callable[[], Any]]:
    """All of them."""
    mixed = ArraySource(np.concatenate([spoiled(), 0.2 * spoiled(), np.zeros((2, RATE), np.float32)], axis=1), RATE)
    measures = loudness.measure(mixed)
    return _line_ups() | _voices() | {
        "needles": needles, "waveforms": waveforms,
        "loudest of all lengths": lambda: [readings.loudest(measures, s) for s in (0.4, 3.0, 9.0, 60.0)],
        "readings of both": lambda: readings.readings(mixed, measures, ("left", "right")),
    }  # fmt: skip
