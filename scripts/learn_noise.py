# SPDX-License-Identifier: GPL-3.0-or-later
"""Learns the net of Noise from recorded words in made noise: python scripts/learn_noise.py FOLDER [ROUNDS].

FOLDER, languages, talk and rooms as in scripts/learn_room.py. Noises are steady, of many colours, some of them slowly
swelling, from 3 dB over the voice to 34 dB under it; the profile is learned from 1.1 s as the tool does. What is to be
told is the part of a cell that is voice and in its phase (H. Erdogan et al., "Phase-sensitive and recognition-boosted speech
separation using deep recurrent neural networks", ICASSP 2015); loud cells count more. Writes src/pulizia/data/noise.npz. Wants
scikit-learn 1.7 or newer; fixed seeds; about twenty minutes on two cores.
"""

from __future__ import annotations

import os

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import math
from pathlib import Path

import numpy as np
from learn_room import LEVEL_DBFS, RATE, Examples, Sound, another, dying_noise, learn, talk
from scipy.signal import fftconvolve

from pulizia.audio.source import ArraySource
from pulizia.dsp.spectral_gain import noise_gain
from pulizia.dsp.stft import analyse
from pulizia.models import noise_net as net
from pulizia.tools import noise
from pulizia.tools.noise_gain import LEARNED_LOWEST, XI_MIN, pair_power

LEAD_S, SAMPLE_S = 1.3, (0.1, 1.2)
MOST_WORDS = 20  # of one example
CELLS, ROOMY = 15_000, 0.35  # cells that are learned from one example; share of voices in a small room
VOICE_WEIGHT = 3.0  # cells with voice, or far over the noise, are learned from more often
LOUDER_COUNTS, VOICE_BINS = 0.15, slice(4, 200)  # power of a cell's power by which it counts
HIDDEN, EPOCHS = (64, 32), 9
TARGET = Path(__file__).parent.parent / "src" / "pulizia" / "data" / "noise.npz"


def coloured(frames: int, rng: np.random.Generator) -> Sound:
    """Steady noise of unit power: white, pink, as of a fan, or of any smooth colour; some of it swells slowly."""
    spectrum, hz = np.fft.rfft(rng.standard_normal(frames)), np.fft.rfftfreq(frames, 1 / RATE)
    kind = rng.random()
    if 0.2 <= kind < 0.4:
        spectrum /= np.sqrt(np.maximum(hz, 20))
    elif 0.4 <= kind < 0.65:
        spectrum /= 1 + (hz / rng.uniform(150, 1500)) ** rng.uniform(0.7, 1.6)
    elif kind >= 0.65:
        points, tilt = rng.normal(0, 6, 14), rng.uniform(-6, 0)
        bent = np.interp(np.log(np.maximum(hz, 40)), np.log(np.geomspace(40, 24_000, 14)), points)
        spectrum *= 10 ** ((bent + tilt * np.log2(np.maximum(hz, 40) / 1000)) / 20)
    made = np.fft.irfft(spectrum, frames)
    made /= made.std()
    if rng.random() < 0.3:
        t = np.arange(frames) / RATE
        made *= 1 + rng.uniform(0.05, 0.3) * np.sin(2 * np.pi * rng.uniform(0.2, 3) * t + rng.uniform(0, 6))
    return made


def cells(said: list[Sound], rng: np.random.Generator) -> Examples:
    """Inputs of the net and the shares that it is to tell."""
    some = another([said[n] for n in rng.integers(0, len(said), MOST_WORDS)], rng)
    voice = np.concatenate([np.zeros(round(LEAD_S * RATE)), talk(some, rng)])
    if rng.random() < ROOMY:
        response = dying_noise(rng, rng.uniform(0.15, 0.6), rng.uniform(0, 12))
        voice = fftconvolve(voice, response)[: len(voice)]
    loud = coloured(len(voice), rng) * 10 ** ((LEVEL_DBFS - rng.uniform(-3, 34)) / 20)
    heard = (voice + loud).astype(np.float32)
    settings = noise.NoiseSettings(profile_spans_s=(SAMPLE_S,), following="one")
    profile = noise.analyse(ArraySource(heard[None], RATE), (), settings, lambda _share: None)
    size, hop = profile.size, profile.size // noise.OVERLAP
    spectra = analyse(heard, size, hop)
    spectra = spectra[: len(spectra) // noise.PAIR * noise.PAIR]
    power = pair_power(spectra)
    ratio = np.clip(power / profile.rows[0], 1e-3, 1e8).astype(np.float32)
    alpha = math.exp(-1000.0 * noise.PAIR * hop / (RATE * settings.smoothing_ms))
    classical = noise_gain(ratio, alpha=alpha, xi_min=XI_MIN, lowest=LEARNED_LOWEST, bin_hz=RATE / size)
    alone = analyse(voice.astype(np.float32), size, hop)[: len(spectra)]
    cross = (alone * spectra.conj()).real
    told = np.clip(0.5 * (cross[0::2] + cross[1::2]) / np.maximum(power, 1e-20), 0, 1).astype(np.float32)
    share = np.sqrt(np.clip(pair_power(alone) / np.maximum(power, 1e-20), 0, 1))
    level = 10.0 * np.log10(np.maximum(power, 1e-12))
    level -= np.percentile(level[:, VOICE_BINS], 98)
    counts = 10.0 ** (LOUDER_COUNTS * np.clip(level, -90.0, 20.0) / 10.0)
    hz = np.arange(ratio.shape[1]) * RATE / size
    weight = np.where((share > 0.1) | (ratio > 4.0), VOICE_WEIGHT, 1.0) * (hz < net.HIGHEST_HZ)
    weight = weight.ravel() / weight.sum()
    chosen = rng.choice(share.size, CELLS, replace=False, p=weight)
    given = net.inputs(ratio, classical, hz).reshape(net.FEATURES, -1)[:, chosen].T
    return given.astype(np.float16), told.ravel()[chosen].astype(np.float16), counts.ravel()[chosen].astype(np.float16)


if __name__ == "__main__":
    learn(cells, 36, HIDDEN, EPOCHS, TARGET)
