# SPDX-License-Identifier: GPL-3.0-or-later
"""The net of Noise: voice stays, noise goes, and neither parts nor the ends of a sound matter."""

from __future__ import annotations

import numpy as np
import pytest

from pulizia.models import cell_net, noise_net

BINS = 512
HZ = np.arange(BINS) * 23.4
RNG = np.random.default_rng(3)


def ratios() -> tuple[np.ndarray, np.ndarray, slice]:
    """Power over the noise in which harmonics of 190 Hz stand 20 dB high for half a second, and the classical gain."""
    power = RNG.exponential(1.0, (80, BINS))
    lines = np.arange(8, 200, 8)
    power[30:54][:, lines] += 100.0 * RNG.uniform(0.5, 2.0, (24, len(lines)))
    wiener = np.maximum(1.0 - 1.0 / np.maximum(power, 1.0), 0.03)
    return power.astype(np.float32), wiener.astype(np.float32), slice(33, 51)


def test_what_stands_over_the_noise_is_voice_and_the_rest_is_not() -> None:
    ratio, classical, speaking = ratios()
    share = noise_net.share(ratio, classical, HZ)
    lines = np.arange(8, 200, 8)
    assert share[speaking][:, lines].mean() > 0.85
    quiet = np.concatenate([share[:20], share[64:]])
    assert quiet.mean() < 0.15  # lone cells far over the mean of the noise are noise too
    assert quiet[np.concatenate([ratio[:20], ratio[64:]]) > 4.0].mean() < 0.3


def test_parts_do_not_matter_and_every_input_gives_figures(monkeypatch: pytest.MonkeyPatch) -> None:
    ratio, classical, _ = ratios()
    whole = noise_net.share(ratio, classical, HZ)
    monkeypatch.setattr(noise_net, "FRAMES_AT_ONCE", 13)
    monkeypatch.setattr(cell_net, "CELLS_AT_ONCE", 777)
    assert np.abs(noise_net.share(ratio, classical, HZ) - whole).max() < 1e-5
    for odd in (np.full_like(ratio, 1e-3), np.full_like(ratio, 1e8)):
        share = noise_net.share(odd, classical, HZ)
        assert np.isfinite(share).all()
        assert share.min() >= 0.0
        assert share.max() <= 1.0
