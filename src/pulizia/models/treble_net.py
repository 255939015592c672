# SPDX-License-Identifier: GPL-3.0-or-later
"""How treble moves with what lies below it: a small net that hears a voice's lower bands and says the upper ones.

Bandwidth extension with an estimated spectral envelope after J. Kontio, L. Laaksonen, P. Alku, "Neural
network-based artificial bandwidth expansion of speech", IEEE Trans. Audio, Speech and Language Processing
15(3), 2007, here a net of one hidden layer over third-octave levels of five moments. All levels are relative
to the mean of the same voice, so that only movement is learned: colour and level come from elsewhere. The
weights lie beside the program; ``scripts/learn_treble.py`` makes them.
"""

from __future__ import annotations

from functools import cache
from importlib.resources import files

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.arrays import read_archive

HEARD_HZ = 200.0 * 2.0 ** (np.arange(17) / 3.0)
"""Centres of the bands that are heard: 200 Hz to 8 kHz in thirds of an octave; those above the cut are not."""
MADE_HZ = 2000.0 * 2.0 ** (np.arange(9) / 3.0)
"""Centres of the bands that are told: 2 to 12.7 kHz."""
LOWEST_DB, QUIET_DB = -40.0, -25.0
HALF_BAND = 2.0 ** (1.0 / 6.0)
SCALE_DB = 10.0  # levels are handed in in tens of dB
SPREAD = np.float32(1.4)  # answers learned by least squares move less than voices do; this gives them back their range


def relative_db(
    power: NDArray[np.floating],
    speech: NDArray[np.float64],
    pause: NDArray[np.float64],
    hz: NDArray[np.float64],
    centres: NDArray[np.float64],
) -> NDArray[np.float32]:
    """Levels of third-octave bands over what the pauses hold, relative to the same for the mean of the voice.

    Parameters
    ----------
    power : (frames, bins)
    speech, pause : (bins,) mean power while somebody speaks, and while nobody does
    hz : (bins,)
    centres : (bands,) Hz

    Returns
    -------
    (frames, bands) float32 in dB, LOWEST_DB at the least
    """
    rows = _bands(hz, centres)
    quiet = pause @ rows
    usual = np.maximum(speech @ rows - quiet, 1e-20)
    levels = np.maximum(power @ rows.astype(np.float32) - quiet, 0.0) / usual + 10.0 ** (LOWEST_DB / 10.0)
    return np.asarray(10.0 * np.log10(levels.astype(np.float32)))


def _bands(hz: NDArray[np.float64], centres: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.asarray((hz[:, None] >= centres / HALF_BAND) & (hz[:, None] < centres * HALF_BAND), dtype=np.float64)


def inputs(heard: NDArray[np.float32], cut_hz: float) -> NDArray[np.float32]:
    """What the net is given: levels of each moment, of the two before and the two after it, and which bands are there.

    Parameters
    ----------
    heard : (frames, bands) dB of HEARD_HZ
    cut_hz : the voice ends there

    Returns
    -------
    (frames, 4 * bands) float32
    """
    there = (cut_hz * 1.02 >= HEARD_HZ * HALF_BAND).astype(np.float32)
    levels = heard * (there / np.float32(SCALE_DB))
    edge = np.pad(levels, ((2, 2), (0, 0)), mode="edge")
    before, after = (edge[:-4] + edge[1:-3]) / 2, (edge[3:-1] + edge[4:]) / 2
    return np.concatenate([levels, before, after, np.broadcast_to(there, levels.shape)], axis=1)


def treble_db(heard: NDArray[np.float32], cut_hz: float) -> NDArray[np.float32]:
    """Levels of MADE_HZ in dB relative to the voice's own mean, (frames, bands) float32."""
    w0, b0, w1, b1 = _weights()
    made = SPREAD * (np.tanh(inputs(heard, cut_hz) @ w0 + b0) @ w1 + b1)
    # below the levels that were learned from, where nothing but room is left
    loudest = heard[:, cut_hz > HEARD_HZ].max(axis=1, initial=LOWEST_DB)
    return np.asarray(made + np.minimum(3.0 * (loudest - QUIET_DB), 0.0)[:, None].astype(np.float32))


def over_bins(levels_db: NDArray[np.float32], hz: NDArray[np.float64]) -> NDArray[np.float32]:
    """Powers at frequencies from levels of MADE_HZ, straight in dB over the logarithm of the frequency.

    Parameters
    ----------
    levels_db : (frames, 9)
    hz : (bins,)

    Returns
    -------
    (frames, bins) float32
    """
    places = np.log(np.maximum(hz, 1.0))
    weights = np.stack([np.interp(places, np.log(MADE_HZ), row) for row in np.eye(len(MADE_HZ))])
    made = levels_db @ (weights * (np.log(10.0) / 10.0)).astype(np.float32)
    return np.asarray(np.exp(made, out=made))


@cache
def _weights() -> tuple[NDArray[np.float32], ...]:
    content = (files("pulizia.data") / "treble.npz").read_bytes()
    parts = read_archive(content)
    return tuple(parts[name].astype(np.float32) for name in ("w0", "b0", "w1", "b1"))
