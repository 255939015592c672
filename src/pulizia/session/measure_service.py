# SPDX-License-Identifier: GPL-3.0-or-later
"""Measures of all recordings, before and after, kept up to date in the background. No Qt."""

from __future__ import annotations

from collections.abc import Callable

from pulizia.audio.source import Source, made_key
from pulizia.measure.loudness import Measures, measure
from pulizia.measure.overview import PeakStore
from pulizia.media.folders import cache_folder
from pulizia.session.document import Document
from pulizia.session.jobs import LATER, Job, JobPool, Post
from pulizia.session.loudness_memory import LoudnessMemory
from pulizia.session.subject import Subject
from pulizia.session.work_through import keep_removed, work_through
from pulizia.words import tr

LARGEST_MATCH_DB = 40.0
MOST_CURVE_BYTES = 48 << 20  # of loudness over time, for all recordings together
SETTLE_S = 0.2  # a measure after an edit waits this long for the next edit


class MeasureService:
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
        self._memory = LoudnessMemory(cache_folder("loudness"))
        self._told: dict[str, float | None] = {}  # loudness by key: of what was measured, now or at another time
        self._to_recall: list[str] = []
        self._recalling = False

    def forget(self) -> None:
        """Another project: nothing known belongs to it."""
        self._known.clear()
        self._told.clear()
        self._to_recall.clear()

    def of(self, what: str, subject_id: str | None) -> Measures | None:
        """Measures of a recording or programme "before" or "after" its steps, when they are known and current."""
        source = self._document.programme(subject_id, what)
        key = made_key(source) if source is not None else None
        return None if key is None else self._known.get(key)

    def loudness_of(self, subject_id: str) -> float | None:
        """Integrated loudness after the steps in LUFS, measured now or before it was opened; None when it is not known."""
        source = self._document.programme(subject_id, "after")
        key = made_key(source) if source is not None else None
        return None if key is None else self._told.get(key)

    def recall(self, subject_id: str) -> None:
        """Look up the loudness that it had when it was measured last; what is as recorded and unknown is measured."""
        self._to_recall.append(subject_id)
        self._recall_next()

    def _recall_next(self) -> None:
        if self._recalling or not self._to_recall:
            return
        ids, self._to_recall = self._to_recall, []
        subjects = [s for s in map(self._document.subject, ids) if s is not None]

        def work(_job: Job) -> list[tuple[float | None] | None]:
            return [self._memory.load(s.after.key, s.names) for s in subjects]

        def done(found: list[tuple[float | None] | None]) -> None:
            self._recalling = False
            for subject, told in zip(subjects, found, strict=True):
                if told is not None:
                    self._told[subject.after.key] = told[0]
                elif subject.after.key == subject.before.key:
                    self.want(subject.id)
            if any(told is not None for told in found):
                self._measured()
            self._recall_next()

        def failed(sentence: str) -> None:
            self._recalling = False
            self._failed(sentence)

        self._recalling = True
        self._pool.submit(work, title=tr("Measuring"), priority=LATER, on_done=done, on_error=failed)

    def match_gain_db(self, subject_id: str) -> float:
        """Gain on After that makes it as loud as Before; the last known one until both are measured."""
        before, after = self.of("before", subject_id), self.of("after", subject_id)
        if before and after and before.integrated_lufs and after.integrated_lufs:
            gain_db = before.integrated_lufs - after.integrated_lufs
            self._match_db[subject_id] = max(-LARGEST_MATCH_DB, min(LARGEST_MATCH_DB, gain_db))
        return self._match_db.get(subject_id, 0.0)

    def want(self, subject_id: str | None) -> None:
        """Measure before and after in the background, unless they are known."""
        subject = self._document.subject(subject_id)
        if subject is None:
            return
        if made_key(subject.before) is None or made_key(subject.after) is None:
            self._want_later(subject)
            return
        for what, source in (("before", subject.before), ("after", subject.after)):
            place = f"{subject.id}:{what}"
            if source.key in self._known or self._wanted.get(place) == source.key:
                continue
            if what == "before" and source.key == subject.after.key:
                continue  # nothing is changed: measured once
            self._wanted[place] = source.key
            self._measure(subject, source, what, place)

    def _want_later(self, subject: Subject) -> None:
        """Make the keys of thousands of clips in the background, and go on with them."""
        sources = subject.before, subject.after

        def done(_keys: object) -> None:
            now = self._document.subject(subject.id)
            if now is not None and (now.before, now.after) == sources:
                self.want(subject.id)
                if self.of("after", subject.id) is not None:
                    self._measured()

        self._pool.submit(
            lambda _job: [source.key for source in sources], title=tr("Measuring"), priority=LATER,
            slot=f"keys:{subject.id}", on_done=done,
        )  # fmt: skip

    def _made(self, job: Job, subject: Subject, source: Source, what: str) -> Measures:
        """Measure, in a worker; what is worked through on the way leaves its peaks."""
        names, sound, chain = subject.names, subject.sound, subject.chain
        segments = self._document.segments
        is_edited = what == "after" and (sound is not None or bool(chain.stages))
        if job.cancelled_within(SETTLE_S if is_edited else 0.0):
            job.progress(0.0)
        if sound is not None:
            sound.prepare(lambda share: job.progress(0.3 * share))
        if what == "before" or (sound is None and not chain.stages):
            return measure(source, segments, job.progress, names=names, workers=1)
        found = work_through(
            chain, source, self._peaks, segments, names, progress=lambda share: job.progress(0.3 + 0.6 * share),
            grown=lambda: self._post(self._grown),
        )  # fmt: skip
        for lane in sound.lanes if sound is not None else ():
            keep_removed(lane.chain, self._peaks, lambda share: job.progress(0.9 + 0.1 * share))
        self._post(self._grown)
        return found

    def _measure(self, subject: Subject, source: Source, what: str, place: str) -> None:
        def work(job: Job) -> Measures:
            measures = self._made(job, subject, source, what)
            self._memory.save(place, source.key, subject.names, measures.integrated_lufs)
            return measures

        def done(measures: Measures) -> None:
            self._known[source.key] = measures
            self._told[source.key] = measures.integrated_lufs
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
