# SPDX-License-Identifier: GPL-3.0-or-later
"""What Room tail, Leveller, Dull voice and the limiter do to recorded voices; see run.py."""

from __future__ import annotations

import importlib.util
from itertools import pairwise
from pathlib import Path

import numpy as np
from scipy.signal import butter, fftconvolve, resample_poly, sosfilt
from speech import LANGUAGES, RATE, phrase, source_of, treated

from pulizia.dsp.moments import runs
from pulizia.measure.loudness import measure

T60_S = 0.7
THIRDS = 1000 * 2.0 ** (np.arange(5, 12) / 3)  # 3.15 to 12.7 kHz


def scored(voice: np.ndarray, made: np.ndarray) -> tuple[float, float]:
    """Wide-band PESQ and STOI; nan where the packages are missing."""
    a, b = resample_poly(voice, 1, 3), resample_poly(made, 1, 3)
    pesq = stoi = float("nan")
    if importlib.util.find_spec("pesq"):
        from pesq import pesq as score

        pesq = float(score(16_000, a, b, "wb"))
    if importlib.util.find_spec("pystoi"):
        from pystoi import stoi as intelligibility

        stoi = float(intelligibility(a, b, 16_000))
    return pesq, stoi


def in_room(voice: np.ndarray, seed: int) -> tuple[np.ndarray, np.ndarray]:
    """(with a noise-like tail of the direct sound's energy and T60_S, the tail alone)."""
    rng = np.random.default_rng(seed)
    frames = round(1.2 * T60_S * RATE)
    tail = rng.standard_normal(frames) * 10 ** (-3 * np.arange(frames) / RATE / T60_S)
    tail[: round(0.004 * RATE)] = 0
    tail /= np.sqrt((tail**2).sum())
    late = fftconvolve(voice, tail)[: len(voice)]
    return voice + late, late


def by_prediction(sound: np.ndarray) -> np.ndarray | None:
    """What prediction error alone makes of it (nara-wpe, the variance averaged over two frames to both sides)."""
    if importlib.util.find_spec("nara_wpe") is None:
        return None
    from nara_wpe.utils import istft, stft
    from nara_wpe.wpe import wpe

    spectrum = stft(sound[None], size=2048, shift=512).transpose(2, 0, 1)
    made = wpe(spectrum, taps=10, delay=3, iterations=3, psd_context=2)
    return np.asarray(istft(made.transpose(1, 2, 0), size=2048, shift=512)[0][: len(sound)])


def db(x: np.ndarray) -> float:
    """Level of samples."""
    return float(10 * np.log10(np.mean(x**2) + 1e-20))


def rooms(folder: Path) -> None:
    """Room tail at T60 0.7 s beside prediction error alone, and on dry voices."""
    for n, language in enumerate(LANGUAGES):
        voice = phrase(folder, language, 1)
        sound, _ = in_room(voice, n)
        pauses = np.convolve(np.abs(voice), np.ones(4800) / 4800, "same") < 1e-5
        rows = [("as it is", sound), ("Room tail", treated(sound, "room_tail", {}))]
        if (alone := by_prediction(sound)) is not None:
            rows.append(("prediction alone", alone))
        told = []
        for name, made in rows:
            pesq, stoi = scored(voice, made)
            told.append(
                f"{name} PESQ {pesq:.2f} STOI {stoi:.3f} tail in pauses {db(made[pauses]) - db(sound[pauses]):+.1f} dB"
            )
        dry = treated(voice, "room_tail", {})
        print(f"room {language}: {'; '.join(told)}; dry voice {db(dry[~pauses]) - db(voice[~pauses]):+.2f} dB")


