# SPDX-License-Identifier: GPL-3.0-or-later
"""Best microphone in simulated rooms: two recorded talkers in turn, a lavalier each, bleed, other gains and rustle.

Needs `pip install pyroomacoustics`. Usage: benchmarks/best_microphone.py VOICE.wav … (48 kHz, two or more voices of some
minutes). Prints which share of the spoken time and how many turns are given to the talker's own microphone.
"""

from __future__ import annotations

import sys
import time

import numpy as np
import pyroomacoustics
import soundfile
from scipy.signal import fftconvolve, lfilter

from pulizia.audio.source import ArraySource
from pulizia.measure.best_microphone import best_microphones

RATE, SECONDS, ROOMS = 48_000, 60, 8
SPEED = 343.0


def talk(rng, voices):
    """(talkers, frames) two voices in turn, and (first, last, talker) of every turn."""
    sound, turns, at, who = np.zeros((2, SECONDS * RATE)), [], 0.5, 0
    while at < SECONDS - 1:
        length = min(rng.uniform(1.2, 6.0), SECONDS - 0.6 - at)
        most = soundfile.info(voices[who]).frames - round(length * RATE) - 1
        part = soundfile.read(voices[who], start=rng.integers(0, most), frames=round(length * RATE))[0]
        part = 0.05 * part / part.std()
        ramp = np.linspace(0, 1, RATE // 50)
        part[: len(ramp)] *= ramp
        part[-len(ramp) :] *= ramp[::-1]
        first = round(at * RATE)
        sound[who, first : first + len(part)] += part
        turns.append((first, first + len(part), who))
        at, who = at + length + rng.uniform(0.15, 0.6), 1 - who
    return sound, turns


def one(rng, voices, *, rustle):
    """Share of the time that is right, turns that are right, turns, CPU time."""
    size = np.array([rng.uniform(4, 8), rng.uniform(3.5, 7), rng.uniform(2.4, 3.4)])
    absorption, order = pyroomacoustics.inverse_sabine(rng.uniform(0.3, 0.7), size)
    way, apart = rng.uniform(0, 2 * np.pi), rng.uniform(1.2, 2.2)
    first = np.array([size[0] * rng.uniform(0.3, 0.7), size[1] * rng.uniform(0.3, 0.7), rng.uniform(1.2, 1.7)])
    second = np.clip(first + apart * np.array([np.cos(way), np.sin(way), 0.02]), 0.4, size - 0.4)
    chests = [place + np.array([0.05, 0.05, -0.25]) for place in (first, second)]
    sound, turns = talk(rng, rng.permutation(voices)[:2])
    heard = []
    for chest in chests:
        box = pyroomacoustics.ShoeBox(
            size, fs=RATE, materials=pyroomacoustics.Material(absorption), max_order=min(order, 40)
        )
        box.add_source(first)
        box.add_source(second)
        box.add_microphone(chest)
        box.compute_rir()
        heard.append(sum(fftconvolve(sound[k], box.rir[0][k])[: sound.shape[1]] for k in (0, 1)))
    heard[1] *= 10 ** (rng.uniform(-6, 6) / 20)
    heard = [x + rng.normal(0, 10 ** (-34 / 20) * x.std(), len(x)) for x in heard]
    for _ in range(8 if rustle else 0):
        who, at, length = rng.integers(2), rng.integers(0, (SECONDS - 1) * RATE), round(rng.uniform(0.2, 0.8) * RATE)
        low = lfilter([1.0], [1.0, -0.98], rng.normal(size=length))
        heard[who][at : at + length] += 1.5 * heard[who].std() * low / low.std() * np.hanning(length)
    late = (np.linalg.norm(first - chests[1]) - np.linalg.norm(first - chests[0])) / SPEED
    heard[1] = np.roll(heard[1], -round(late * RATE))  # lined up by the first talker
    clock = time.process_time()
    found = best_microphones([ArraySource(x[None].astype(np.float32), RATE) for x in heard])
    clock = time.process_time() - clock
    right = [sum(max(0, min(b, t.stop) - max(a, t.start)) for t in found if t.microphone == who) for a, b, who in turns]
    lengths = [b - a for a, b, _ in turns]
    return sum(right) / sum(lengths), sum(r > n / 2 for r, n in zip(right, lengths, strict=True)), len(turns), clock


def main(voices):
    for rustle in (False, True):
        rows = np.array([one(np.random.default_rng(n), voices, rustle=rustle) for n in range(ROOMS)])
        words = "with rustle" if rustle else "without rustle"
        print(
            f"{words}: {100 * rows[:, 0].mean():.0f} % of the time, {rows[:, 1].sum():.0f} of {rows[:, 2].sum():.0f} turns; "
            f"{rows[:, 3].mean():.2f} s CPU a minute"
        )


if __name__ == "__main__":
    main(sys.argv[1:])
