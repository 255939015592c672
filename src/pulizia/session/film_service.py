# SPDX-License-Identifier: GPL-3.0-or-later
"""The picture under the playhead: that of the programme's video, or of the recording that is heard there. No Qt."""

from __future__ import annotations

import threading
from bisect import bisect_right
from collections.abc import Callable
from dataclasses import replace
from fractions import Fraction
from math import ceil, floor
from pathlib import Path

from pulizia.errors import MediaError
from pulizia.media.film import Film, Still
from pulizia.media.open import picture_of
from pulizia.project.clips import Programme
from pulizia.session.assembly_service import AssemblyService
from pulizia.session.core import SessionCore
from pulizia.session.jobs import Job
from pulizia.units import format_number
from pulizia.words import tr

Place = tuple[Path, float]


class FilmService:
    """Decodes on a thread of its own. Where a place is far from the last one its key frame is shown first, then the exact picture."""

    def __init__(self, session: SessionCore, assembly: AssemblyService) -> None:
        self._session, self._assembly = session, assembly
        self.is_shown = False
        self.still: Still | None = None
        self.trouble = ""  # why there is no picture
        self._shown_of: Path | None = None
        self._asked: Place | None = None
        self._wanted: Place | None = None  # what the thread has not yet begun
        self._fresh = threading.Condition()
        self._thread: threading.Thread | None = None
        self._is_closed = False

    # -- what is looked at

    def place(self) -> Place | None:
        """The video and its second for what is heard now; None where nothing has a picture."""
        position, programme = self._session.transport.position, self._assembly.programme
        if self._assembly.is_open and programme is not None:
            if programme.film:
                offset = programme.film_quarters / 4 / programme.picture_rate
                return Path(programme.film), float(Fraction(position, programme.rate) + offset)
            for lane in programme.sounding:
                # asked many times a second: at most two clips of a lane sound at once, so only these are looked at
                behind = bisect_right(lane.clips, position, key=lambda c: c.start)
                for clip in lane.clips[max(0, behind - 2) : behind]:
                    media = self._session.document.media.get(clip.recording_id)
                    if position < clip.stop and clip.enabled and not clip.tone and media is not None:
                        picture = picture_of(media)
                        if picture is not None:
                            return picture, clip.heard_at(position) / programme.rate
            return None
        recording = self._session.recording
        media = self._session.document.media.get(recording.id) if recording is not None else None
        picture = picture_of(media) if media is not None else None
        return None if picture is None or media is None else (picture, position / media.source.rate)

    def follow(self) -> None:
        """Ask for the picture of the playhead; called as often as one likes."""
        if not self.is_shown:
            return
        place = self.place()
        if place == self._asked:
            return
        self._asked = place
        if place is None:
            self._show(None, "")
            return
        if self.still is not None and not self.trouble and self._shown_of == place[0] and self.still.holds(place[1]):
            return
        with self._fresh:
            self._wanted = place
            if self._thread is None:
                self._thread = threading.Thread(target=self._run, name="film", daemon=True)
                self._thread.start()
            self._fresh.notify()

    def _show(self, still: Still | None, trouble: str, path: Path | None = None) -> None:
        self.still, self.trouble, self._shown_of = still, trouble, path
        self._session.events.film.emit()

    def _run(self) -> None:
        film: Film | None = None
        while True:
            with self._fresh:
                while self._wanted is None and not self._is_closed:
                    self._fresh.wait()
                if self._is_closed or self._wanted is None:
                    break
                (path, seconds), self._wanted = self._wanted, None
            try:
                if film is None or film.path != path:
                    if film is not None:
                        film.close()
                        film = None
                    film = Film(path)
                if film.is_far(seconds):
                    self._give(film.near(seconds), path)
                    if self._is_elsewhere():
                        continue
                self._give(film.at(seconds), path)
            except MediaError as error:
                sentence = str(error)
                self._session.post(lambda sentence=sentence, path=path: self._show(None, sentence, path))  # type: ignore[misc]
        if film is not None:
            film.close()

    def _is_elsewhere(self) -> bool:
        with self._fresh:
            return self._wanted is not None

    def _give(self, still: Still | None, path: Path) -> None:
        trouble = "" if still is not None else tr("{name} shows no picture here.", name=path.name)
        self._session.post(lambda: self._show(still, trouble, path))

    def close(self) -> None:
        """Let the thread end."""
        with self._fresh:
            self._is_closed = True
            self._fresh.notify()
        if self._thread is not None:
            self._thread.join(timeout=5.0)

    def step(self, count: int) -> None:
        """Put the playhead onto the beginning of another picture, ``count`` frames away."""
        programme, position = self._assembly.programme, self._session.transport.position
        if programme is not None:
            length = programme.rate / programme.picture_rate
            number = floor(position / length) + count if count > 0 else ceil(position / length) + count
            self._session.seek(max(0, ceil(number * length)))

    # -- the programme's video

    def choose(self, path: Path) -> None:
        """Look at this video with the programme; its first picture lies at the programme's start."""
        what = tr("Choose the video")

        def looked(_job: Job) -> None:
            Film(path).close()  # a sentence when it is none; a slow disk does not hold the window

        def good(_nothing: None) -> None:
            self._change(lambda p: replace(p, film=str(path.absolute()), film_quarters=0), what)

        self._session.job(looked, what, good)

    def remove(self) -> None:
        """Look at no video with the programme."""
        self._change(lambda p: replace(p, film="", film_quarters=0), tr("Remove the video"))

    def shift(self, quarters: int) -> None:
        """Let the video come earlier (positive) or later by quarters of its picture's frames."""
        self._change(
            lambda p: replace(p, film_quarters=p.film_quarters + quarters) if p.film else p, tr("Move the video")
        )

    def _change(self, change: Callable[[Programme], Programme], what: str) -> None:
        if self._assembly.apply(change, what):
            self._asked = None
            self.follow()

    @staticmethod
    def offset_words(programme: Programme) -> str:
        """How the video lies against the programme."""
        if not programme.film_quarters:
            return tr("in place")
        count = format_number(programme.film_quarters / 4, 2, plus=True)
        return tr("offset {count} f", count=count)
