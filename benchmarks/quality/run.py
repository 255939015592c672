# SPDX-License-Identifier: GPL-3.0-or-later
"""Measures what each tool does to recorded voices: python benchmarks/quality/run.py FOLDER [SECTION ...].

Sections: noise sieve hum gate ringing harm clicks plosives overload rooms leveller dull breaths. Fixed seeds; see speech.py for the folder.
Reference libraries (noisereduce, logmmse) and PESQ are used when they are installed.
"""

from __future__ import annotations

import os

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import importlib.util
import sys
import warnings
from pathlib import Path

import numpy as np
from breath import breathing
from rooms import dull, levelling, rooms
from scipy.signal import resample_poly, sosfilt
from speech import LANGUAGES, RATE, mixed, phrase, si_sdr, source_of, treated

from pulizia.audio.source import ArraySource
from pulizia.dsp import biquads
from pulizia.dsp.moments import runs
from pulizia.measure.harm import harm
from pulizia.measure.spectrum import spectrum
from pulizia.tools import clicks, gate, plosives

warnings.filterwarnings("ignore")
QUIET = 10 ** (-72 / 20)


def pesq(voice: np.ndarray, made: np.ndarray) -> float:
    """Wide-band PESQ; nan where the package is missing."""
    if importlib.util.find_spec("pesq") is None:
        return float("nan")
    from pesq import pesq as score

    return float(score(16_000, resample_poly(voice, 1, 3), resample_poly(made, 1, 3), "wb"))


def references(sound: np.ndarray, clip: np.ndarray) -> dict[str, np.ndarray]:
    """What classical libraries make of the same sound with the same stretch of noise."""
    made = {}
    if importlib.util.find_spec("noisereduce"):
        import noisereduce

        made["noisereduce"] = noisereduce.reduce_noise(y=sound, sr=RATE, y_noise=clip, stationary=True)
    if importlib.util.find_spec("logmmse"):
        import logmmse

        made["logmmse"] = logmmse.logmmse(sound.astype(np.float32), RATE, initial_noise=6).astype(float)
    return {
        name: y[: len(sound)] if len(y) >= len(sound) else np.pad(y, (0, len(sound) - len(y)))
        for name, y in made.items()
    }


def noise(folder: Path) -> None:
    """SI-SDR gain and PESQ of Noise at its full reduction beside the libraries, which have no limit either."""
    rng = np.random.default_rng(5)
    voices = [phrase(folder, language, 1) for language in LANGUAGES]
    for kind in ("white", "pink", "fan", "changing"):
        for snr in (5, 10, 20):
            rows: dict[str, list[tuple[float, float]]] = {}
            for voice in voices:
                sound = mixed(voice, kind, snr, rng)
                made = {
                    "ours": treated(
                        sound, "noise", {"reduction_db": 40.0, "profile_spans_s": [[0.1, 1.1]], "following": "changes"}
                    )
                }
                made |= references(sound, sound[round(0.1 * RATE) : round(1.1 * RATE)])
                for name, y in made.items():
                    rows.setdefault(name, []).append(
                        (si_sdr(voice, y) - si_sdr(voice, sound), pesq(voice, y) - pesq(voice, sound))
                    )
            text = "   ".join(
                f"{name} {np.mean([a for a, _ in r]):+.1f} dB, PESQ {np.mean([b for _, b in r]):+.2f}"
                for name, r in rows.items()
            )
            print(f"noise {kind} {snr} dB: {text}")


def sieve(folder: Path) -> None:
    """Voice sieve from 40 dB below to 12 dB above the normal level, and on clean speech."""
    rng = np.random.default_rng(6)
    for language in LANGUAGES:
        voice = phrase(folder, language, 1)
        sound = mixed(voice, "white", 5, rng)
        scores = [si_sdr(voice, treated(sound * 10 ** (g / 20), "voice_sieve", {"amount": 1.0})) for g in (0, -40, 12)]
        clean = si_sdr(voice, treated(voice, "voice_sieve", {"amount": 1.0}))
        print(
            f"sieve {language}: {si_sdr(voice, sound):.1f} in, {scores[0]:.2f} out; 40 dB below {scores[1]:.2f}, 12 dB above {scores[2]:.2f}; clean {clean:.1f}"
        )


def hum(folder: Path) -> None:
    """Hum of twelve harmonics, steady and drifting: error of the voice and what is left of the lines."""
    for language in LANGUAGES:
        voice = np.tile(phrase(folder, language, 1), 2)
        voice += np.random.default_rng(1).normal(0, QUIET, len(voice))
        t = np.arange(len(voice)) / RATE
        for base, drift in ((50.03, 0.0), (59.97, 0.02)):
            phase = 2 * np.pi * (base * t + drift * np.cumsum(np.sin(2 * np.pi * t / 20)) / RATE)
            tones = [10 ** ((-40 - 3 * k) / 20) * np.sin((k + 1) * phase + k) for k in range(12)]
            made = treated(voice + sum(tones), "hum", {})
            error = (made - voice)[RATE:-RATE]
            left = max(
                20
                * np.log10(
                    abs(2 * np.mean(error * np.exp(-1j * ((k + 1) * phase + k))[RATE:-RATE]))
                    / 10 ** ((-40 - 3 * k) / 20)
                )
                for k in range(9)
            )
            print(
                f"hum {language} {base} Hz, drift {drift}: lines {left:.1f} dB, error {10 * np.log10((error**2).mean() / (voice**2).mean()):.1f} dB re speech"
            )


