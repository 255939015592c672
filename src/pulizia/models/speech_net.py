# SPDX-License-Identifier: GPL-3.0-or-later
"""Where somebody speaks: a small net over how far the bands lie above their floor, before and after each moment.

Two hidden layers, shared by all moments; it looks at twenty bands around the moment, at fewer and wider ones farther
away, at the level beside that of the voice, and at how far the voice lies over the floor. The weights lie beside the
program; ``scripts/learn_speech.py`` makes them.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from pulizia.models.cell_net import decibels, earlier, layers_of

BANDS = 20
NEAR = (4, 2, 1, 0, -1, -2, -4)  # steps of 10 ms, those that come below 0
BETWEEN, BETWEEN_OVER, BETWEEN_BANDS = (12, 7, -7, -12), 5, 10  # means over so many steps, in so many bands
FAR, FAR_OVER, FAR_BANDS = (50, 32, 20, -20, -32, -50), 11, 5
LEVELS = (30, 10, 0, -10, -30)
FEATURES = len(NEAR) * BANDS + len(BETWEEN) * BETWEEN_BANDS + len(FAR) * FAR_BANDS + len(LEVELS) + 1
LEAST_RATIO, HIGHEST_DB, SCALE_DB = 0.1, 35.0, 15.0
LOWEST_LEVEL_DB, LEVEL_SCALE_DB = -60.0, 20.0
LOUD_SHARE = 0.95  # of all steps lies under the level of the voice
STEPS_AT_ONCE = 8192
REACH = 64


def inputs(over: NDArray[np.float32], under_voice_db: NDArray[np.float32], voice_db: float) -> NDArray[np.float32]:
    """What the net looks at.

    Parameters
    ----------
    over : (steps, BANDS) power over that of the floor, steps of 10 ms
    under_voice_db : (steps,) level relative to that of the voice in dB
    voice_db : level of the voice over the floor in dB

    Returns
    -------
    (FEATURES, steps) float32
    """
    near = decibels(over, LEAST_RATIO)
    np.minimum(near, HIGHEST_DB, out=near)
    between = _wider(_mean(near, BETWEEN_OVER), BETWEEN_BANDS)
    far = _wider(_mean(near, FAR_OVER), FAR_BANDS)
    level = np.clip(under_voice_db, LOWEST_LEVEL_DB, 10.0).astype(np.float32)[:, None] / LEVEL_SCALE_DB
    rows = [earlier(near, k) / SCALE_DB for k in NEAR]
    rows += [earlier(between, k) / SCALE_DB for k in BETWEEN]
    rows += [earlier(far, k) / SCALE_DB for k in FAR]
    rows += [earlier(level, k) for k in LEVELS]
    rows.append(np.full((len(near), 1), np.clip(voice_db, 0.0, 60.0) / LEVEL_SCALE_DB, dtype=np.float32))
    return np.ascontiguousarray(np.concatenate(rows, axis=1).T, dtype=np.float32)


def speaks(
    over: NDArray[np.float32], under_voice_db: NDArray[np.float32], voice_db: float
) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """(steps,) how likely each step lies in a phrase, and how likely the voice is heard in it; see :func:`inputs`."""
    steps = len(over)
    made = np.empty((2, steps), dtype=np.float32)
    for start in range(0, steps, STEPS_AT_ONCE):
        stop = min(start + STEPS_AT_ONCE, steps)
        a, b = max(0, start - REACH), min(steps, stop + REACH)
        out = inputs(over[a:b], under_voice_db[a:b], voice_db)[:, start - a : stop - a]
        for n, (weights, bias) in enumerate(layers_of("speech")):
            out = weights @ (np.maximum(out, 0.0) if n else out) + bias
        made[:, start:stop] = out
    np.clip(made, 0.0, 1.0, out=made)
    return made[0], made[1]


def _mean(level: NDArray[np.float32], steps: int) -> NDArray[np.float32]:
    """Mean over so many steps around each."""
    from scipy.ndimage import uniform_filter1d

    return np.asarray(uniform_filter1d(level, steps, axis=0, mode="nearest"), dtype=np.float32)


def _wider(level: NDArray[np.float32], bands: int) -> NDArray[np.float32]:
    """Means of neighbouring bands."""
    return np.asarray(level.reshape(len(level), bands, -1).mean(axis=2), dtype=np.float32)
