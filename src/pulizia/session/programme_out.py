# SPDX-License-Identifier: GPL-3.0-or-later
"""A programme as a file: rendered as it sounds, or brought to the project's target and measured again. No Qt."""

from __future__ import annotations

from pathlib import Path

from pulizia.delivery.deliver import check_output, write_source
from pulizia.delivery.deliverable import Deliverable, kind_of_path
from pulizia.errors import PuliziaError
from pulizia.media.broadcast import Loudness
from pulizia.project.clips import Programme
from pulizia.project.programme_sound import ProgrammeSound
from pulizia.session.assembly_desk import AssemblyDesk
from pulizia.session.jobs import Job
from pulizia.session.room import Room
from pulizia.session.subject import said_of
from pulizia.words import tr


class ProgrammeOut:
    """Writes the programme of the assembly in the background."""

    def __init__(self, room: Room, desk: AssemblyDesk) -> None:
        self._room, self._desk = room, desk

    def render(self, path: Path) -> None:
        """Write the programme as a 24-bit WAV with its markers and start time."""
        found = self._ready(path)
        if found is None:
            return
        programme, sound = found

        def work(job: Job) -> None:
            sound.prepare(lambda share: job.progress(0.3 * share))

            def told(share: float, _words: str = "") -> None:
                job.progress(0.3 + 0.7 * share)

            wanted = Deliverable(sample_format="int24")
            write_source(sound.after, path, wanted, told, said=said_of(programme), loudness=Loudness())

        sentence = tr("Rendered to {name}.", name=path.name) + self._silent(sound)
        self._room.job(work, tr("Rendering {name}", name=programme.name), lambda _done: self._room.say(sentence))

    def _ready(self, path: Path) -> tuple[Programme, ProgrammeSound] | None:
        """The programme and its sound, when they can be written to this file; otherwise a sentence has been said."""
        programme, sound = self._desk.programme, self._desk.sound
        if programme is None or sound is None:
            self._room.say(tr("The programme holds no clips. Add recordings to it first."), bad=True)
            return None
        try:
            check_output(path, inputs=[r.path for r in self._room.document.project.recordings], overwrite=True)
            kind_of_path(path)
        except PuliziaError as error:
            self._room.say(str(error), bad=True)
            return None
        return programme, sound

    @staticmethod
    def _silent(sound: ProgrammeSound) -> str:
        if not sound.silent:
            return ""
        return " " + tr("Silent, because their files are missing: {names}.", names=", ".join(sound.silent))
