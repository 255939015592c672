# SPDX-License-Identifier: GPL-3.0-or-later
"""A programme rendered as it sounds: whole, in stems, or its clips. No Qt."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from pulizia.delivery.deliver import check_output, cut_words, write_source
from pulizia.delivery.deliverable import Deliverable
from pulizia.errors import PuliziaError
from pulizia.media.broadcast import Loudness
from pulizia.project.clips import Programme
from pulizia.project.programme_sound import ProgrammeSound
from pulizia.session.assembly_service import AssemblyService
from pulizia.session.core import SessionCore
from pulizia.session.jobs import Job
from pulizia.session.programme_pieces import Opened, Piece, clip_pieces, reel_pieces, stem_pieces, whole_piece
from pulizia.words import plural, tr


class ProgrammeOut:
    """Writes the programme of the assembly in the background, as 24-bit WAV."""

    def __init__(self, session: SessionCore, service: AssemblyService) -> None:
        self._session, self._service = session, service

    def render(self, path: Path) -> None:
        """Write the programme with its markers and start time."""
        found = self._ready()
        if found is not None:
            self._write(
                found,
                lambda: [whole_piece(*found)],
                lambda _name: path,
                tr("Rendered to {name}.", name=path.name),
                overwrite=True,
            )

    def render_stems(self, folder: Path) -> None:
        """Write each stem: as long as the programme, with its start time."""
        found = self._ready()
        if found is not None:
            self._write(found, lambda: stem_pieces(*found), lambda name: folder / f"{name}.wav", "", overwrite=False)

    def render_reels(self, folder: Path) -> None:
        """Write each reel with its own start time."""
        found = self._ready()
        if found is not None:
            self._write(found, lambda: reel_pieces(*found), lambda name: folder / f"{name}.wav", "", overwrite=False)

    def render_clips(self, folder: Path, *, handles_s: float, joined: bool, alone: bool) -> None:
        """Write each clip, or the clips of each lane in one file; ``alone`` lets steps learn from each clip by itself."""
        found = self._ready()
        if found is None:
            return
        document = self._session.document
        known: dict[str, Opened] = {
            r.id: (document.media[r.id].source, r.score) for r in document.project.recordings if r.id in document.media
        }
        opened = known.get if alone else None

        def pieces() -> list[Piece]:
            return clip_pieces(*found, handles_s=handles_s, joined=joined, opened=opened)

        self._write(found, pieces, lambda name: folder / f"{name}.wav", "", overwrite=False)

    def _write(
        self,
        found: tuple[Programme, ProgrammeSound],
        pieces: Callable[[], list[Piece]],
        path_of: Callable[[str], Path],
        words: str,
        *,
        overwrite: bool,
    ) -> None:
        programme, sound = found
        inputs = [r.path for r in self._session.document.project.recordings]

        def work(job: Job) -> tuple[int, int, Path]:
            sound.prepare(lambda share: job.progress(0.3 * share))
            made = [(path_of(piece.name), piece) for piece in pieces()]
            if not made:
                message = tr("There is nothing to write: every clip is off or silent.")
                raise PuliziaError(message)
            for path, _ in made:
                check_output(path, inputs=inputs, overwrite=overwrite)
            cut = 0
            for n, (path, piece) in enumerate(made):

                def told(share: float, _words: str = "", n: int = n) -> None:
                    job.progress(0.3 + 0.7 * (n + share) / len(made))

                wanted = Deliverable(sample_format="int24")
                cut += write_source(piece.source, path, wanted, told, metadata=piece.metadata, loudness=Loudness())
            return len(made), cut, made[0][0].parent

        def done(result: tuple[int, int, Path]) -> None:
            count, cut, folder = result
            told = words or plural(
                "1 file rendered to {folder}.", "{n} files rendered to {folder}.", count, folder=folder
            )
            self._session.say(
                " ".join(part for part in (told, cut_words(cut), self._silent(sound)) if part), bad=bool(cut)
            )

        self._session.job(work, tr("Rendering {name}", name=programme.name), done)

    def _ready(self) -> tuple[Programme, ProgrammeSound] | None:
        """The programme and its sound; None when it holds nothing, which has been said."""
        programme, sound = self._service.programme, self._service.sound
        if programme is None or sound is None:
            self._session.say(tr("The programme holds no clips. Add recordings to it first."), bad=True)
            return None
        return programme, sound

    @staticmethod
    def _silent(sound: ProgrammeSound) -> str:
        if not sound.silent:
            return ""
        return tr("Silent, because their files are missing: {names}.", names=", ".join(sound.silent))
