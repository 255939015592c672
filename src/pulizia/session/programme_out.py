# SPDX-License-Identifier: GPL-3.0-or-later
"""A programme as a file: rendered as it sounds, or brought to the project's target and measured again. No Qt."""

from __future__ import annotations

from pathlib import Path

from pulizia.delivery.deliver import Delivered, Said, check_output, deliver, write_source
from pulizia.delivery.deliverable import Deliverable, kind_of_path
from pulizia.delivery.normalise import State
from pulizia.errors import PuliziaError
from pulizia.media.broadcast import Broadcast, Loudness
from pulizia.media.write import write_text
from pulizia.project.clips import Programme
from pulizia.project.programme_sound import ProgrammeSound
from pulizia.report.loudness_report import report_html
from pulizia.session.assembly_desk import AssemblyDesk
from pulizia.session.jobs import Job
from pulizia.session.room import Room
from pulizia.units import format_number
from pulizia.words import tr


def said_of(programme: Programme) -> Said:
    """What travels in a programme's files: its name, its markers and its start time."""
    seconds = programme.start_frame / programme.picture_rate
    start = Broadcast(description=programme.name, frames_since_midnight=round(seconds * programme.rate))
    return Said(markers=programme.markers, broadcast=start)


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

    def deliver(self, path: Path) -> None:
        """Bring the programme to the project's target, write it, measure the file, and put its report beside it."""
        target = self._room.target
        if target is None:
            self._room.say(tr("Choose a target in Delivery first."), bad=True)
            return
        found = self._ready(path)
        if found is None:
            return
        programme, sound = found
        names = self._desk.names

        def work(job: Job) -> Delivered:
            sound.prepare(lambda share: job.progress(0.2 * share))
            done = deliver(
                sound.after, target, path, wanted=Deliverable(kind=kind_of_path(path)), names=names, said=said_of(programme),
                progress=lambda share, _what: job.progress(0.2 + 0.8 * share),
            )  # fmt: skip
            steps = tuple(
                f"{step.tool.title}: {step.tool.caption(step.settings)}" for step in programme.steps if step.enabled
            )
            write_text(path.with_suffix(".html"), report_html(done, steps))
            return done

        def told(done: Delivered) -> None:
            over = next((v for v in done.verdicts if v.state is not State.WITHIN), None)
            level = format_number(done.verified.integrated_lufs)
            words = (
                tr(
                    "{name}: {level} LUFS, within every limit of {target}.",
                    name=path.name,
                    level=level,
                    target=target.title,
                )
                if over is None
                else tr("{name}: {limit} {verdict}.", name=path.name, limit=over.name, verdict=over.words)
            )
            self._room.say(words + self._silent(sound), bad=over is not None)

        self._room.job(work, tr("Delivering {name}", name=programme.name), told)

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
