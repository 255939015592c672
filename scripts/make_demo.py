# SPDX-License-Identifier: GPL-3.0-or-later
"""Make the demo recordings: an invented audio guide of an invented clock museum.

Needs `pip install hibari-tts` (a synthesiser with one voice inside its package) beside Pulizia's
own requirements; the recordings it makes are shipped, so the application does not need this script.

    python scripts/make_demo.py src/pulizia/data/demo

Everything but the synthesiser's voice is computed here with fixed seeds: fan, hum, clicks, room.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np
import soundfile
from scipy.signal import fftconvolve, resample_poly

RATE = 48_000

HALL = [
    "Welcome to the clock museum of Val Serrata. You are standing in the hall of pendulums.",
    "Sixty three clocks are kept wound in this room, and no two of them were built in the same year.",
    (
        "The tall one by the window lost eleven minutes in the winter of seventeen ninety four, "
        "and has never been corrected since."
    ),
    "If you stay until the full hour, you will hear them strike, one after the other.",
]
WATER = [
    "Room four. This is the water clock of Sister Benedetta.",
    "It keeps time with a thread of water no thicker than a straw, and once a day it must be filled.",
    "Listen closely. Each drop is a second and a half.",
]
WATCHES = [
    "Room seven holds the pocket watches.",
    "The smallest weighs less than a postage stamp. Its spring was sharpened with silk and sand.",
    "Please do not press against the glass cases.",
]
KEEPER = [
    "My name is Teodoro Anselmi. I have been keeper of these clocks for thirty one years.",
    "People ask me if the ticking bothers me. It does not. What bothers me is when one of them stops.",
]


def speak(lines: list[str], *, pause_s: float, speed: float = 1.0, deeper: float = 1.0) -> np.ndarray:
    """The lines as one voice at RATE; ``deeper`` above 1 lowers pitch and formants alike."""
    parts = []
    with tempfile.TemporaryDirectory() as folder:
        for number, line in enumerate(lines):
            target = Path(folder) / f"{number}.wav"
            command = ["hibari", "--seed", str(number), "--speed", str(speed * deeper), "-o", str(target), line]
            subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
            voice, rate = soundfile.read(target)
            up, down = round(RATE * deeper / 100), round(rate / 100)
            parts += [resample_poly(voice, up, down), np.zeros(int(pause_s * RATE))]
    voice = np.concatenate(parts[:-1])
    return voice / np.sqrt(np.mean(voice[np.abs(voice) > 0.01] ** 2)) * 10 ** (-23 / 20)


def placed(voice: np.ndarray, *, before_s: float, after_s: float) -> np.ndarray:
    """The voice with time before and after it."""
    return np.concatenate([np.zeros(int(before_s * RATE)), voice, np.zeros(int(after_s * RATE))])


def fan(frames: int, *, level_db: float, seed: int, blade_hz: float) -> np.ndarray:
    """Moving air with the hum of the blades, RMS ``level_db``."""
    rng = np.random.default_rng(seed)
    spectrum = np.fft.rfft(rng.standard_normal(frames))
    hz = np.fft.rfftfreq(frames, 1 / RATE)
    spectrum *= 1.0 / (1.0 + (hz / 350.0) ** 1.1) * np.clip(hz / 40.0, 0, 1)
    noise = np.fft.irfft(spectrum, frames)
    noise /= np.sqrt(np.mean(noise**2))
    t = np.arange(frames) / RATE
    for order, share in ((1, 0.35), (2, 0.22), (3, 0.1)):
        noise += share * np.sin(2 * np.pi * blade_hz * order * t + order)
    return noise / np.sqrt(np.mean(noise**2)) * 10 ** (level_db / 20)


def hum(frames: int, *, level_db: float) -> np.ndarray:
    """Mains hum at 50.03 Hz with falling harmonics."""
    t = np.arange(frames) / RATE
    shares = {1: 1.0, 2: 0.35, 3: 0.5, 5: 0.3, 7: 0.12, 9: 0.06}
    tone = sum(a * np.sin(2 * np.pi * 50.03 * n * t + n * n) for n, a in shares.items())
    return tone / np.sqrt(np.mean(tone**2)) * 10 ** (level_db / 20)


def clicks(frames: int, *, per_second: float, seed: int) -> np.ndarray:
    """Short damped clicks between -26 and -10 dBFS at random places."""
    rng = np.random.default_rng(seed)
    out = np.zeros(frames)
    for place in rng.integers(0, frames - 400, int(frames / RATE * per_second)):
        n = np.arange(240)
        pitch, decay = rng.uniform(1800, 6000), rng.uniform(8, 40)
        shape = np.exp(-n / decay) * np.cos(2 * np.pi * pitch * n / RATE + rng.uniform(0, 6))
        out[place : place + 240] += 10 ** (rng.uniform(-26, -10) / 20) * shape
    return out


def room(voice: np.ndarray, *, t60_s: float, direct: float, seed: int) -> np.ndarray:
    """The voice in a lively room: exponential decaying noise after a clear direct sound."""
    rng = np.random.default_rng(seed)
    n = np.arange(int(t60_s * RATE))
    tail = rng.standard_normal(len(n)) * 10 ** (-3 * n / (t60_s * RATE)) * (n > 0.006 * RATE)
    tail /= np.sqrt(np.sum(tail**2))
    return direct * voice + fftconvolve(voice, tail)[: len(voice)] * 0.5


def hall() -> np.ndarray:
    """A fan from the start, and a second, louder one that joins after the second sentence."""
    voice = placed(speak(HALL, pause_s=0.7), before_s=1.3, after_s=1.0)
    frames = len(voice)
    second = fan(frames, level_db=-47, seed=12, blade_hz=143.0)
    start, rise = int(0.52 * frames), int(0.4 * RATE)
    second *= np.clip((np.arange(frames) - start) / rise, 0, 1)
    return voice + fan(frames, level_db=-54, seed=11, blade_hz=96.0) + second


def water() -> np.ndarray:
    """Hum and a little noise, in stereo from two microphones."""
    voice = placed(speak(WATER, pause_s=0.8, speed=0.95), before_s=0.9, after_s=0.8)
    frames = len(voice)
    left = voice + hum(frames, level_db=-48) + fan(frames, level_db=-62, seed=21, blade_hz=60)
    delayed = np.concatenate([np.zeros(14), voice[:-14]]) * 0.8
    right = delayed + hum(frames, level_db=-50) + fan(frames, level_db=-62, seed=22, blade_hz=60)
    return np.stack([left, right], axis=1)


def watches() -> np.ndarray:
    """Clicks of lips and of the glass cases."""
    voice = placed(speak(WATCHES, pause_s=0.6, speed=1.05), before_s=0.7, after_s=0.7)
    frames = len(voice)
    return voice + clicks(frames, per_second=1.6, seed=31) + fan(frames, level_db=-66, seed=32, blade_hz=70)


def keeper() -> np.ndarray:
    """The keeper, interviewed in his lively workshop at a low level."""
    voice = placed(speak(KEEPER, pause_s=0.9, speed=0.97, deeper=1.19), before_s=1.0, after_s=1.4)
    wet = room(voice, t60_s=0.7, direct=0.8, seed=41)
    return 0.45 * (wet + fan(len(wet), level_db=-56, seed=42, blade_hz=110))


def main() -> None:
    """Write all recordings as 16-bit FLAC."""
    folder = Path(sys.argv[1])
    folder.mkdir(parents=True, exist_ok=True)
    recordings = {"hall-of-pendulums": hall, "room-04-water-clock": water,
                  "room-07-pocket-watches": watches, "interview-keeper-anselmi": keeper}  # fmt: skip
    for name, make in recordings.items():
        sound = make()
        codes = np.clip(np.rint(sound * 32768), -32768, 32767).astype(np.int16)
        soundfile.write(folder / f"{name}.flac", codes, RATE, subtype="PCM_16")
        print(f"{name}: {len(sound) / RATE:.1f} s, peak {20 * np.log10(np.abs(sound).max()):.1f} dBFS")


if __name__ == "__main__":
    main()
