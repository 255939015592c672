"""Opening: sound files, projects, recipes; what is being opened, and stopping it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from pulizia.errors import PuliziaError
from pulizia.media.open import OpenMedia, open_media
from pulizia.media.write import write_text
from pulizia.project.file import SUFFIX
from pulizia.project.model import Recording
from pulizia.score.recipes import read_recipe, recipe_text
from pulizia.session.jobs import Job

if TYPE_CHECKING:
    from pulizia.session.studio import Studio


class FileDesk:
    """The part of the studio that deals with files."""

    def __init__(self, studio: Studio) -> None:
        self.studio = studio
        self._stay_on: str | None = None  # the first of several files that are being opened

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
            self.studio.document.load(path)
        except PuliziaError as error:
            self.studio.say(str(error), bad=True)
            return
        self.after_load()

    def after_load(self) -> None:
        """Open the media of a project that was just loaded."""
        self.studio.transport.stop()
        self.studio.forget_measures()
        recordings = self.studio.document.project.recordings
        self.studio.current_id = None
        self.studio.choose_recording(recordings[0].id if recordings else None)
        self.studio.emit("current")
        for recording in recordings:
            self._attach(recording)

    def relink(self, recording_id: str, path: Path) -> None:
        """Use another file for a recording."""

        def done(media: OpenMedia) -> None:
            try:
                self.studio.document.relink(recording_id, media)
            except PuliziaError as error:
                self.studio.say(str(error), bad=True)

        self.studio.job(lambda job: open_media(path, job.progress), f"Opening {path.name}", done)

    def apply_recipe(self, path: Path) -> None:
        """Apply a recipe file to the recording on the bench."""
        if self.studio.recording is None:
            self.studio.say("Open a recording first, then apply the recipe to it.", bad=True)
            return
        try:
            recipe = read_recipe(path)
            self.studio.document.apply_recipe(self.studio.recording.id, recipe)
        except PuliziaError as error:
            self.studio.say(str(error), bad=True)

    def _add_files(self, paths: list[Path]) -> None:
        """Open files one after the other, in their order; the first one comes onto the bench."""
        path, rest = paths[0], paths[1:]

        def done(media: OpenMedia) -> None:
            recording_id = self.studio.document.add_media(media)
            if media.warning:
                self.studio.say(media.warning)
            self.studio.choose_recording(recording_id)
            go_on()

        def failed(sentence: str) -> None:
            self.studio.say(sentence, bad=True)
            go_on()

        def go_on() -> None:
            if rest:
                first = self.studio.current_id
                self._add_files(rest)
                self._stay_on = self._stay_on or first
            elif self._stay_on is not None:
                self.studio.choose_recording(self._stay_on)
                self._stay_on = None

        self.studio.job(lambda job: open_media(path, job.progress), f"Opening {path.name}", done, failed)

    def _attach(self, recording: Recording) -> None:
        def failed(sentence: str) -> None:
            self.studio.document.mark_offline(recording.id, sentence)
            self.studio.say(f"{sentence} The score is kept; relink the recording to its file.", bad=True)

        def done(media: OpenMedia) -> None:
            self.studio.document.attach(recording.id, media)
            if why := self.studio.document.offline.get(recording.id):
                self.studio.say(why, bad=True)
            if recording.id == self.studio.current_id:
                self.studio.emit("current")

        work = lambda job: open_media(recording.path, job.progress)  # noqa: E731
        self.studio.job(work, f"Opening {recording.path.name}", done, failed)

    def stop(self) -> None:
        """Stop whatever is being opened."""
        for job in self.opening:
            job.cancel()
        self._stay_on = None
        self.studio.say("Stopped opening. What was open stays.")
        self.studio.emit("busy")

    @property
    def opening(self) -> list[Job]:
        """Files that are being opened."""
        return [job for job in self.studio.pool.busy if job.title.startswith("Opening")]

    def save_recipe(self, path: Path) -> None:
        """Write the score on the bench as a recipe."""
        if self.studio.recording is None:
            return
        try:
            write_text(path, recipe_text(path.stem, self.studio.recording.score, self.studio.recording.rate))
        except PuliziaError as error:
            self.studio.say(str(error), bad=True)
        else:
            self.studio.say(f"Saved the recipe {path.name}.")
