# SPDX-License-Identifier: GPL-3.0-or-later
"""The example's own test: pytest docs/extension, with the package installed."""

import numpy as np

from pulizia import api


def test_what_lies_outside_the_band_is_lowered_and_pieces_are_the_whole() -> None:
    sound = api.open(api.demo_files()[0])
    line = sound.with_steps(api.step("telephone"))
    before, after = (np.abs(np.fft.rfft(s.read(4.0, 8.0)[0])) ** 2 for s in (sound, line))
    hz = np.fft.rfftfreq(4 * sound.rate, 1 / sound.rate)
    for low, high, most_db in ((40, 150, -20), (7000, 15_000, -20), (500, 2500, 1)):
        band = (hz > low) & (hz < high)
        assert 10 * np.log10(after[band].sum() / before[band].sum()) < most_db
    pieces = np.concatenate([line.read(a, a + 0.37) for a in (1.0, 1.37)], axis=1)
    assert np.array_equal(pieces, line.read(1.0, 1.74))
