# SPDX-License-Identifier: GPL-3.0-or-later
"""Whether the channels of a recording belong together or are microphones of their own, each to be judged alone."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from pulizia.audio.layouts import are_microphones
from pulizia.audio.source import Source
from pulizia.units import powers_to_db

LOOK_S, MOST_LOOKS, LOOKS_AT_ONCE = 0.1, 3000, 100
QUIET_DB = 20.0  # under the loudest looks: nobody speaks there
APART_DB = 12.0  # from the tenth to the ninetieth percentile of how one channel stands over the other
SILENT_DB = -90.0


def microphones(source: Source, names: Sequence[str], looked: Callable[[], None] = lambda: None) -> tuple[str, ...]:
    """Names of channels that are microphones of their own; () where they belong together, as left and right do.

    What the file calls its channels decides where these are no loudspeakers. Otherwise the sound does: two people with a
    microphone each change which channel is louder; one voice in front of two stands in the same relation throughout.
    Ask it of the untouched recording: what is done to it must not change the answer. ``looked`` may raise to stop.
    The threshold is set by made recordings of both kinds (docs/repairs.md); a silent channel tells nothing.
    """
    if source.channels < 2 or len(names) != source.channels:
        return ()
    if are_microphones(names):
        return tuple(names)
    return tuple(names) if _apart(source, looked) else ()


def _apart(source: Source, looked: Callable[[], None]) -> bool:
    look = max(1, round(LOOK_S * source.rate))
    count = source.frames // look
    if count < 20:
        return False
    chosen = np.unique(np.linspace(0, count - 1, min(count, MOST_LOOKS)).astype(int))
    power = np.empty((len(chosen), source.channels), dtype=np.float64)
    for row, n in enumerate(chosen.tolist()):
        block = source.read(n * look, (n + 1) * look)
        if row % LOOKS_AT_ONCE == 0:
            looked()
        power[row] = np.einsum("cn,cn->c", block, block, dtype=np.float64) / look
    level = powers_to_db(power)
    level = level[:, level.max(axis=0) > SILENT_DB]
    if level.shape[1] < 2:
        return False
    loudest = level.max(axis=1)
    heard = level[loudest > np.percentile(loudest, 95) - QUIET_DB]
    spread = [
        np.ptp(np.percentile(heard[:, a] - heard[:, b], (10, 90)))
        for a in range(level.shape[1])
        for b in range(a + 1, level.shape[1])
    ]
    return bool(max(spread) >= APART_DB)
