"""Peak pictures of the sources that are looked at, filled by background jobs."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtWidgets import QWidget

from pulizia.audio.source import Source
from pulizia.measure.overview import BIN_FRAMES, PeakPicture, PeakSegment, sketched_segment
from pulizia.session.jobs import LATER, SOON, Job
from pulizia.session.studio import Studio


class Pictures:
    """Peak pictures of the sources that are looked at, filled by background jobs."""

    def __init__(self, studio: Studio) -> None:
        self.studio = studio
        self._pictures: dict[str, PeakPicture] = {}
        self._views: list[QWidget] = []

    def watch(self, view: QWidget) -> None:
        """Repaint this view whenever a picture grows."""
        self._views.append(view)

    def of(self, source: Source) -> PeakPicture:
        """The picture of a source, as far as it is known."""
        picture = self._pictures.get(source.key)
        if picture is None:
            picture = PeakPicture(source, self.studio.peaks)
            self._pictures[source.key] = picture
            while len(self._pictures) > 6:
                self._pictures.pop(next(iter(self._pictures)))
            missing = picture.take_known()
            if missing:
                self._fill(picture, missing)
        return picture

    def _fill(self, picture: PeakPicture, missing: list[int]) -> None:
        source = picture.source
        chain = self.studio.chain
        is_file = chain is not None and source.key == chain.before.key
        slot = "peaks:file" if is_file else "peaks:worked"

        def sketch(job: Job) -> None:
            bins = -(-source.frames // BIN_FRAMES)
            known = self.studio.peaks.load(source.key, source.channels, bins) if is_file else None
            if known is not None:
                for index, segment in enumerate(known):
                    self.studio.peaks.put(picture.segment_key(index), segment)
                self._post(lambda: self._take(picture))
                return
            if is_file:
                for index in missing:
                    self._post(partial(picture.put, index, sketched_segment(source, index), sketch=True))
                    job.progress(0.0)
                self._post(self._repaint)
            for count, index in enumerate(missing):
                self._post(partial(self._grown, picture, index, picture.compute(index)))
                job.progress(count / len(missing))
            if is_file:
                self._post(lambda: self._save(picture))

        self.studio.pool.submit(sketch, title="Drawing the waveform", priority=SOON if is_file else LATER, slot=slot)

    def _post(self, call: Callable[[], None]) -> None:
        self.studio.post(call)

    def _take(self, picture: PeakPicture) -> None:
        picture.take_known()
        self._repaint()

    def _grown(self, picture: PeakPicture, index: int, segment: PeakSegment) -> None:
        picture.put(index, segment)
        self._repaint()

    def _save(self, picture: PeakPicture) -> None:
        if (segments := picture.complete) is not None:
            self.studio.pool.submit(
                lambda _job: self.studio.peaks.save(picture.source.key, segments), title="Keeping the waveform", priority=LATER
            )

    def _repaint(self) -> None:
        for view in self._views:
            view.update()
