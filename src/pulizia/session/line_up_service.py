# SPDX-License-Identifier: GPL-3.0-or-later
"""Clips of one moment are lined up by what they hear. No Qt."""

from __future__ import annotations

from pulizia.audio.aligned import AlignedSource
from pulizia.audio.source import Source
from pulizia.measure.line_up import LineUp, line_up
from pulizia.media.pulled_rate import PulledRateSource
from pulizia.project.clips import Clip, Programme
from pulizia.project.lined_up import line_up_clip
from pulizia.session.assembly_service import AssemblyService
from pulizia.session.core import SessionCore
from pulizia.session.jobs import Job
from pulizia.units import format_number
from pulizia.words import tr


class LineUpService:
    """Lines the selected clips up with the one on the highest lane."""

    def __init__(self, session: SessionCore, assembly: AssemblyService) -> None:
        self._session, self._assembly = session, assembly

    def line_up(self) -> None:
        """Listen to the selected clips' recordings and move all but the first, in one step of history."""
        programme = self._assembly.programme
        clips = (
            [c for lane in programme.lanes for c in lane.clips if c.id in self._assembly.clip_ids]
            if programme is not None
            else []
        )
        media = self._session.document.media
        clips = [c for c in clips if not c.tone and c.recording_id in media]
        if programme is None or len({c.recording_id for c in clips}) < 2:
            self._session.say(tr("Select clips of two or more recordings of one moment first."), bad=True)
            return
        first, *others = clips
        sources = {c.id: raw_source(self._session, programme, c.recording_id) for c in clips}
        reference = reference_source(self._session, programme, first)

        def work(job: Job) -> list[tuple[Clip, LineUp]]:
            found = []
            for n, clip in enumerate(others):
                along = lambda part, n=n: job.progress((n + part) / len(others))  # noqa: E731
                found.append((clip, line_up(reference, sources[clip.id], along)))
            return found

        self._session.job(work, tr("Lining up"), lambda found: self._laid(programme, first, found))

    def _laid(self, programme: Programme, first: Clip, found: list[tuple[Clip, LineUp]]) -> None:
        if self._assembly.programme != programme:
            self._session.say(tr("The programme has changed meanwhile. Line the clips up again."), bad=True)
            return
        sure = [(clip, lie) for clip, lie in found if lie.is_same]

        def changed(made: Programme) -> Programme:
            for clip, lie in sure:
                made = line_up_clip(made, first, clip.id, lie.offset_s, lie.drift_ppm, inverted=lie.inverted)
            return made

        if sure and not self._assembly.apply(changed, tr("Line clips up")):
            return
        self._session.say(" ".join(lie_words(clip.name, lie) for clip, lie in found), bad=len(sure) < len(found))


def raw_source(session: SessionCore, programme: Programme, recording_id: str) -> Source:
    """A recording as it came, on the clock of the programme."""
    source: Source = session.document.media[recording_id].source
    return source if source.rate == programme.rate else PulledRateSource(source, programme.rate)


def reference_source(session: SessionCore, programme: Programme, clip: Clip) -> Source:
    """What a clip hears, as it came, on the clock that the clip follows."""
    source = raw_source(session, programme, clip.recording_id)
    return AlignedSource(source, clip.drift_ppm, clip.shift) if clip.drift_ppm or clip.shift else source


def lie_words(name: str, lie: LineUp) -> str:
    """One sentence on a recording that was lined up, or could not be."""
    if lie.perhaps:
        seconds = format_number(lie.offset_s, 3)
        return tr(
            "{name} may have begun {seconds} s later, which is not certain; it was left where it is.",
            name=name,
            seconds=seconds,
        )
    if not lie.is_same:
        return tr("{name} does not seem to have heard the same moment; it was left where it is.", name=name)
    drift = format_number(lie.drift_ppm, 1)
    sentence = tr("{name} is lined up; its clock differs by {drift} ppm.", name=name, drift=drift)
    if lie.inverted:
        sentence = tr("{name} is lined up and inverted; its clock differs by {drift} ppm.", name=name, drift=drift)
    if lie.exact_place < 0.5:
        sentence += " " + tr("Listen to it: the place is not certain.")
    return sentence
