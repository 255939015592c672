# SPDX-License-Identifier: GPL-3.0-or-later
"""Measures of all recordings, before and after, kept up to date in the background. No Qt."""

from __future__ import annotations

from collections.abc import Callable

from pulizia.audio.source import Source
from pulizia.measure.loudness import Measures, measure
from pulizia.measure.overview import PeakStore
from pulizia.score.chain import Chain
from pulizia.session.document import Document
from pulizia.session.jobs import LATER, Job, JobPool, Post
from pulizia.session.work_through import work_through
from pulizia.words import tr

LARGEST_MATCH_DB = 40.0
MOST_CURVE_BYTES = 48 << 20  # of loudness over time, for all recordings together
SETTLE_S = 0.2  # a measure after an edit waits this long for the next edit


class MeasureDesk:
    """Asks for measures, keeps them by the content they belong to, and tells when one is there.

    ``measured()`` is called on the interface's thread for every new measure, ``grown()`` while the
    pass over a worked recording makes peaks, ``failed(sentence)`` when measuring is impossible.
    """

    def __init__(
        self, document: Document, peaks: PeakStore, pool: JobPool, post: Post, *,
        measured: Callable[[], None], grown: Callable[[], None], failed: Callable[[str], None],
    ) -> None:  # fmt: skip
        self._document, self._peaks, self._pool, self._post = document, peaks, pool, post
        self._measured, self._grown, self._failed = measured, grown, failed
        self._known: dict[str, Measures] = {}
        self._wanted: dict[str, str] = {}  # what is being measured: place, key
        self._match_db: dict[str, float] = {}

    def forget(self) -> None:
        """Another project: nothing known belongs to it."""
        self._known.clear()

    def of(self, what: str, recording_id: str | None) -> Measures | None:
        """Measures of a programme "before" or "after", when they are known and current."""
        programme = self._programme(recording_id, what)
        return None if programme is None else self._known.get(programme.key)

    def match_gain_db(self, recording_id: str) -> float:
        """Gain on After that makes it as loud as Before; the last known one until both are measured."""
        before, after = self.of("before", recording_id), self.of("after", recording_id)
        if before and after and before.integrated_lufs and after.integrated_lufs:
            gain_db = before.integrated_lufs - after.integrated_lufs
            self._match_db[recording_id] = max(-LARGEST_MATCH_DB, min(LARGEST_MATCH_DB, gain_db))
        return self._match_db.get(recording_id, 0.0)

    def want(self, recording_id: str | None) -> None:
        """Measure before and after in the background, unless they are known."""
        chain = self._chain(recording_id)
        if chain is None or recording_id is None:
            return
        for what in ("before", "after"):
            place, source = f"{recording_id}:{what}", self._programme(recording_id, what)
            if source is None or source.key in self._known or self._wanted.get(place) == source.key:
                continue
            self._wanted[place] = source.key
            self._measure(chain, source, what, place, recording_id)

    def _programme(self, recording_id: str | None, what: str) -> Source | None:
        known = any(r.id == recording_id for r in self._document.project.recordings)
        return self._document.programme(recording_id, what) if known and recording_id else None

    def _chain(self, recording_id: str | None) -> Chain | None:
        known = any(r.id == recording_id for r in self._document.project.recordings)
        return self._document.chain(recording_id) if known and recording_id else None

    def _measure(self, chain: Chain, source: Source, what: str, place: str, recording_id: str) -> None:
        names = self._document.media[recording_id].channel_names
        segments = self._document.segments

        def work(job: Job) -> Measures:
            if what == "before" or not chain.stages:
                return measure(source, segments, job.progress, names=names, workers=1)
            if job.cancelled_within(SETTLE_S):
                job.progress(0.0)
            return work_through(
                chain, source, self._peaks, segments, names, progress=job.progress,
                grown=lambda: self._post(self._grown),
            )  # fmt: skip

        def done(measures: Measures) -> None:
            self._known[source.key] = measures
            held = sum(m.nbytes for m in self._known.values())
            while held > MOST_CURVE_BYTES and len(self._known) > 8:
                held -= self._known.pop(next(iter(self._known))).nbytes
            self._wanted.pop(place, None)
            self._measured()

        def failed(sentence: str) -> None:
            self._wanted.pop(place, None)
            self._failed(sentence)

        self._pool.submit(
            work, title=tr("Measuring"), priority=LATER, slot=f"measure:{place}", on_done=done, on_error=failed
        )
