# SPDX-License-Identifier: GPL-3.0-or-later
"""Shared signals and a home of its own for every run."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # before NumPy comes, as the program does: idle threads of it spin

import numpy as np
import pytest
import soundfile
from hypothesis import settings

from pulizia.audio.samples import Samples

settings.register_profile("no clock", deadline=None)  # a busy machine is no fault
settings.load_profile("no clock")


@pytest.fixture(autouse=True)
def home(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> Path:
    """Caches, journals and own targets of this test only."""
    folder = tmp_path_factory.mktemp("home")
    monkeypatch.setenv("PULIZIA_HOME", str(folder))
    return folder


def voice_in_noise(seconds: float = 6.0, rate: int = 48_000, channels: int = 1, seed: int = 7) -> Samples:
    """Bursts of harmonic voice at -20 dBFS with pauses, over noise at -56 dBFS; the first second is noise alone.

    The second half of the voice is 12 dB quieter, so that nothing that depends on whole blocks passes.
    """
    return _voice_in_noise(seconds, rate, channels, seed).copy()


@cache
def _voice_in_noise(seconds: float, rate: int, channels: int, seed: int) -> Samples:
    rng = np.random.default_rng(seed)
    n = int(seconds * rate)
    t = np.arange(n) / rate
    pitch = 2 * np.pi * np.cumsum(130 + 20 * np.sin(2 * np.pi * 0.7 * t)) / rate
    voice = sum(np.sin(k * pitch) / k for k in range(1, 24))
    syllables = np.clip(np.sin(2 * np.pi * 2.1 * t) * 3, 0, 1) * (t > 1.0)
    voice = 0.1 * voice * syllables * np.where(t > seconds / 2, 0.25, 1.0)
    noise = rng.standard_normal((channels, n)) * 10 ** (-56 / 20)
    return (voice[None] + noise).astype(np.float32)


@pytest.fixture
def voice() -> Samples:
    """Six seconds of mono voice in noise at 48 kHz."""
    return voice_in_noise()


@pytest.fixture
def wav(tmp_path: Path) -> Callable[..., Path]:
    """Write samples to a WAV file and return its path."""

    def write(samples: Samples, name: str = "take.wav", rate: int = 48_000, subtype: str = "PCM_24") -> Path:
        path = tmp_path / name
        soundfile.write(path, samples.T, rate, subtype=subtype)
        return path

    return write


@pytest.fixture
def voice_file(wav: Callable[..., Path], voice: Samples) -> Path:
    """The voice as a 24-bit WAV."""
    return wav(voice)


@pytest.fixture
def untouched() -> Iterator[Callable[[Path], None]]:
    """Register source files; after the test their bytes and times must be as before."""
    seen: dict[Path, tuple[bytes, int]] = {}

    def watch(path: Path) -> None:
        seen[path] = (path.read_bytes(), path.stat().st_mtime_ns)

    yield watch
    for path, (content, time) in seen.items():
        assert path.read_bytes() == content
        assert path.stat().st_mtime_ns == time
