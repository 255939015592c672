# SPDX-License-Identifier: GPL-3.0-or-later
"""Hearing a cut again and again with a run-up, and the programme with and without the last edit. No Qt."""

from __future__ import annotations

from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.project.model import Project
from pulizia.project.programme_edits import cuts
from pulizia.score.chain import Chain
from pulizia.session.assembly_service import AssemblyService
from pulizia.session.core import SessionCore
from pulizia.units import format_time, seconds_to_frames
from pulizia.words import tr, translated

RUN_UP_S, RUN_OUT_S = 2.0, 1.5


class CutListening:
    """What helps to judge an edit by ear."""

    def __init__(self, session: SessionCore, assembly: AssemblyService) -> None:
        self._session, self._assembly = session, assembly

    def loop_cut(self) -> None:
        """Loop over the cut nearest to the playhead, or over the selected section, with a run-up; again ends the loop."""
        session, programme = self._session, self._assembly.programme
        if programme is None:
            return
        if session.transport.loop is not None:
            session.transport.loop = None
            session.events.playing.emit()
            return
        here, span = session.transport.position, self._assembly.span
        # a section that an edit has left beyond the end is none any more
        places = (span.start, span.stop) if span is not None and span.start < programme.frames else ()
        if not places:
            found = cuts(programme)
            if not found:
                return
            nearest = min(found, key=lambda f: abs(f - here))
            places = (nearest, nearest)
        before, behind = (seconds_to_frames(s, programme.rate) for s in (RUN_UP_S, RUN_OUT_S))
        loop = Span(max(0, places[0] - before), min(programme.frames, places[1] + behind))
        session.transport.stop()
        session.seek(loop.start)
        session.transport.loop = loop
        session.transport.play()
        session.events.playing.emit()
        session.say(tr("Looping over the cut at {at}.", at=format_time(places[0] / programme.rate, 2)))

    # -- with and without the last edit

    def toggle_last_edit(self) -> None:
        """Hear the programme as it was before the last edit, or as it is now; the next edit ends it."""
        history = self._session.document.history
        if self._assembly.instead is not None:
            self._assembly.instead = None
            self._session.say(tr("You hear the programme as it is now."))
        else:
            project, label = history.before_last, history.undo_label
            source = self._sound_in(project) if project is not None else None
            if source is None or label is None:
                self._session.say(tr("There is no edit to compare with."), bad=True)
                return
            self._assembly.instead = source
            self._session.say(tr("You hear the programme before the last edit: {edit}.", edit=translated(label)))
        self._session.sync()
        self._session.events.listening.emit()

    def _sound_in(self, project: Project) -> Source | None:
        """The programme as it sounded in an earlier project; None when it was not there or held no clips."""
        document, wanted = self._session.document, self._assembly.subject_id
        programme = next((p for p in project.programmes if p.id == wanted), None)
        if programme is None or not programme.frames:
            return None
        scores = {r.id: r.score for r in project.recordings}

        def source(recording_id: str) -> Source | None:
            now, media = document.chain_or_none(recording_id), document.media.get(recording_id)
            if media is None or recording_id not in scores:
                return None
            if now is not None and document.project.recording(recording_id).score == scores[recording_id]:
                return now.after
            made = Chain(
                media.source, scores[recording_id], document.cache, document.analyses, document.open_source, now
            )
            return made.after

        return document.sounds.put_together(programme, source).after
