# SPDX-License-Identifier: GPL-3.0-or-later
"""Opening: sound files, projects, recipes; what is being opened, and stopping it."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable
from pathlib import Path

from pulizia.errors import MediaError, PuliziaError
from pulizia.media.identity import whole_digest
from pulizia.media.open import OpenMedia, open_media
from pulizia.media.write import write_text
from pulizia.project.file import SUFFIX
from pulizia.project.model import Recording
from pulizia.project.moved_files import places_of
from pulizia.score.recipes import read_recipe, recipe_text
from pulizia.session.core import SessionCore
from pulizia.session.jobs import LATER, Job
from pulizia.words import plural, tr

TOGETHER_S = 0.25  # files that open so fast come in one go


class FileService:
    """The part of the session that deals with files."""

    def __init__(self, session: SessionCore) -> None:
        self.session = session
        self.begin_with = ""  # the recording that a project is opened at; "" is the first
        session.document.listen(self._follow_undo)

    def open_paths(self, paths: list[Path]) -> None:
        """Open a project, or add sound files, in the background."""
        sounds = []
        for path in paths:
            if path.suffix.lower() == SUFFIX:
                self.open_project(path)
            elif path.suffix.lower() == ".json":
                self.apply_recipe(path)
            else:
                sounds.append(path)
        if sounds:
            self._add_files(sounds)

    def open_project(self, path: Path) -> None:
        """Open a project in place of the present one."""
        try:
            alone = self.session.document.load(path)
        except PuliziaError as error:
            self.session.say(str(error), bad=True)
            return
        self.after_load()
        if not alone:
            self.session.say(
                tr("{name} is open in another window. This is a copy: save it under another name.", name=path.name),
                bad=True,
            )

    def after_load(self) -> None:
        """Open the media of a project that was just loaded."""
        self.session.transport.stop()
        self.session.forget_measures()
        recordings = self.session.document.project.recordings
        self.session.current_id = None
        ids = [r.id for r in recordings]
        first = self.begin_with if self.begin_with in ids else next(iter(ids), None)
        self.session.choose_recording(first)
        self.session.events.current.emit()
        for recording in recordings:
            self._attach(recording)

    def open_missing(self) -> None:
        """Open the files of recordings that have come without theirs."""
        document = self.session.document
        for recording in document.project.recordings:
            if recording.id not in document.media and recording.id not in document.offline:
                self._attach_or_tell(recording)

    def _follow_undo(self) -> None:
        """Recordings that got another file back play it; what was not open yet is opened."""
        document = self.session.document
        exchanged, document.exchanged = document.exchanged, []
        for recording in exchanged:
            if recording.id in document.media:  # what was said of the other file is no longer so
                self.session.say(tr("{name} plays {path}.", name=recording.name, path=recording.path))
            else:
                self._attach_or_tell(recording)
        if any(recording.id == self.session.current_id for recording in exchanged):
            self.session.events.current.emit()

    def _attach_or_tell(self, recording: Recording) -> None:
        if recording.fingerprint:
            self._attach(recording)
        else:  # a list names it, and it was not found
            self.session.document.mark_offline(
                recording.id, tr("{name} was not found. Relink it to its file.", name=recording.path.name)
            )

    def relink(self, recording_id: str, path: Path) -> None:
        """Use another file for a recording; others that are missing and lie there as well come with it."""
        document = self.session.document
        recording = document.project.recording(recording_id)
        missing = [r for r in document.project.recordings if r.id in document.offline and r.id != recording_id]

        def work(job: Job) -> tuple[OpenMedia, dict[str, OpenMedia]]:
            media = open_media(path, job.progress)
            return media, _found_with(media.path.absolute(), recording, missing, job.progress)

        def done(found: tuple[OpenMedia, dict[str, OpenMedia]]) -> None:
            media, others = found
            others = {i: m for i, m in others.items() if i in document.offline}
            try:
                document.relink(recording_id, media, others)
            except PuliziaError as error:
                self.session.say(str(error), bad=True)
                return
            for relinked_id, its_media in {recording_id: media, **others}.items():
                self._identify(relinked_id, its_media)
            sentence = tr("{name} plays {path}.", name=recording.name, path=media.path)
            if others:
                sentence += " " + plural("1 more was found there.", "{n} more were found there.", len(others))
            self.session.say(sentence)
            self.session.events.current.emit()

        self.session.job(work, tr("Opening {name}", name=path.name), done)

    def remove(self, recording_ids: Iterable[str]) -> None:
        """Take recordings out of the project, and say when clips of a programme are silent without them."""
        document, gone = self.session.document, set(recording_ids)
        silent = {
            p.name: sum(c.recording_id in gone for la in p.lanes for c in la.clips) for p in document.project.programmes
        }
        document.remove_recordings(r.id for r in document.project.recordings if r.id in gone)
        names, count = ", ".join(name for name, clips in silent.items() if clips), sum(silent.values())
        if count:
            self.session.say(
                plural(
                    "1 clip of {names} is silent now: it plays what was removed. Undo brings it back.",
                    "{n} clips of {names} are silent now: they play what was removed. Undo brings it back.",
                    count, names=names,
                ),
                bad=True,
            )  # fmt: skip

    def apply_recipe(self, path: Path) -> None:
        """Apply a recipe file to the recording on the bench."""
        if self.session.recording is None:
            self.session.say(tr("Open a recording first, then apply the recipe to it."), bad=True)
            return
        try:
            recipe = read_recipe(path)
            self.session.document.apply_recipe({self.session.recording.id: recipe})
        except PuliziaError as error:
            self.session.say(str(error), bad=True)

    def _add_files(self, paths: list[Path], *, chosen: bool = False) -> None:
        """Open files in their order, quick ones together; the first that opens comes onto the bench, unless one has."""

        def done(opened: list[OpenMedia | str]) -> None:
            media = [m for m in opened if not isinstance(m, str)]
            self._add(media, chosen=chosen)
            for trouble in (m for m in opened if isinstance(m, str)):
                self.session.say(trouble, bad=True)
            for warning in (m.warning for m in media if m.warning):
                self.session.say(warning)
            if rest := paths[len(opened) :]:
                self._add_files(rest, chosen=chosen or bool(media))

        def failed(sentence: str) -> None:
            self.session.say(sentence, bad=True)
            if paths[1:]:
                self._add_files(paths[1:], chosen=chosen)

        work = lambda job: _opened(paths, job.progress, alone=not chosen)  # noqa: E731
        self.session.job(work, tr("Opening {name}", name=paths[0].name), done, failed, self._stopped)

    def _add(self, media: list[OpenMedia], *, chosen: bool) -> None:
        """Make recordings of opened files; the first comes onto the bench unless another one is there."""
        if not media:
            return
        first = self.session.document.add_media(*media)
        ids = {r.path: r.id for r in self.session.document.project.recordings}
        for recording_id, one in ((ids[m.path.absolute()], m) for m in media):
            self._identify(recording_id, one)
            if chosen:  # what is looked at or played meanwhile stays
                self.session.want_measures(recording_id)
        if not chosen:
            self.session.choose_recording(first)

    def _attach(self, recording: Recording) -> None:
        def failed(sentence: str) -> None:
            self.session.document.mark_offline(recording.id, sentence)
            self.session.say(
                tr("{sentence} Its steps are kept; relink the recording to its file.", sentence=sentence), bad=True
            )

        def done(media: OpenMedia) -> None:
            self.session.document.attach(recording.id, media)
            self._identify(recording.id, media)
            if why := self.session.document.offline.get(recording.id):
                self.session.say(why, bad=True)
            if recording.id == self.session.current_id:
                self.session.events.current.emit()
            else:
                self.session.recall_loudness(recording.id)

        work = lambda job: open_media(recording.path, job.progress)  # noqa: E731
        self.session.job(work, tr("Opening {name}", name=recording.path.name), done, failed, self._stopped)

    def _identify(self, recording_id: str, media: OpenMedia) -> None:
        """Look at every byte of a file, when nothing else is to be done: a quick look does not see every change."""

        def done(digest: str) -> None:
            if why := self.session.document.note_digest(recording_id, media, digest):
                self.session.say(why, bad=True)
                self.session.events.current.emit()

        def work(job: Job) -> str:
            try:
                return whole_digest(media.path, job.progress)
            except OSError as error:
                message = tr("{name} can no longer be read.", name=media.path.name)
                raise MediaError(message) from error

        self.session.pool.submit(
            work, title=tr("Checking files"), priority=LATER, on_done=done, on_error=lambda _text: None
        )

    def _stopped(self) -> None:
        self.session.say(tr("Opening was stopped. Files that were open stay open."))

    def save_recipe(self, path: Path) -> None:
        """Write the score on the bench as a recipe."""
        if self.session.recording is None:
            return
        try:
            write_text(path, recipe_text(path.stem, self.session.recording.score, self.session.recording.rate))
        except PuliziaError as error:
            self.session.say(str(error), bad=True)
        else:
            self.session.say(tr("Saved the recipe {name}.", name=path.name))


def _opened(paths: list[Path], progress: Callable[[float], None], *, alone: bool) -> list[OpenMedia | str]:
    """The first of the files, and those behind it that open at once; of one that cannot be opened the sentence that says why."""
    opened: list[OpenMedia | str] = []
    began = time.monotonic()
    for path in paths[:1] if alone else paths:
        if opened and (time.monotonic() - began > TOGETHER_S or path.suffix.lower() != ".wav"):
            break  # what takes its time does not keep back what is open
        try:
            opened.append(open_media(path, progress))
        except MediaError as error:
            opened.append(str(error))
    return opened


def _found_with(
    new: Path, recording: Recording, missing: Iterable[Recording], progress: Callable[[float], None]
) -> dict[str, OpenMedia]:
    """Files of other recordings where one was found, by identity of the recording: only such as are the same to the sample."""
    found: dict[str, OpenMedia] = {}
    for other in missing:
        for place in places_of(other.path, recording.path, new):
            try:
                media = open_media(place, progress) if place.is_file() else None
            except MediaError:
                continue
            if media is not None and other.fingerprint in (media.fingerprint, ""):  # a list knows a name and no more
                found[other.id] = media
                break
    return found
