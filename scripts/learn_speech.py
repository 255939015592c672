# SPDX-License-Identifier: GPL-3.0-or-later
"""Learns where somebody speaks from recorded words in made noise: python scripts/learn_speech.py FOLDER [ROUNDS].

FOLDER and languages as in scripts/learn_room.py. Talk of one or two voices with pauses of all lengths, some of it in
a room, over a telephone or between digital silence; noises from the voice's own level to 60 dB under it, with hum,
clicks, breaths, bells and chords that are no speech. A phrase is what lies within 38 dB of the loud words, with a
little before and after, and gaps of up to 0.2 s; the voice is heard where it lies within 30 dB. Writes
src/pulizia/data/speech.npz. Wants scikit-learn; fixed seeds; about ten minutes on two cores.
"""

from __future__ import annotations

import os

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

from pathlib import Path

import numpy as np
from learn_noise import coloured
from learn_room import LEVEL_DBFS, RATE, Examples, Sound, another, dying_noise, learn
from scipy.ndimage import binary_closing, binary_dilation
from scipy.signal import butter, fftconvolve, sosfilt

from pulizia.audio.source import ArraySource
from pulizia.measure import speech_activity
from pulizia.models import speech_net as net

SECONDS = 24.0
STEP = RATE // speech_activity.FRAMES_PER_S
PHRASE_DB, HEARD_DB = 38.0, 30.0  # under the loud words
NOBODY = 0.2  # share of examples in which nobody speaks
GAP, BEFORE, AFTER = 15, 5, 8  # steps
HIDDEN, EPOCHS = (64, 32), 12
TARGET = Path(__file__).parent.parent / "src" / "pulizia" / "data" / "speech.npz"


def step_db(x: Sound) -> Sound:
    """Level of every 10 ms."""
    count = len(x) // STEP
    return np.asarray(10 * np.log10((x[: count * STEP].reshape(count, STEP) ** 2).mean(axis=1) + 1e-14))


def in_room(voice: Sound, rng: np.random.Generator, shortest: float, longest: float) -> Sound:
    """A voice with a room that dies away."""
    response = dying_noise(rng, rng.uniform(shortest, longest), rng.uniform(0, 12))
    return np.asarray(fftconvolve(voice, response)[: len(voice)])


def talk(said: list[Sound], rng: np.random.Generator) -> Sound:
    """Words of a voice, with pauses of all lengths; in some talk a second voice is lower."""
    some = another([said[n] for n in rng.integers(0, len(said), 30)], rng)
    made, at = np.zeros(round(SECONDS * RATE)), rng.uniform(0, 1.5)
    low, far = rng.uniform(0, 9), rng.random() < 0.25
    short = rng.random() < 0.5  # pauses as in continuous talk
    quiet, until = False, 5.0
    while True:
        word = some[rng.integers(len(some))]
        word = word / max(float(np.sqrt((word**2).mean())), 1e-6) * 10 ** (rng.normal(0, 1.5) / 20)
        if rng.random() < 0.15:  # an utterance that fades
            word = word * np.linspace(1, rng.uniform(0.1, 0.6), len(word))
        a = round(at * RATE)
        if a + len(word) > len(made):
            break
        made[a : a + len(word)] += word * (10 ** (-low / 20) if far and quiet else 1.0)
        at += len(word) / RATE
        at += 0.0 if rng.random() < 0.35 else rng.uniform(0.05, 0.5) if short else rng.uniform(0.2, 1.2)
        if rng.random() < 0.04:
            at += rng.uniform(1, 4)
        if at > until:
            quiet, until = not quiet, at + rng.uniform(3, 9)
    loud = np.abs(made) > 0.05 * np.abs(made).max()
    return made / np.sqrt((made[loud] ** 2).mean()) * 10 ** (LEVEL_DBFS / 20)


def truth(voice: Sound) -> tuple[Sound, Sound]:
    """Where a phrase is, and where the voice is heard."""
    level = step_db(voice)
    loud = np.percentile(level, 97)
    phrase = np.pad(level > loud - PHRASE_DB, GAP)
    phrase = binary_closing(phrase, np.ones(GAP + 1))[GAP:-GAP]
    phrase = np.convolve(phrase, np.ones(BEFORE + AFTER + 1))[BEFORE : BEFORE + len(level)] > 0.5
    heard = binary_dilation(level > loud - HEARD_DB, np.ones(3))
    return phrase.astype(float), heard.astype(float)


def hum(frames: int, rng: np.random.Generator) -> Sound:
    """Lines of the mains."""
    t, base = np.arange(frames) / RATE, rng.choice([50.0, 60.0])
    level = 10 ** (-rng.uniform(6, 40) / 20)
    return level * sum(
        10 ** (-rng.uniform(0, 20) / 20) * np.sin(2 * np.pi * base * k * t + rng.uniform(0, 6)) for k in range(1, 9)
    )


def clicks(frames: int, rng: np.random.Generator) -> Sound:
    """A few clicks, or crackle."""
    made = np.zeros(frames)
    for at in rng.integers(0, frames - 200, rng.integers(2, 200)):
        length = rng.integers(2, 150)
        shape = np.exp(-np.arange(length) / length * 4)
        made[at : at + length] += rng.standard_normal(length) * shape * rng.uniform(0.3, 4)
    return made


