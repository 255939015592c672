"""One pass over a worked recording that serves measures, waveform and tides alike.

Rendering is what costs; whatever is made from a rendered stretch is made while it is still in the
cache.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

from pulizia.audio.source import DifferenceSource
from pulizia.measure.blocks import Segment, SegmentStore, measured_segment, segment_edges
from pulizia.measure.loudness import Measures, summary
from pulizia.measure.overview import SEGMENT_FRAMES, PeakPicture, PeakStore
from pulizia.score.chain import Chain


def work_through(
    chain: Chain,
    peaks: PeakStore,
    segments: SegmentStore,
    names: Sequence[str],
    *,
    progress: Callable[[float], None],
    grown: Callable[[], None],
) -> Measures:
    """Measure what a chain gives, and keep the peaks of it and of what each step takes away.

    ``progress`` (0..1) may raise to stop; ``grown`` is called when peaks have become known.
    """
    after = chain.after
    pictures = [PeakPicture(after, peaks)]
    for stage in chain.stages.values():
        taken = DifferenceSource(stage.upstream, stage)
        pictures.append(PeakPicture(taken, peaks, levels_only=True))
    edges = segment_edges(after)
    measured: list[Segment] = []
    for index in range(pictures[0].count):
        stop = min((index + 1) * SEGMENT_FRAMES, after.frames)
        while len(measured) < len(edges) and edges[len(measured)][1] <= stop:
            measured.append(measured_segment(after, *edges[len(measured)], segments))
            progress(len(measured) / len(edges))
        for picture in pictures:
            picture.compute(index)
            progress(len(measured) / len(edges))
        grown()
    measured += [measured_segment(after, *edge, segments) for edge in edges[len(measured) :]]
    return summary(measured, after, names)
