# SPDX-License-Identifier: GPL-3.0-or-later
"""Peak pictures of the sources that are looked at, filled by background jobs."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial

from PySide6.QtWidgets import QWidget

from pulizia.audio.source import DifferenceSource, Source
from pulizia.audio.timeline import MixSource, TimelineSource
from pulizia.desktop.turns import update_in_turn
from pulizia.measure.overview import BIN_FRAMES, PeakPicture, PeakSegment, sketched_segment
from pulizia.score.chain import Chain, Stage
from pulizia.session.jobs import FIRST, LATER, Job
from pulizia.session.peak_fill import PeakFill
from pulizia.session.session import Session
from pulizia.words import tr

MOST_PICTURES = 24
SKETCHED_BINS = 1400  # looked at for a first impression: about two per pixel


class Pictures:
    """Peak pictures of the sources that are looked at, filled by background jobs."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self._pictures: dict[str, PeakPicture] = {}
        self._whole: dict[str, PeakPicture] = {}  # key of a file: the last whole picture of it after its steps
        self._views: list[QWidget] = []
        self.fill = PeakFill(session.pool, lambda *made: self._post(lambda: self._grown(*made)))
        session.events.pictures.connect(self.take_grown)
        session.events.measures.connect(self.take_grown)

    def watch(self, view: QWidget) -> None:
        """Repaint this view whenever a picture grows."""
        self._views.append(view)

    def of_chain(self, chain: Chain) -> PeakPicture:
        """The picture of a recording after its steps; where it is still being made, the last one that was whole."""
        picture = self.of(chain.after)
        if chain.after is chain.before:
            return picture
        file = chain.before.key
        if picture.is_complete:
            self._whole.pop(file, None)
            self._whole[file] = picture
            while len(self._whole) > MOST_PICTURES:
                self._whole.pop(next(iter(self._whole)))
            return picture
        if picture.stand_in is None:
            picture.stand_in = self._whole.get(file) or self.of(chain.before)
        self.fill.want(picture)
        return picture

    def of(self, source: Source, *, levels_only: bool = False) -> PeakPicture:
        """The picture of a source, as far as it is known."""
        slow = is_of_programme(source)
        key = f"{_name_of(source) if slow else source.key}{levels_only}"
        picture = self._pictures.pop(key, None)
        if picture is not None:
            self._pictures[key] = picture  # the one asked for longest ago leaves first
        else:
            picture = PeakPicture(source, self.session.peaks, levels_only=levels_only)
            self._pictures[key] = picture
            recording = self.session.recording
            most = MOST_PICTURES + (len(recording.score) if recording else 0)
            while len(self._pictures) > most:
                self._pictures.pop(next(iter(self._pictures)))
            if slow:
                self._take_later(picture)
            elif (missing := picture.take_known()) and not levels_only:
                self._fill(picture, missing)
        return picture

    def _take_later(self, picture: PeakPicture) -> None:
        """Let a worker look for what is known of a programme: that of thousands of clips takes long to name."""
        store, wanted = self.session.peaks, list(picture.missing)

        def done(found: list[PeakSegment | None]) -> None:
            for index, segment in zip(wanted, found, strict=True):
                if segment is not None:
                    picture.put(index, segment)
            self._repaint()
            if picture.missing and not picture.levels_only:
                self._fill(picture, picture.missing)

        self.session.pool.submit(
            lambda _job: [store.get(picture.segment_key(index)) for index in wanted], title=tr("Drawing the waveform"),
            priority=LATER, slot=f"known:{id(picture)}", on_done=done,
        )  # fmt: skip

    def _fill(self, picture: PeakPicture, missing: list[int]) -> None:
        """Fill the picture of a file, or of a source that no other work passes through."""
        files = {media.source.key for media in self.session.document.media.values()}
        if not is_of_programme(picture.source) and picture.source.key in files:
            work = partial(self._fill_from_file, picture, missing)
            slot = f"peaks:{picture.source.key}"
            self.session.pool.submit(work, title=tr("Drawing the waveform"), priority=FIRST, slot=slot)
        elif isinstance(picture.source, DifferenceSource):
            work = partial(self._fill_slowly, picture, missing)
            self.session.pool.submit(work, title=tr("Drawing the waveform"), priority=LATER, slot="peaks:removed")

    def _fill_from_file(self, picture: PeakPicture, missing: list[int], job: Job) -> None:
        source, store = picture.source, self.session.peaks
        known = store.load(source.key, source.channels, -(-source.frames // BIN_FRAMES))
        if known is not None:
            for index, segment in enumerate(known):
                store.put(picture.segment_key(index), segment)
            self._post(partial(self._take, picture))
            return
        if len(missing) > 2:
            looked_at = max(2, SKETCHED_BINS // picture.count)
            for index in missing:
                self._post(partial(picture.put, index, sketched_segment(source, index, looked_at), sketch=True))
                job.progress(0.0)
            self._post(self._repaint)
        whole = []
        for count, index in enumerate(missing):
            segment = picture.compute(index)
            whole.append(segment)
            self._post(partial(self._grown, picture, index, segment))
            job.progress(count / len(missing))
        if len(whole) == picture.count:
            store.save(source.key, whole)

    def _fill_slowly(self, picture: PeakPicture, missing: list[int], job: Job) -> None:
        for count, index in enumerate(missing):
            self._post(partial(self._grown, picture, index, picture.compute(index)))
            job.progress(count / len(missing))

    def take_grown(self) -> None:
        """A pass over the worked recording has made more peaks: take and show them."""
        changed = False
        for picture in self._pictures.values():
            before = picture.version
            if picture.is_complete:
                continue
            if is_of_programme(picture.source):
                self._take_later(picture)
            else:
                picture.take_known()
            changed = changed or picture.version != before
        if changed:
            self._repaint()

    def _post(self, call: Callable[[], None]) -> None:
        self.session.post(call)

    def _take(self, picture: PeakPicture) -> None:
        picture.take_known()
        self._repaint()

    def _grown(self, picture: PeakPicture, index: int, segment: PeakSegment) -> None:
        picture.put(index, segment)
        self._repaint()

    def _repaint(self) -> None:
        update_in_turn(*self._views)


def is_of_programme(source: Source) -> bool:
    """Whether naming a stretch of it goes through clips on many lanes."""
    return any(isinstance(s, TimelineSource | MixSource) for s in _below(source))


def _below(source: Source) -> Iterator[Source]:
    """A source and those that it is made of, as far as they are steps and what they take away."""
    while True:
        yield source
        if isinstance(source, DifferenceSource):
            source = source.before
        elif isinstance(source, Stage):
            source = source.upstream
        else:
            return


def _name_of(source: Source) -> str:
    """An identity that takes no time, while somebody holds the source."""
    parts = (source.before, source.after) if isinstance(source, DifferenceSource) else (source,)
    return ":".join(str(id(part)) for part in parts)
