# SPDX-License-Identifier: GPL-3.0-or-later
"""One pass over a worked recording that serves measures, waveform and removed levels alike.

Rendering is what costs; whatever is made from a rendered stretch is made while it is still in the
cache.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from pulizia.audio.source import DifferenceSource, Source
from pulizia.measure.blocks import (
    Segment,
    SegmentStore,
    measured_segment,
    segment_edges,
    with_true_peaks,
)
from pulizia.measure.loudness import Measures, measure, summary
from pulizia.measure.overview import SEGMENT_FRAMES, PeakPicture, PeakStore
from pulizia.score.chain import Chain


def work_through(
    chain: Chain,
    programme: Source,
    peaks: PeakStore,
    segments: SegmentStore,
    names: Sequence[str],
    *,
    progress: Callable[[float], None],
    grown: Callable[[], None],
) -> Measures:
    """Measure a programme that a chain gives, and keep the peaks of all of it and of what each step takes away.

    ``progress`` (0..1) may raise to stop; ``grown`` is called when peaks have become known.
    """
    after = chain.after
    pictures = [PeakPicture(after, peaks)]
    for stage in chain.stages.values():
        taken = DifferenceSource(stage.upstream, stage)
        pictures.append(PeakPicture(taken, peaks, levels_only=True))
    trimmed = programme is not after
    edges = [] if trimmed else segment_edges(after)
    measured: list[Segment] = []
    largest = np.zeros(after.channels, dtype=np.float32)
    for index in range(pictures[0].count):
        stop = min((index + 1) * SEGMENT_FRAMES, after.frames)
        while len(measured) < len(edges) and edges[len(measured)][1] <= stop:
            measured.append(measured_segment(after, *edges[len(measured)], segments, floor=largest))
            largest = np.maximum(largest, measured[-1].true_peak.max(axis=1))
            progress(len(measured) / len(edges))
        for picture in pictures:
            picture.compute(index)
            progress(index / pictures[0].count if trimmed else len(measured) / len(edges))
        grown()
    if trimmed:
        return measure(programme, segments, progress, names=names, workers=1)
    left = edges[len(measured) :]
    measured.extend(measured_segment(after, *edge, segments, floor=largest) for edge in left)
    return summary(with_true_peaks(measured, after, segments), after, names)


def keep_removed(chain: Chain, peaks: PeakStore, progress: Callable[[float], None]) -> None:
    """Keep the levels of what each step of a chain takes away. ``progress`` (0..1) may raise to stop."""
    pictures = [
        PeakPicture(DifferenceSource(stage.upstream, stage), peaks, levels_only=True) for stage in chain.stages.values()
    ]
    for n, picture in enumerate(pictures):
        for index in range(picture.count):
            picture.compute(index)
            progress((n + index / picture.count) / len(pictures))
