# SPDX-License-Identifier: GPL-3.0-or-later
"""Edit lists in the window: opened with their media, written from the programme, a changed cut conformed. No Qt."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from fractions import Fraction
from pathlib import Path

from pulizia.delivery.deliver import check_output, write_source
from pulizia.delivery.deliverable import Deliverable
from pulizia.errors import MediaError, PuliziaError
from pulizia.interchange.assemble import Assembled, assemble
from pulizia.interchange.conform import conform
from pulizia.interchange.conform_match import lengths_of
from pulizia.interchange.conform_rows import Conformed, count_words
from pulizia.interchange.export import Rendered, list_of, losses, write_list
from pulizia.interchange.find_media import MediaFolders
from pulizia.interchange.read import KINDS, read_edit_list
from pulizia.media.broadcast import Loudness
from pulizia.media.facts import MediaFacts, media_facts
from pulizia.media.write import write_bytes
from pulizia.project.clips import Programme
from pulizia.project.model import Recording
from pulizia.session.assembly_service import AssemblyService
from pulizia.session.core import SessionCore
from pulizia.session.file_service import FileService
from pulizia.session.jobs import Job
from pulizia.session.programme_pieces import rendered_clips
from pulizia.words import plural, tr


class ListService:
    """The part of the session that deals with edit lists."""

    def __init__(self, session: SessionCore, files: FileService, assembly: AssemblyService) -> None:
        self._session, self._files, self._assembly = session, files, assembly

    def open(
        self, path: Path, folders: Sequence[Path], done: Callable[[Assembled], None], *, rate: Fraction | None = None,
        drop: bool | None = None, prefer_field: bool = False,
    ) -> None:  # fmt: skip
        """Make a programme of a list and add it with its recordings to the project, as one entry of history."""

        def made(found: Assembled) -> None:
            self._add(found, found.programme, tr("Open {name}", name=path.name))
            self._assembly.choose_programme(found.programme.id)
            missing = len(found.missing)
            words = tr("{name} was opened.", name=path.name)
            if missing:
                words += " " + plural("1 medium is missing and silent.", "{n} media are missing and silent.", missing)
            self._session.say(words, bad=bool(missing))
            done(found)

        self._read(path, folders, made, rate=rate, drop=drop, prefer_field=prefer_field)

    def conform(
        self, path: Path, folders: Sequence[Path], done: Callable[[Assembled, Conformed], None], *, prefer_field: bool = False
    ) -> None:  # fmt: skip
        """Bring the programme of the assembly into the order of a new cut, as one entry of history."""
        old = self._assembly.programme
        if old is None:
            self._session.say(tr("Open the programme that is to be conformed first."), bad=True)
            return

        compared: list[Conformed] = []
        there = self._session.document.project.recordings

        def lengths(found: Assembled) -> dict[str, float]:
            return lengths_of((*there, *found.recordings), old.rate)

        def made(found: Assembled) -> None:
            now = self._assembly.programme
            if now is None or now.id != old.id:
                return
            was_edited = now is not old  # meanwhile
            conformed = conform(now, found.programme, lengths(found)) if was_edited else compared[0]
            self._add(found, conformed.programme, tr("Conform to {name}", name=path.name))
            self._session.say(count_words(conformed))
            done(found, conformed)

        inside = [r.path for r in self._session.document.project.recordings if r.id in self._session.document.media]
        self._read(
            path, [*folders, *inside], made, clock=old.rate, rate=old.picture_rate, drop=old.drop_frame or None,
            prefer_field=prefer_field, starts=old.received.starts if old.received is not None else (),
            behind=lambda found: compared.append(conform(old, found.programme, lengths(found))),
        )  # fmt: skip

    def _read(
        self, path: Path, folders: Sequence[Path], done: Callable[[Assembled], None], *, rate: Fraction | None = None,
        drop: bool | None = None, prefer_field: bool = False, clock: int | None = None,
        starts: tuple[tuple[str, Fraction], ...] = (), behind: Callable[[Assembled], None] = lambda _found: None,
    ) -> None:  # fmt: skip
        """Assemble a list in the background, where ``behind`` is called with it as well; ``done`` on the window's thread."""
        known = self._session.document.project.recordings
        beside = path.with_name(f"{path.stem}-media")

        def extract_to(name: str) -> Path:
            beside.mkdir(parents=True, exist_ok=True)
            return beside / name

        def work(job: Job) -> Assembled:
            found, content = read_edit_list(path, rate=rate, drop=drop, extract_to=extract_to)
            job.progress(0.1)
            places = [*folders, *([beside] if beside.exists() else [])]
            made = assemble(
                found, content, path.name, MediaFolders.of(places), rate=clock, prefer_field=prefer_field, known=known, starts=starts,
                progress=lambda share: job.progress(0.1 + 0.9 * share),
            )  # fmt: skip
            behind(made)
            return made

        self._session.job(work, tr("Opening {name}", name=path.name), done)

    def _add(self, found: Assembled, programme: Programme, what: str) -> None:
        """Recordings and programme in one go; their files are opened behind it."""
        document = self._session.document
        with document.history.one_deed(what):
            document.add_recordings(found.recordings, what)
            document.edit_programme(programme, what)
        self._files.open_missing()

    # -- out

    def losses(self, path: Path, *, rendered: bool) -> tuple[str, ...]:
        """Sentences on what a list of this name cannot carry of the programme."""
        programme = self._assembly.programme
        if programme is None:
            return ()
        recordings = self._session.document.project.recordings
        return losses(programme, KINDS.get(path.suffix.lower(), ""), recordings, rendered=rendered)

    def export(self, path: Path, *, rendered: bool = False, handles_s: float = 2.0) -> None:
        """Write the programme as a list; ``rendered`` writes each clip into a folder beside it and names these files."""
        programme, sound = self._assembly.programme, self._assembly.sound
        if programme is None or sound is None:
            self._session.say(tr("The programme holds no clips. Add recordings to it first."), bad=True)
            return
        recordings = {r.id: r for r in self._session.document.project.recordings}
        inputs = [r.path for r in recordings.values()]
        folder = path.with_name(f"{path.stem}-clips")

        def work(job: Job) -> int:
            check_output(path, inputs=inputs, overwrite=True)
            made: dict[str, Rendered] | None = None
            if rendered:
                sound.prepare(lambda share: job.progress(0.2 * share))
                folder.mkdir(parents=True, exist_ok=True)
                made = {}
                rows = rendered_clips(programme, sound, handles_s=handles_s)
                for n, row in enumerate(rows):
                    target = folder / f"{row.piece.name}.wav"
                    check_output(target, inputs=inputs, overwrite=True)
                    write_source(
                        row.piece.source, target, Deliverable(sample_format="int24"), lambda _share: None, metadata=row.piece.metadata,
                        loudness=Loudness(),
                    )  # fmt: skip
                    source = row.piece.source
                    made[row.clip_id] = Rendered(
                        target.absolute(), row.lead_s, row.seconds, source.rate, source.channels
                    )
                    job.progress(0.2 + 0.7 * (n + 1) / len(rows))
            found = list_of(programme, recordings, facts_or_none, made)
            return write_list(found, path)

        def done(count: int) -> None:
            self._session.say(
                plural("1 event written to {name}.", "{n} events written to {name}.", count, name=path.name)
            )

        self._session.job(work, tr("Writing {name}", name=path.name), done)

    def save_received(self, path: Path) -> None:
        """Write the list that the programme was made of, word for word."""
        programme = self._assembly.programme
        received = programme.received if programme is not None else None
        if received is None or not received.content:
            self._session.say(tr("No edit list is kept with this programme."), bad=True)
            return
        try:
            check_output(path, inputs=[r.path for r in self._session.document.project.recordings], overwrite=True)
            write_bytes(path, received.content)
        except PuliziaError as error:
            self._session.say(str(error), bad=True)
        else:
            self._session.say(tr("Saved as {name}.", name=path.name))


def facts_or_none(recording: Recording) -> MediaFacts | None:
    """What a recording's file says of itself; None when it is not there."""
    try:
        return media_facts(recording.path)
    except MediaError:
        return None
