# SPDX-License-Identifier: GPL-3.0-or-later
"""Moments: short stretches found in blocks, merged, weighted and looked up."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, read_padded

Stretch = tuple[int, int]


def runs(mask: NDArray[np.bool_], *, at_least: int = 1) -> list[Stretch]:
    """Starts and stops of the stretches in which a mask is true, ``at_least`` long."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], mask, [False]]).astype(np.int8)))
    starts, stops = edges[0::2], edges[1::2]
    long = stops - starts >= at_least
    return list(zip(starts[long].tolist(), stops[long].tolist(), strict=True))


def merged(stretches: Iterable[Stretch], gap: int) -> list[Stretch]:
    """Stretches by place, those closer than ``gap`` made one."""
    made: list[Stretch] = []
    for start, stop in sorted(stretches):
        if made and start - made[-1][1] < gap:
            made[-1] = (made[-1][0], max(made[-1][1], stop))
        else:
            made.append((start, stop))
    return made


def overlaps_any(stretch: Stretch, places_s: Sequence[tuple[float, float]], rate: int) -> bool:
    """Whether a stretch (frames) meets one of the places (seconds)."""
    return any(stretch[0] < b * rate and stretch[1] > a * rate for a, b in places_s)


def bump(frames: int, ramp: int) -> NDArray[np.float32]:
    """Weight that rises smoothly from 0, stays 1 and falls again."""
    ramp = max(1, min(ramp, frames // 2))
    weight = np.ones(frames, dtype=np.float32)
    edge = (0.5 - 0.5 * np.cos(np.pi * (np.arange(ramp) + 0.5) / ramp)).astype(np.float32)
    weight[:ramp] = edge
    weight[frames - ramp :] = edge[::-1]
    return weight


def through(
    source: Source, before: int, after: int, find: Callable[[Samples, int], list[Stretch]],
    progress: Callable[[float], None], piece_s: float = 20.0,
) -> list[Stretch]:  # fmt: skip
    """What a finder sees in a whole source, read piece by piece with context.

    ``find(samples, start)`` gives stretches in frames of the recording; each piece keeps those that
    begin in it.
    """
    step = round(piece_s * source.rate)
    found: list[Stretch] = []
    for start in range(0, source.frames, step):
        stop = min(start + step, source.frames)
        block = read_padded(source, start - before, stop + after)
        found += [s for s in find(block, start - before) if start <= s[0] < stop]
        progress(stop / source.frames)
    return found
