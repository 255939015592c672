# SPDX-License-Identifier: GPL-3.0-or-later
"""Makes the peaks of processed sound that somebody looks at: what was asked for last comes first. No Qt."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable

from pulizia.measure.overview import SEGMENT_FRAMES, PeakPicture, PeakSegment
from pulizia.session.jobs import VISIBLE, Job, JobPool
from pulizia.words import tr

FORGOTTEN_S = 3.0  # a picture that others were asked for after, this long, is no longer looked at


class PeakFill:
    """One job that works through the pictures that are looked at, a segment at a time."""

    def __init__(self, pool: JobPool, grown: Callable[[PeakPicture, int, PeakSegment], None]) -> None:
        self._pool, self._grown = pool, grown
        self._lock = threading.Lock()
        self._wanted: dict[str, tuple[float, PeakPicture]] = {}
        self._job: Job | None = None
        self.centre: Callable[[], float] = lambda: 0.0  # the frame that is looked at: nearer segments come first

    def want(self, picture: PeakPicture) -> None:
        """Somebody looks at a picture that is not complete."""
        with self._lock:
            self._wanted[picture.source.key] = time.monotonic(), picture
            idle = self._job is None or self._job.finished.is_set()
        if idle:
            centre = self.centre()
            self._job = self._pool.submit(
                lambda job: self._work(job, centre), title=tr("Drawing the waveform"), priority=VISIBLE,
                on_done=self._done, on_error=self._failed,
            )  # fmt: skip

    def _next(self) -> PeakPicture | None:
        with self._lock:
            newest = max((asked for asked, _ in self._wanted.values()), default=0.0)
            for key, (asked, picture) in list(self._wanted.items()):
                if picture.is_complete or asked < newest - FORGOTTEN_S:
                    del self._wanted[key]
            return max(self._wanted.values(), key=lambda entry: entry[0])[1] if self._wanted else None

    def _work(self, job: Job, centre: float) -> None:
        done: set[tuple[str, int]] = set()
        while (picture := self._next()) is not None:
            key = picture.source.key
            left = [n for n in picture.missing if (key, n) not in done]
            if not left:
                with self._lock:
                    self._wanted.pop(key, None)
                continue
            index = min(left, key=lambda n: abs((n + 0.5) * SEGMENT_FRAMES - centre))
            job.progress(0.0)
            segment = picture.compute(index)
            done.add((key, index))
            self._grown(picture, index, segment)

    def _done(self, _nothing: object) -> None:
        """Something may have been asked for while the last segment was made."""
        self._job = None
        with self._lock:
            waiting = [picture for _, picture in self._wanted.values() if not picture.is_complete]
        if waiting:
            self.want(waiting[-1])

    def _failed(self, _sentence: str) -> None:
        """The step itself says what is wrong with it."""
        self._job = None
        with self._lock:
            self._wanted.clear()
