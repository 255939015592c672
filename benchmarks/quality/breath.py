# SPDX-License-Identifier: GPL-3.0-or-later
"""Made breaths between recorded words: how many are found, and what else is taken for one."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from scipy.signal import butter, sosfilt
from speech import LANGUAGES, LEVEL_DBFS, RATE, phrase, source_of

from pulizia.dsp.moments import runs
from pulizia.tools import breaths

OTHERS = ("fr", "nl", "es")


def breath(rng: np.random.Generator, frames: int) -> np.ndarray:
    """Noise from 400 Hz to 4 kHz with a broad hump, swelling slowly and ending sooner, of unit power."""
    white = rng.standard_normal(frames)
    made = sosfilt(butter(2, (400, 4000), "bandpass", fs=RATE, output="sos"), white)
    made += 0.3 * sosfilt(butter(2, (1200, 2200), "bandpass", fs=RATE, output="sos"), white)
    t = np.arange(frames) / frames
    made *= np.minimum(1.0, np.minimum(t / 0.35, (1.0 - t) / 0.15)) ** 1.2
    return made / np.sqrt((made**2).mean())


def found_in(sound: np.ndarray) -> list[tuple[int, int]]:
    """Stretches that are taken for breaths."""
    source = source_of(sound)
    marks = breaths.survey(source, source, (), breaths.BreathsSettings(), None, lambda _share: None).marks
    return [(m.start, m.stop) for m in marks]


def breathing(folder: Path) -> None:
    """Breaths 20 to 36 dB under the voice, 20 to 150 ms before the next word, noise at -70 dBFS; words without any."""
    for gap_ms in (20, 60, 150):
        told = []
        for under_db in (20, 28, 36):
            hits = put_in = false = 0
            for language in LANGUAGES:
                sound, put = _with_breaths(folder, language, gap_ms, under_db)
                found = found_in(sound)
                put_in += len(put)
                hits += sum(any(a < stop and b > start for a, b in found) for start, stop in put)
                false += sum(not any(a < stop and b > start for start, stop in put) for a, b in found)
            told.append(f"{under_db} dB under: {hits} of {put_in}, {false} false")
        print(f"breaths {gap_ms} ms before a word: {'; '.join(told)}")
    for language in (*LANGUAGES, *OTHERS):
        words = phrase(folder, language, 1, 30.0)
        words += np.random.default_rng(0).normal(0, 10 ** (-66 / 20), len(words))
        print(f"breaths {language}: {len(found_in(words))} found in {len(words) / RATE:.0f} s of words without any")


def _with_breaths(folder: Path, language: str, gap_ms: int, under_db: int) -> tuple[np.ndarray, list[tuple[int, int]]]:
    words = phrase(folder, language, 3, 40.0)
    loud = np.convolve(np.abs(words) > 0.005, np.ones(2400), "same") > 100
    rng, made, put = np.random.default_rng(2), [np.zeros(RATE)], []
    for n, (a, b) in enumerate(run for run in runs(loud) if run[1] - run[0] > 0.15 * RATE):
        made += [words[a:b], np.zeros(int(rng.uniform(0.3, 0.6) * RATE))]
        if n % 2:
            inhaled = breath(rng, int(rng.uniform(0.2, 0.5) * RATE)) * 10 ** ((LEVEL_DBFS - under_db) / 20)
            start = sum(map(len, made))
            put.append((start, start + len(inhaled)))
            made += [inhaled, np.zeros(gap_ms * RATE // 1000)]
    sound = np.concatenate(made)
    return sound + rng.normal(0, 10 ** (-70 / 20), len(sound)), put
