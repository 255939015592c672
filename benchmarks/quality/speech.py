# SPDX-License-Identifier: GPL-3.0-or-later
"""Recorded speech, noises and scores for the quality measurements.

Speech comes from a folder that is not part of the project: recorded words in folders per language (such
as Debian's klettres-data: apt-get download klettres-data; dpkg -x klettres-data*.deb FOLDER).
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
import soundfile
from numpy.typing import NDArray
from scipy.signal import resample_poly

from pulizia.audio.source import ArraySource, Source
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.score.steps import make_step

RATE = 48_000
LANGUAGES = ("en", "de", "da")
LEVEL_DBFS = -24.0


def phrase(folder: Path, language: str, seed: int, seconds: float = 14.0) -> NDArray[np.float64]:
    """Words with pauses after a second and a quarter of silence, brought to LEVEL_DBFS."""
    files = sorted(p for p in folder.rglob(f"{language}/**/*.ogg"))
    rng = np.random.default_rng(seed)
    rng.shuffle(files)  # type: ignore[arg-type]
    parts, length = [np.zeros(round(1.25 * RATE))], 0
    for file in files:
        x, rate = soundfile.read(file, always_2d=True)
        x = x.mean(axis=1)
        if rate != RATE:
            x = resample_poly(x, RATE // np.gcd(RATE, rate), rate // np.gcd(RATE, rate))
        parts += [x, np.zeros(round(0.25 * RATE))]
        length += len(x)
        if length > seconds * RATE:
            break
    made = np.concatenate(parts)
    active = np.abs(made) > 0.02 * np.abs(made).max()
    return made / np.sqrt((made[active] ** 2).mean()) * 10 ** (LEVEL_DBFS / 20)


def noise(kind: str, frames: int, rng: np.random.Generator) -> NDArray[np.float64]:
    """White, pink or fan-like noise of unit power, or one that changes half way."""
    if kind == "changing":
        first, second = noise("fan", frames, rng), 1.3 * noise("white", frames, rng)
        return np.where(np.arange(frames) < frames // 2, first, second)
    spectrum = np.fft.rfft(rng.standard_normal(frames))
    hz = np.fft.rfftfreq(frames, 1 / RATE)
    if kind == "pink":
        spectrum /= np.sqrt(np.maximum(hz, 20))
    elif kind == "fan":
        spectrum /= 1 + (hz / 350) ** 1.1
    made = np.fft.irfft(spectrum, frames)
    return made / np.std(made)


def mixed(voice: NDArray[np.float64], kind: str, snr_db: float, rng: np.random.Generator) -> NDArray[np.float64]:
    """Voice in noise at a ratio over the active speech."""
    power = float((voice[np.abs(voice) > 0.004] ** 2).mean())
    return voice + noise(kind, len(voice), rng) * np.sqrt(power) / 10 ** (snr_db / 20)


def si_sdr(reference: NDArray[np.float64], made: NDArray[np.float64]) -> float:
    """Scale-invariant signal-to-distortion ratio in dB (Le Roux et al. 2019)."""
    scaled = reference * float(made @ reference / (reference @ reference))
    return float(10 * np.log10((scaled @ scaled) / ((made - scaled) @ (made - scaled))))


def treated(samples: NDArray[np.float64], tool: str, settings: dict[str, object]) -> NDArray[np.float64]:
    """What a step makes of one channel."""
    chain = Chain(source_of(samples), [make_step(tool, settings)], ChunkCache(), AnalysisStore())
    return chain.after.read(0, len(samples))[0].astype(np.float64)


def source_of(samples: NDArray[np.float64]) -> Source:
    """One channel as a source."""
    return ArraySource(samples[None].astype(np.float32), RATE)