def breaths(frames: int, talking: Sound, rng: np.random.Generator) -> Sound:
    """Breaths in the pauses."""
    made, band = np.zeros(frames), [rng.uniform(300, 700), rng.uniform(3000, 6000)]
    breath = sosfilt(butter(2, band, "bp", fs=RATE, output="sos"), rng.standard_normal(frames))
    quiet = np.flatnonzero(np.convolve(talking, np.ones(30), "same") < 0.5) * STEP
    for at in rng.choice(quiet, min(len(quiet), 12), replace=False) if len(quiet) else ():
        length = min(round(rng.uniform(0.12, 0.4) * RATE), frames - at)
        if not talking[at // STEP : (at + length) // STEP].any():
            part = breath[at : at + length] * np.hanning(length) ** 0.7
            made[at : at + length] += part / max(part.std(), 1e-9) * 10 ** (-rng.uniform(14, 28) / 20)
    return made


def bursts(frames: int, rng: np.random.Generator) -> Sound:
    """Rustle, dialogs, traffic."""
    made, t = np.zeros(frames), np.arange(frames) / RATE
    for _ in range(rng.integers(1, 9)):
        length = round(rng.uniform(0.05, 3) * RATE)
        at = rng.integers(0, frames - length)
        ends = np.minimum(1, np.minimum(t[:length], t[:length][::-1]) / rng.uniform(0.002, 0.3))
        made[at : at + length] += coloured(length, rng) * ends * 10 ** (-rng.uniform(6, 35) / 20)
    return made


def chords(frames: int, rng: np.random.Generator) -> Sound:
    """Bells and chords that die away."""
    made, t = np.zeros(frames), np.arange(frames) / RATE
    level, at = 10 ** (-rng.uniform(3, 30) / 20), 0.0
    while at < SECONDS:
        length = rng.uniform(0.3, 2.5)
        a, b = round(at * RATE), min(frames, round((at + length) * RATE))
        base = 110 * 2 ** rng.uniform(0, 4)
        tones = sum(
            w * np.sin(2 * np.pi * base * f * t[: b - a])
            for f, w in zip((1, 1.26, 1.498, 2, 3.01), rng.uniform(0, 1, 5), strict=True)
        )
        made[a:b] += level * tones * np.exp(-t[: b - a] * rng.uniform(0.3, 6))
        at += rng.uniform(0.2, 3)
    return made


def no_speech(frames: int, talking: Sound, rng: np.random.Generator) -> Sound:
    """What else is heard in recordings, beside a voice of unit power."""
    made = np.zeros(frames)
    for share, sound in (
        (0.25, hum),
        (0.25, clicks),
        (0.35, lambda frames, rng: breaths(frames, talking, rng)),
        (0.25, bursts),
        (0.2, chords),
    ):
        if rng.random() < share:
            made += sound(frames, rng)
    return made


def moments(said: list[Sound], rng: np.random.Generator) -> Examples:
    """Inputs of the net, and what it is to tell."""
    voice = talk(said, rng)
    if (kind := rng.random()) < 0.25:  # a small room, which counts as part of the words
        voice = in_room(voice, rng, 0.12, 0.45)
    phrase, heard = truth(voice)
    if rng.random() < NOBODY:
        voice, phrase, heard = voice * 0.0, phrase * 0.0, heard * 0.0
    rms = 10 ** (LEVEL_DBFS / 20)
    if kind > 0.8:
        voice = in_room(voice, rng, 0.2, 0.8)
    noise = coloured(len(voice), rng) * rms * 10 ** (-rng.uniform(-2, 60) / 20)
    if rng.random() < 0.2:  # noise that changes
        begin = rng.integers(len(noise) // 5, 4 * len(noise) // 5)
        noise[begin:] += coloured(len(noise) - begin, rng) * rms * 10 ** (-rng.uniform(3, 40) / 20)
    made = voice + noise + rms * no_speech(len(voice), phrase, rng)
    if rng.random() < 0.15:
        made = sosfilt(butter(8, rng.uniform(3000, 4500), fs=RATE, output="sos"), made)
    if phrase.any() and rng.random() < 0.08:  # digital silence between the words
        made[np.repeat(np.append(phrase, np.zeros(1)), STEP)[: len(made)] < 0.5] = 0.0
    source = ArraySource((made * 10 ** (rng.uniform(-20, 5) / 20)).astype(np.float32)[None], RATE)
    power, level = speech_activity._heard(source, 0, source.frames, lambda _share: None)  # noqa: SLF001 - as it listens
    over, under, voice_db = speech_activity.looked_at(power, level)
    count = min(len(over), len(phrase))
    given = net.inputs(over, under, voice_db)[:, :count].T
    return given.astype(np.float16), np.stack([phrase[:count], heard[:count]], axis=1).astype(np.float16)


if __name__ == "__main__":
    learn(moments, 54, HIDDEN, EPOCHS, TARGET)
