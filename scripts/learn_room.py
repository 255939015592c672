# SPDX-License-Identifier: GPL-3.0-or-later
"""Learns the net of Room tail from recorded words in made rooms: python scripts/learn_room.py FOLDER [ROUNDS].

FOLDER holds recorded words in folders per language (such as Debian's klettres-data, see
benchmarks/quality/speech.py). Languages that the quality measurements use are left out. Rooms are made by the image
method (pyroomacoustics) and as noise that dies away at another rate in each band, with a few early reflections; some
voices stay as they are, so that a dry recording is left alone. Writes src/pulizia/data/room.npz. Wants scikit-learn
and pyroomacoustics; fixed seeds; about half an hour on two cores.
"""

from __future__ import annotations

import os

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import sys
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np
import soundfile
from numpy.typing import NDArray
from scipy.signal import butter, fftconvolve, resample_poly, sosfilt
from sklearn.neural_network import MLPRegressor

from pulizia.audio.source import ArraySource
from pulizia.dsp.prediction_error import bins_of, grid_of
from pulizia.dsp.stft import analyse
from pulizia.measure.decay import decays_of
from pulizia.models import room_net as net
from pulizia.tools import room_tail

RATE = 48_000
LANGUAGES = ("ar", "cs", "fr", "he", "hu", "it", "lt", "ml", "nb", "nds", "pt_BR", "ru", "tn", "uk")
SECONDS, CELLS = 12.0, 15_000  # of one example, and how many of its cells are learned from
MOST_WORDS = 22  # of one example
DRY, SMALL, IMAGED = 0.25, 0.15, 0.25  # shares of voices without a room, in a small one, in one made by images
LEVEL_DBFS = -26.0
EARLY_S, LATE_S = 0.025, 0.05  # what comes before supports the voice, what comes after is the tail
WITHIN_DB = 65.0  # of the loudest cells
EDGES_HZ = (150.0, 500.0, 1500.0, 4000.0, 9000.0)
HIDDEN, EPOCHS = (48, 32), 9
TARGET = Path(__file__).parent.parent / "src" / "pulizia" / "data" / "room.npz"

Sound = NDArray[np.float64]
Examples = tuple[NDArray[np.float16], ...]  # inputs, what is to be told, and perhaps how much each counts
Maker = Callable[[list[Sound], np.random.Generator], Examples]