def gates(folder: Path) -> None:
    """Suggested settings at 15 dB: how much of word starts is lost, from 20 dB under the voice (5 under the noise) on."""
    rng = np.random.default_rng(7)
    for language in LANGUAGES:
        voice = phrase(folder, language, 1)
        sound = mixed(voice, "fan", 15, rng)
        chosen = gate.suggest(source_of(sound), (), gate.GateSettings(), lambda _: None).changes
        settings = gate.GateSettings(**chosen)
        level, first = gate.levels(sound[None].astype(np.float32), 0, settings, RATE)
        opened = gate.open_steps(level[0], settings)
        envelope = np.sqrt(np.convolve(voice**2, np.ones(480) / 480, mode="same"))
        words = [
            (a, b)
            for a, b in runs(np.convolve(envelope > 0.02 * envelope.max(), np.ones(4800), mode="same") > 0)
            if b - a > 9600
        ]
        loud = envelope > 10 ** (-20 / 20) * np.sqrt((voice[np.abs(voice) > 0.004] ** 2).mean())
        cuts = []
        for a, b in words:
            at = a + int(np.argmax(loud[a:b]))
            step = at * 1000 // RATE - first
            after = opened[step:]
            cuts.append(int(np.argmax(after)) if after.any() and not after[0] else 0)
        print(
            f"gate {language}: {len(cuts)} words, most cut {max(cuts)} ms, more than 10 ms: {sum(c > 10 for c in cuts)}; open {100 * opened.mean():.0f} %"
        )


def ringing(folder: Path) -> None:
    """Three resonances of 9 dB put into dry voices; and voices without them."""
    for language in LANGUAGES:
        voice = phrase(folder, language, 1)
        voice += np.random.default_rng(0).normal(0, QUIET, len(voice))
        plain = treated(voice, "ringing", {})
        places = (420.0, 1100.0, 2700.0)
        sections = np.concatenate([biquads.bell(f, 9, q, RATE) for f, q in zip(places, (15, 20, 25), strict=True)])
        made = treated(sosfilt(sections, voice), "ringing", {})
        a, b = (spectrum(source_of(x), 0, len(x), size=16_384) for x in (voice, made))
        change = 10 * np.log10(b.average / a.average)
        left = [float(change[np.argmin(abs(a.hz - f)) - 3 :][:7].mean()) for f in places]
        print(
            f"ringing {language}: left {np.round(left, 1)} dB; a voice without is {'untouched' if np.array_equal(plain, voice.astype(np.float32)) else 'touched'}"
        )


