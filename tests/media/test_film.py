# SPDX-License-Identifier: GPL-3.0-or-later
"""Pictures by time: the exact frame at any rate, also a changing one, and in any order of asking."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from tests.films import write_film

from pulizia.errors import MediaError
from pulizia.media.film import Film

RATE = 48_000


def shade(film: Film, seconds: float) -> int:
    """Which picture is shown: they are grey, each 10 lighter than the one before."""
    still = film.at(seconds)
    assert still is not None
    return round(float(still.pixels.mean()) / 10)


@pytest.mark.parametrize("step_ms", [1000 / 23.976, 40.0, 1000 / 29.97, 20.0, 1000 / 60])
def test_the_exact_picture_is_shown_at_any_rate_in_any_order(tmp_path: Path, step_ms: float) -> None:
    moments = [round(n * step_ms) for n in range(24)]
    path = tmp_path / "film.mov"
    write_film(path, np.zeros((1, RATE), np.float32), RATE, moments)
    film = Film(path)
    places = [n for n in range(24) if n != 23]
    for n in [*places, *reversed(places), 3, 17, 2, 22, 0]:
        for within in (0.001, 0.6 * step_ms / 1000):
            assert shade(film, moments[n] / 1000 + within) == n
    assert shade(film, -1.0) == 0
    assert shade(film, 99.0) == 23
    film.close()


def test_a_changing_rate_keeps_each_picture_until_the_next_one(tmp_path: Path) -> None:
    moments = [0, 40, 400, 420, 900, 2500]
    path = tmp_path / "phone.mp4"
    write_film(path, np.zeros((1, 3 * RATE), np.float32), RATE, moments)
    film = Film(path)
    for seconds, wanted in ((0.03, 0), (0.39, 1), (0.41, 2), (0.89, 3), (2.4, 4), (2.6, 5), (0.05, 1)):
        assert shade(film, seconds) == wanted
    key = film.near(2.4)
    assert key is not None
    assert key.start_s <= 2.4
    film.close()


def test_what_is_no_video_gets_one_sentence(tmp_path: Path, wav) -> None:  # type: ignore[no-untyped-def]
    broken = tmp_path / "broken.mov"
    broken.write_bytes(b"nothing" * 100)
    for path in (broken, tmp_path / "gone.mov", wav(np.zeros((1, RATE), np.float32), "sound.wav")):
        with pytest.raises(MediaError) as found:
            Film(path)
        assert path.name in str(found.value)
        assert "\n" not in str(found.value)