def words(folder: Path, language: str) -> list[Sound]:
    """All recorded words of a language at RATE, without silence around them."""
    found = []
    for file in sorted(folder.rglob(f"{language}/**/*.ogg")):
        x, rate = soundfile.read(file, always_2d=True)
        x = x.mean(axis=1)
        if rate != RATE:
            x = resample_poly(x, RATE // np.gcd(RATE, rate), rate // np.gcd(RATE, rate))
        loud = np.flatnonzero(np.abs(x) > 0.03 * np.abs(x).max())
        if len(loud):
            found.append(x[max(0, loud[0] - 960) : loud[-1] + 1920])
    return found


def another(said: list[Sound], rng: np.random.Generator) -> list[Sound]:
    """The words as a higher or lower voice with another colour would say them."""
    factor = rng.choice([88, 94, 100, 106, 113])
    cut, share = rng.uniform(800, 5000), rng.uniform(-0.7, 1.5)
    sos = butter(1, cut, fs=RATE, output="sos")
    made = [resample_poly(word, int(factor), 100) if factor != 100 else word for word in said]
    return [word + share * sosfilt(sos, word) for word in made]


def talk(said: list[Sound], rng: np.random.Generator) -> Sound:
    """Words one behind the other, with and without pauses."""
    parts, length = [np.zeros(round(0.4 * RATE))], 0
    while length < SECONDS * RATE:
        word = said[rng.integers(len(said))]
        word = word / max(float(np.sqrt((word**2).mean())), 1e-6) * 10 ** (rng.normal(0, 2) / 20)
        gap = np.zeros(round(rng.choice([0.0, 0.03, 0.08, 0.2, 0.5], p=[0.3, 0.25, 0.2, 0.15, 0.1]) * RATE))
        parts += [word, gap]
        length += len(word) + len(gap)
    x = np.concatenate(parts)[: round(SECONDS * RATE)]
    loud = np.abs(x) > 0.05
    return x / np.sqrt((x[loud] ** 2).mean()) * 10 ** (LEVEL_DBFS / 20)


def dying_noise(rng: np.random.Generator, t60: float, direct_db: float) -> Sound:
    """A direct sound, a few reflections, and noise that dies away at another rate in each band."""
    frames = round(min(1.5 * t60, 2.0) * RATE)
    t = np.arange(frames) / RATE
    rates = np.array([1.15, 1.05, 1.0, 0.9, 0.7, 0.5]) * rng.uniform(0.85, 1.15, 6)
    rest, late = rng.standard_normal(frames), np.zeros(frames)
    for n, rate in enumerate(rates):
        low = sosfilt(butter(2, EDGES_HZ[n], fs=RATE, output="sos"), rest) if n < len(EDGES_HZ) else rest
        late += low * 10 ** (-3 * t / (t60 * rate))
        rest = rest - low
    late[: round(rng.uniform(0.002, 0.02) * RATE)] *= 0.15
    for _ in range(rng.integers(4, 12)):
        late[round(rng.uniform(0.002, 0.05) * RATE)] += (
            rng.choice([-1, 1]) * rng.uniform(0.5, 2) * np.sqrt((late**2).sum() / 60)
        )
    made = late / np.sqrt((late**2).sum()) * 10 ** (-direct_db / 20)
    made[0] = 1.0
    return made


def imaged(rng: np.random.Generator, t60: float) -> Sound | None:
    """A box by the image method; None where no walls give this decay."""
    import pyroomacoustics

    size = [rng.uniform(3, 9), rng.uniform(2.8, 7), rng.uniform(2.3, 3.6)]
    try:
        absorbed, order = pyroomacoustics.inverse_sabine(t60, size)
    except ValueError:
        return None
    room = pyroomacoustics.ShoeBox(
        size, fs=RATE, materials=pyroomacoustics.Material(absorbed), max_order=min(order, 17)
    )
    room.add_source([rng.uniform(0.5, d - 0.5) for d in size])
    room.add_microphone([rng.uniform(0.5, d - 0.5) for d in size])
    room.compute_rir()
    made = np.asarray(room.rir[0][0])
    made = made[max(0, int(np.argmax(np.abs(made))) - 40) :]
    return made / np.abs(made).max()


def room(rng: np.random.Generator) -> Sound:
    """The response of a room, or of none."""
    kind = rng.random()
    if kind < DRY:
        return np.ones(1)
    if kind < DRY + SMALL:
        return dying_noise(rng, rng.uniform(0.12, 0.35), rng.uniform(0, 14))
    if kind < DRY + SMALL + IMAGED and (made := imaged(rng, rng.uniform(0.2, 0.7))) is not None:
        return made
    return dying_noise(rng, float(np.exp(rng.uniform(np.log(0.2), np.log(1.4)))), rng.uniform(-8, 8))


def example(said: list[Sound], rng: np.random.Generator) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """A voice in a room with some noise, and the same with early reflections alone."""
    some = another([said[n] for n in rng.integers(0, len(said), MOST_WORDS)], rng)
    x, response = talk(some, rng), room(rng)
    direct = int(np.argmax(np.abs(response)))
    weight = np.ones(len(response))
    a, b = direct + round(EARLY_S * RATE), direct + round(LATE_S * RATE)
    weight[b:] = 0.0
    fade = np.arange(max(0, min(b, len(response)) - a))
    weight[a : a + len(fade)] = 0.5 + 0.5 * np.cos(np.pi * fade / (b - a))
    spectrum, hz = np.fft.rfft(rng.standard_normal(len(x))), np.fft.rfftfreq(len(x), 1 / RATE)
    noise = np.fft.irfft(spectrum / (1 + (hz / rng.uniform(200, 4000)) ** rng.uniform(0.3, 1.1)), len(x))
    noise *= 10 ** ((LEVEL_DBFS - rng.uniform(15, 55)) / 20) / noise.std()
    wet, early = (fftconvolve(x, h)[: len(x)] + noise for h in (response, response * weight))
    return wet.astype(np.float32), early.astype(np.float32)


def cells(said: list[Sound], rng: np.random.Generator) -> Examples:
    """Inputs of the net and the shares that it is to tell."""
    wet, early = example(said, rng)
    source = ArraySource(wet[None], RATE)
    known = room_tail.Room(source, decays_of(source))
    size, hop = grid_of(RATE)  # as the tool looks at the sound
    heard, wanted = analyse(wet, size, hop), analyse(early, size, hop)
    taken = room_tail._predicted(heard[None], known, 0, size, hop)[0]  # noqa: SLF001
    left = heard - np.float32(rng.choice([0.8, 1.0])) * taken
    top = bins_of(RATE, size)
    heard, left, wanted, hz = heard[:, :top], left[:, :top], wanted[:, :top], np.arange(top) * RATE / size
    t60 = known.decays.at(hz, room_tail.USUAL_T60_S)
    given = net.inputs(np.abs(heard) ** 2, np.abs(left) ** 2, t60, hz)
    share = np.clip(np.abs(wanted) / np.maximum(np.abs(left), 1e-9), 0, 1)
    level = 20 * np.log10(np.abs(left) + 1e-6)
    audible = np.flatnonzero((level > np.percentile(level, 99) - WITHIN_DB).ravel())
    chosen = rng.choice(audible, min(CELLS, len(audible)), replace=False)
    return given.reshape(net.FEATURES, -1)[:, chosen].T.astype(np.float16), share.ravel()[chosen].astype(np.float16)


def part(cells: Maker, folder: Path, languages: tuple[str, ...], rounds: int, seed: int) -> Examples:
    """All examples of some voices."""
    rng = np.random.default_rng(seed)
    said = [w for w in (words(folder, language) for language in languages) if w]
    pairs = [cells(voice, rng) for _ in range(rounds) for voice in said]
    return tuple(np.concatenate(column) for column in zip(*pairs, strict=True))


def learned(made: list[Examples], hidden: tuple[int, ...], epochs: int, target: Path) -> None:
    """Learn from examples, say how far off the net is on some that were held back, and write its weights."""
    x, y, *more = (np.concatenate(column).astype(np.float32) for column in zip(*made, strict=True))
    counts = more[0] if more else np.ones(len(x), dtype=np.float32)
    order = np.random.default_rng(0).permutation(len(x))
    x, y, counts = x[order], y[order], counts[order] / counts.mean()
    held = len(x) // 20
    print(f"{len(x)} cells of {x.shape[1]} figures; mean {y.mean():.3f}, variance {y.var():.4f}", flush=True)
    learner = MLPRegressor(
        hidden_layer_sizes=hidden, activation="relu", alpha=1e-5, batch_size=2048, learning_rate_init=2e-3, max_iter=1,
        warm_start=True, random_state=1,
    )  # fmt: skip
    for epoch in range(epochs):
        if epoch == epochs * 2 // 3:
            learner.learning_rate_init = 5e-4
        learner.fit(x[held:], y[held:], counts[held:])
        off = (counts[:held] * (np.clip(learner.predict(x[:held]), 0, 1) - y[:held]) ** 2).mean()
        print(f"round {epoch + 1}: squared error {off:.4f}", flush=True)
    weights = {f"w{n}": part.astype(np.float16) for n, part in enumerate(learner.coefs_)}
    weights |= {f"b{n}": part.astype(np.float16) for n, part in enumerate(learner.intercepts_)}
    np.savez_compressed(target, **weights)
    print(f"{target.name}: {target.stat().st_size} bytes")


def learn(cells: Maker, rounds: int, hidden: tuple[int, ...], epochs: int, target: Path) -> None:
    """Make examples from the folder and for the rounds that the command line names, learn, check, write."""
    folder, rounds = Path(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else rounds
    with ProcessPoolExecutor(2) as pool:
        halves = [pool.submit(part, cells, folder, LANGUAGES[n::2], rounds, n) for n in (0, 1)]
        made = [half.result() for half in halves]
    learned(made, hidden, epochs, target)


if __name__ == "__main__":
    learn(cells, 28, HIDDEN, EPOCHS, TARGET)