def harms(folder: Path) -> None:
    """The measure of harm against the true error of the voice, over amounts and noises."""
    measured, true = [], []
    rng = np.random.default_rng(8)
    for language in LANGUAGES:
        voice = phrase(folder, language, 1)
        for kind in ("white", "pink", "fan"):
            sound = mixed(voice, kind, 12, rng)
            for reduction, sensitivity in ((6.0, 0.0), (12.0, 0.0), (24.0, 0.0), (24.0, 6.0), (36.0, 12.0)):
                made = treated(
                    sound,
                    "noise",
                    {"reduction_db": reduction, "sensitivity_db": sensitivity, "profile_spans_s": [[0.1, 1.1]]},
                )
                found = harm(source_of(sound), source_of(made), ())
                if found is None:
                    continue
                size = 1024
                frames = [
                    np.lib.stride_tricks.sliding_window_view(x, size)[:: size // 2] * np.hanning(size)
                    for x in (voice, sound, made)
                ]
                s, x, y = (np.abs(np.fft.rfft(f)) for f in frames)
                gain = y / np.maximum(x, 1e-9)
                strong = s**2 > 0.01 * (s**2).mean()
                measured.append(found.level_db)
                true.append(10 * np.log10((np.maximum(1 - gain, 0) ** 2 * s**2)[strong].sum() / (s**2)[strong].sum()))
    print(
        f"harm: correlation with the true loss of the voice {np.corrcoef(measured, true)[0, 1]:.3f} over {len(true)} mixtures; mean difference {np.mean(np.array(measured) - true):+.1f} dB"
    )


def click(folder: Path) -> None:
    """Sixty clicks in each voice: hits, false alarms, error energy."""
    settings = clicks.ClicksSettings()
    for language in LANGUAGES:
        voice = phrase(folder, language, 1)
        voice += np.random.default_rng(0).normal(0, QUIET, len(voice))
        rng = np.random.default_rng(1)
        rms = float(np.sqrt((voice[np.abs(voice) > 0.004] ** 2).mean()))
        sound, places = voice.copy(), []
        for at in np.sort(
            rng.choice(np.arange(RATE // 2, len(voice) - RATE // 2, RATE // 10), 60, replace=False)
        ) + rng.integers(0, 2000, 60):
            width = int(rng.choice([1, 3, 8, 20, 40]))
            shape = (
                np.full(1, 3.0)
                if width == 1
                else rng.normal(0, 1, width) * np.hanning(width + 2)[1:-1] * rng.choice([1.5, 3, 6])
            )
            sound[at : at + width] += shape * rms * rng.choice([-1, 1])
            places.append((at, at + width))
        alone = clicks.find(voice.astype(np.float32), 0, settings, RATE)
        found = clicks.find(sound.astype(np.float32), 0, settings, RATE)
        hits = sum(any(a < q and b > p for a, b in found) for p, q in places)
        made = treated(sound, "clicks", {})
        inside = np.zeros(len(voice), dtype=bool)
        for p, q in places:
            inside[p - 4 : q + 4] = True
        error = 10 * np.log10(((made - voice)[inside] ** 2).sum() / ((sound - voice)[inside] ** 2).sum())
        print(
            f"clicks {language}: {hits} of 60 found, {10 * len(alone) / (len(voice) / RATE):.1f} false alarms per 10 s, error energy {error:.1f} dB"
        )


def plosive(folder: Path) -> None:
    """Thumps at word starts: hits and energy."""
    settings = plosives.PlosivesSettings()
    for language in LANGUAGES:
        voice = phrase(folder, language, 1)
        voice += np.random.default_rng(0).normal(0, QUIET, len(voice))
        rng, rms = np.random.default_rng(2), float(np.sqrt((voice[np.abs(voice) > 0.004] ** 2).mean()))
        loud = np.convolve(np.abs(voice) > 0.01, np.ones(2400), mode="same") > 200
        sound, places = voice.copy(), []
        for a, _ in [r for r in runs(loud) if r[1] - r[0] > 9600]:
            t = np.arange(4800) / RATE
            sound[a : a + 4800] += (
                rng.uniform(2, 5)
                * rms
                * np.exp(-t / 0.03)
                * np.minimum(1, t / 0.006)
                * np.sin(2 * np.pi * rng.uniform(40, 90) * t)
            )[: len(sound) - a]
            places.append((a, a + 4800))
        heard = plosives.analyse(ArraySource(voice[None].astype(np.float32), RATE), (), settings, lambda _: None)
        level = heard.level_db
        alone = plosives.find(voice[None].astype(np.float32), 0, settings, RATE, level)
        found = plosives.find(sound[None].astype(np.float32), 0, settings, RATE, level)
        hits = [p for p in places if any(a < p[1] and b > p[0] for a, b in found)]
        made = treated(sound, "plosives", {})
        low = biquads.passes(110.0, 4, RATE, high=False)
        before, after = sosfilt(low, sound - voice), sosfilt(low, made - voice)
        inside = np.zeros(len(voice), dtype=bool)
        for p, q in hits:
            inside[p:q] = True
        energy = 10 * np.log10((after[inside] ** 2).sum() / max((before[inside] ** 2).sum(), 1e-12))
        print(
            f"plosives {language}: {len(hits)} of {len(places)} found, {len(alone)} in the voice itself, energy below 110 Hz {energy:.1f} dB"
        )


def overloads(folder: Path) -> None:
    """Voices cut 6 dB below their highest sample: SI-SDR of the cut samples."""
    for language in LANGUAGES:
        voice = phrase(folder, language, 1)
        limit = np.abs(voice).max() / 2
        sound = np.clip(voice, -limit, limit)
        made = treated(sound, "overload", {})
        cut = np.abs(voice) > limit
        others = np.array_equal(
            made[np.abs(sound.astype(np.float32)) < limit - 6e-5],
            sound.astype(np.float32)[np.abs(sound.astype(np.float32)) < limit - 6e-5],
        )
        print(
            f"overload {language}: {si_sdr(voice[cut], sound[cut]):.1f} dB to {si_sdr(voice[cut], made[cut]):.1f} dB, all others identical: {others}"
        )


SECTIONS = {
    "noise": noise, "sieve": sieve, "hum": hum, "gate": gates, "ringing": ringing, "harm": harms, "clicks": click,
    "plosives": plosive, "overload": overloads, "rooms": rooms, "leveller": levelling, "dull": dull, "breaths": breathing,
}  # fmt: skip


if __name__ == "__main__":
    if len(sys.argv) < 2 or not Path(sys.argv[1]).is_dir():
        sys.exit(__doc__)
    for section in sys.argv[2:] or SECTIONS:
        SECTIONS[section](Path(sys.argv[1]))
