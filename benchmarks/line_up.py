# SPDX-License-Identifier: GPL-3.0-or-later
"""Line-up in simulated rooms: recorded voices through the image-source model, two microphones, two clocks, noise.

Needs `pip install pyroomacoustics`. Usage: benchmarks/line_up.py VOICE.wav … (48 kHz, two minutes or more each). Prints for
each pair of microphones how often the second one lies within one sample of the truth, all over the recordings, how often
within three, and how often an error was told as uncertain.
"""

from __future__ import annotations

import sys
import time

import numpy as np
import pyroomacoustics
import soundfile
import soxr
from scipy.signal import fftconvolve

from pulizia.audio.source import ArraySource
from pulizia.measure.line_up import line_up

RATE, SECONDS, CASES = 48_000, 120, 10
FAR = {"lavalier": (0.28, 0.28), "boom": (1.3, 1.3), "camera": (3.0, 4.5)}
PAIRS = (  # first, second, signal to noise of both, reverberation time from .. to, most drift
    ("lavalier", "boom", (30, 25), (0.3, 0.6), 100.0),
    ("lavalier", "camera", (25, 15), (0.35, 0.9), 100.0),
    ("boom", "camera", (20, 10), (0.35, 0.9), 60.0),
)


def heard(rng, voice, room, source, distance, snr):
    """The voice at a microphone, and the delay of its direct sound in seconds."""
    size, absorption, order = room
    place = None
    while place is None:
        way = rng.normal(size=3) * (1, 1, 0.3)
        tried = source + distance * way / np.linalg.norm(way)
        place = tried if np.all(tried > 0.2) and np.all(tried < size - 0.2) else None
        distance *= 1.0 if place is not None else 0.995
    box = pyroomacoustics.ShoeBox(size, fs=RATE, materials=pyroomacoustics.Material(absorption), max_order=order)
    box.add_source(source)
    box.add_microphone(place)
    box.compute_rir()
    sound = fftconvolve(voice, box.rir[0][0])[: len(voice)]
    sound = 0.05 * sound / sound.std()
    hz = np.fft.rfftfreq(len(sound))
    noise = np.fft.irfft(np.exp(2j * np.pi * rng.random(len(hz))) / np.sqrt(np.maximum(hz, 1e-5)), len(sound))
    return sound + 0.05 * 10 ** (-snr / 20) * noise / noise.std(), np.linalg.norm(
        place - source
    ) / pyroomacoustics.constants.get("c")


def one(rng, voices, first, second, snrs, times, most_ppm):
    """Largest error in samples, whether it was told as uncertain, and the CPU time."""
    path = voices[rng.integers(len(voices))]
    start = rng.integers(0, max(1, soundfile.info(path).frames - SECONDS * RATE))
    voice = soundfile.read(path, start=start, frames=SECONDS * RATE, dtype="float32")[0]
    size = np.array([rng.uniform(4, 8), rng.uniform(3.5, 7), rng.uniform(2.4, 3.4)])
    absorption, order = pyroomacoustics.inverse_sabine(rng.uniform(*times), size)
    room = (size, absorption, min(order, 40))
    source = size * rng.uniform(0.25, 0.75, 3)
    source[2] = rng.uniform(1.2, 1.7)
    a, delay_a = heard(rng, voice, room, source, rng.uniform(*FAR[first]), snrs[0])
    b, delay_b = heard(rng, voice, room, source, rng.uniform(*FAR[second]), snrs[1])
    began, ppm = round(rng.uniform(0, 36) * RATE) / RATE, rng.uniform(-most_ppm, most_ppm)
    b = soxr.resample(b[round(began * RATE) :], RATE, RATE * (1 + ppm * 1e-6), quality="VHQ")
    clock = time.process_time()
    lie = line_up(ArraySource(a[None].astype(np.float32), RATE), ArraySource(b[None].astype(np.float32), RATE))
    clock = time.process_time() - clock
    t = np.linspace(began + 2, SECONDS - 2, 9)
    true = (t - (began - (delay_b - delay_a))) * (1 + ppm * 1e-6)
    error = np.abs((t - lie.offset_s) * (1 + lie.drift_ppm * 1e-6) - true).max() * RATE
    return error, lie.exact_place < 0.5, clock


def main(voices):
    for n, (first, second, snrs, times, ppm) in enumerate(PAIRS):
        rows = [one(np.random.default_rng(1000 * n + k), voices, first, second, snrs, times, ppm) for k in range(CASES)]
        errors, told, clocks = (np.array(column) for column in zip(*rows, strict=True))
        wrong = errors >= 3
        print(
            f"{first} and {second}: within 1 sample {int((errors < 1).sum())} of {CASES}, within 3 {int((~wrong).sum())}; "
            f"of {int(wrong.sum())} wrong ones {int((wrong & told).sum())} told as uncertain; {clocks.mean():.1f} s CPU"
        )


if __name__ == "__main__":
    main(sys.argv[1:])