def uneven(folder: Path, language: str) -> tuple[np.ndarray, list[tuple[int, int]]]:
    """Ten phrases of two seconds or more, each moved by up to 8 dB, with pauses between them; where they are."""
    words = phrase(folder, language, 3, 40.0)
    loud = np.convolve(np.abs(words) > 0.005, np.ones(2400), "same") > 100
    parts = [words[a:b] for a, b in runs(loud) if b - a > 0.15 * RATE]
    rng, made, places, n = np.random.default_rng(5), [np.zeros(RATE)], [], 0
    for _ in range(10):
        spoken: list[np.ndarray] = []
        while sum(map(len, spoken)) < 2 * RATE:
            word = parts[n % len(parts)]
            spoken += [
                word / np.sqrt((word**2).mean()) * 10 ** (-24 / 20),
                np.zeros(round(rng.uniform(0.08, 0.2) * RATE)),
            ]
            n += 1
        whole, start = np.concatenate(spoken[:-1]), sum(map(len, made))
        places.append((start, start + len(whole)))
        made += [whole * 10 ** (rng.uniform(-8, 8) / 20), np.zeros(round(rng.uniform(0.6, 1.4) * RATE))]
    sound = np.concatenate(made)
    return sound + np.random.default_rng(0).normal(0, 10 ** (-66 / 20), len(sound)), places


def levelling(folder: Path) -> None:
    """Phrases moved by up to 8 dB: how far apart they end, rise of the pauses, wander inside a phrase."""
    for language in LANGUAGES:
        sound, places = uneven(folder, language)
        made = treated(sound, "leveller", {})
        before, after = (
            np.array([measure(source_of(x[a:b])).integrated_lufs for a, b in places], float) for x in (sound, made)
        )
        between = [(p[1] + RATE // 5, q[0] - RATE // 10) for p, q in pairwise(places)]
        rise = max(db(made[a:b]) - db(sound[a:b]) for a, b in between)
        gain = [20 * np.log10(np.abs(made[a:b] / sound[a:b])[np.abs(sound[a:b]) > 0.01]) for a, b in places]
        wander = max(float(np.ptp(np.quantile(g, [0.02, 0.98]))) for g in gain if len(g))
        print(
            f"leveller {language}: farthest from the middle phrase {np.abs(before - np.median(before)).max():.1f} LU to "
            f"{np.abs(after - np.median(after)).max():.1f} LU; pauses at most {rise:+.2f} dB; wander inside a phrase {wander:.2f} dB"
        )


def dull(folder: Path) -> None:
    """Voices low-passed at 3 kHz, gently and steeply, over three floors of noise."""
    for language in LANGUAGES:
        voice = phrase(folder, language, 1)
        voice += np.random.default_rng(0).normal(0, 10 ** (-72 / 20), len(voice))
        pauses = np.convolve(np.abs(voice), np.ones(960) / 960, "same") < 1e-3
        for order in (3, 8):
            low = sosfilt(butter(order, 3000, fs=RATE, output="sos"), voice)
            told = []
            for floor in (-90, -78, -66):
                sound = low + np.random.default_rng(1).normal(0, 10 ** (floor / 20), len(voice))
                made = treated(sound, "dull_voice", {})
                wanted, was, now = (thirds(x) for x in (voice, sound, made))
                told.append(
                    f"{floor} dBFS: error {np.abs(was - wanted).mean():.0f} to {np.abs(now - wanted).mean():.1f} dB, "
                    f"PESQ {scored(voice, sound)[0]:.2f} to {scored(voice, made)[0]:.2f}, pauses {db(made[pauses]) - db(sound[pauses]):+.1f} dB"
                )
            print(f"dull {language}, order {order}: {'; '.join(told)}")


def thirds(x: np.ndarray) -> np.ndarray:
    """Levels of the third octaves from 3.15 kHz up."""
    power, hz = np.abs(np.fft.rfft(x)) ** 2, np.fft.rfftfreq(len(x), 1 / RATE)
    return np.array([10 * np.log10(power[(hz >= c / 1.122) & (hz < c * 1.122)].sum() + 1e-12) for c in THIRDS])
