# SPDX-License-Identifier: GPL-3.0-or-later
"""Markers of the recording on the bench: add, rename, remove, go to, and take in or out as a list."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path

from pulizia.audio.markers import Marker, as_label_list, from_label_list
from pulizia.delivery.deliver import check_output, write_source
from pulizia.delivery.deliverable import Deliverable
from pulizia.delivery.metadata import Metadata
from pulizia.errors import PuliziaError
from pulizia.media.open import open_media
from pulizia.media.write import write_text
from pulizia.session.core import SessionCore
from pulizia.session.jobs import Job
from pulizia.words import plural, tr

LARGEST_LIST_BYTES = 16 << 20


class MarkerService:
    """The part of the session that deals with markers."""

    def __init__(self, session: SessionCore) -> None:
        self.session = session

    @property
    def all(self) -> tuple[Marker, ...]:
        """Markers of the recording on the bench, by time."""
        recording = self.session.recording
        return recording.markers if recording is not None else ()

    def add(self, name: str = "") -> Marker | None:
        """Set a marker at the play head, or at the start of what is marked."""
        recording, selection = self.session.recording, self.session.selection
        if recording is None:
            return None
        playing = self.session.transport.is_playing
        frame = selection.span.start if selection and not playing else self.session.transport.position
        if any(m.frame == frame for m in self.all):
            self.session.say(tr("There is a marker here already."))
            return None
        marker = Marker(frame, name or self._next_name())
        self._set((*self.all, marker), tr("Add a marker"))
        return marker

    def rename(self, marker: Marker, name: str) -> None:
        """Give a marker another name."""
        changed = (replace(m, name=name) if m == marker else m for m in self.all)
        self._set(changed, tr("Rename a marker"))

    def remove(self, marker: Marker) -> None:
        """Take a marker away."""
        self._set((m for m in self.all if m != marker), tr("Remove a marker"))

    def go(self, direction: int) -> None:
        """Move the play head to the next (1) or previous (-1) marker."""
        here = self.session.transport.position
        if direction > 0:
            found = next((m for m in self.all if m.frame > here), None)
        else:
            found = next((m for m in reversed(self.all) if m.frame < here), None)
        if found is None:
            self.session.say(
                tr("There is no further marker.") if self.all else tr("There are no markers yet. Set one with M.")
            )
            return
        self.session.seek(found.frame)

    def between(self, first: float, last: float) -> tuple[Marker, ...]:
        """Markers from a frame to another, and the one after them."""
        markers = self.all
        low = bisect_left(markers, first, key=lambda m: m.frame)
        high = bisect_right(markers, last, key=lambda m: m.frame)
        return markers[low : high + 1]

    def near(self, frame: float, reach: float) -> Marker | None:
        """The marker closest to a frame, within ``reach`` frames."""
        markers = self.all
        at = bisect_left(markers, frame, key=lambda m: m.frame)
        found = min(markers[max(0, at - 1) : at + 1], key=lambda m: abs(m.frame - frame), default=None)
        return found if found is not None and abs(found.frame - frame) <= reach else None

    def export(self, path: Path) -> None:
        """Write the markers as a labelled text list, or the worked sound as WAV with cue points."""
        recording, chain = self.session.recording, self.session.chain
        if recording is None or chain is None:
            return
        markers, words = (
            self.all,
            plural("1 marker written to {name}.", "{n} markers written to {name}.", len(self.all), name=path.name),
        )
        if path.suffix.lower() == ".wav":

            def work(job: Job) -> None:
                check_output(path, inputs=[recording.path], overwrite=False)
                write_source(
                    chain.after,
                    path,
                    Deliverable(sample_format="float32"),
                    job.progress,
                    metadata=Metadata(markers=markers),
                )

            self.session.job(work, tr("Writing {name}", name=path.name), lambda _none: self.session.say(words))
            return
        try:
            write_text(path, as_label_list(markers, recording.rate))
        except PuliziaError as error:
            self.session.say(str(error), bad=True)
        else:
            self.session.say(words)

    def take_in(self, path: Path) -> None:
        """Add the markers of a text list, or the cue points of a WAV file."""
        recording = self.session.recording
        if recording is None:
            return

        def done(found: list[Marker]) -> None:
            before = len(self.all)
            self._set((*self.all, *found), tr("Import markers of {name}", name=path.name))
            self.session.say(
                plural(
                    "1 marker imported from {name}.",
                    "{n} markers imported from {name}.",
                    len(self.all) - before,
                    name=path.name,
                )
            )

        def failed(sentence: str) -> None:
            self.session.say(tr("{name} was not imported. {sentence}", name=path.name, sentence=sentence), bad=True)

        self.session.job(
            lambda _job: self._read(path, recording.rate), tr("Reading {name}", name=path.name), done, failed
        )

    def _read(self, path: Path, rate: int) -> list[Marker]:
        if path.suffix.lower() in (".wav", ".rf64", ".bwf"):
            media = open_media(path)
            scale = rate / media.source.rate
            return [m.moved(scale) for m in media.markers]
        try:
            if path.stat().st_size > LARGEST_LIST_BYTES:
                message = tr("It is too large for a list of markers. Choose another file.")
                raise PuliziaError(message)
            text = path.read_text(encoding="utf-8-sig")
        except (OSError, UnicodeDecodeError) as error:
            message = tr("It cannot be read as text. Choose a text list or a WAV file.")
            raise PuliziaError(message) from error
        return from_label_list(text, rate)

    def _next_name(self) -> str:
        names = {m.name for m in self.all}
        number = len(names) + 1
        while f"Marker {number}" in names:
            number += 1
        return tr("Marker {number}", number=number)

    def _set(self, markers: Iterable[Marker], what: str) -> None:
        if self.session.recording is not None:
            self.session.document.set_markers(self.session.recording.id, markers, what)
