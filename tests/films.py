# SPDX-License-Identifier: GPL-3.0-or-later
"""Picture files as a camera writes them."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from pathlib import Path

import av
import numpy as np

from pulizia.audio.samples import Samples


def write_film(
    path: Path, sound: Samples, rate: int, moments_ms: Sequence[int], metadata: dict[str, str] | None = None
) -> None:
    """A picture of changing grey at these moments, with the sound as AAC beside it."""
    layout = {1: "mono", 2: "stereo"}[len(sound)]
    with av.open(str(path), "w") as out:
        out.metadata.update(metadata or {})
        picture = out.add_stream("mpeg4", rate=1000)
        picture.width, picture.height, picture.pix_fmt = 64, 48, "yuv420p"
        picture.codec_context.time_base = Fraction(1, 1000)
        heard = out.add_stream("aac", rate=rate)
        heard.codec_context.layout, heard.codec_context.format = layout, "fltp"
        for n, at in enumerate(moments_ms):
            frame = av.VideoFrame.from_ndarray(np.full((48, 64, 3), 10 * n % 250, np.uint8), format="rgb24")
            frame.pts, frame.time_base = int(at), Fraction(1, 1000)
            for packet in picture.encode(frame):
                out.mux(packet)
        for start in range(0, sound.shape[1], 1024):
            block = np.ascontiguousarray(sound[:, start : start + 1024])
            frame = av.AudioFrame.from_ndarray(block, format="fltp", layout=layout)
            frame.sample_rate, frame.pts, frame.time_base = rate, start, Fraction(1, rate)
            for packet in heard.encode(frame):
                out.mux(packet)
        for stream in (picture, heard):
            for packet in stream.encode(None):
                out.mux(packet)
