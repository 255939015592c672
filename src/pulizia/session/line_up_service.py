# SPDX-License-Identifier: GPL-3.0-or-later
"""Clips of one moment are lined up by what they hear. No Qt."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

from pulizia.audio.aligned import AlignedSource
from pulizia.audio.source import Source
from pulizia.errors import MediaError
from pulizia.measure.line_up import LineUp, line_up
from pulizia.media.facts import media_facts
from pulizia.media.pulled_rate import PulledRateSource
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.lined_up import line_up_clip
from pulizia.project.model import Recording
from pulizia.session.assembly_service import AssemblyService, clip_of
from pulizia.session.core import SessionCore
from pulizia.session.jobs import Job
from pulizia.units import format_number
from pulizia.words import tr

MOST_APART_S = 3 * 3600.0  # of start times of one day's work; further apart they are no help
MOST_OF_ONE_MOMENT = 32  # recordings, each with a lane


class LineUpService:
    """Lines the selected clips up with the one on the highest lane."""

    def __init__(self, session: SessionCore, assembly: AssemblyService) -> None:
        self._session, self._assembly = session, assembly

    def lay_on_lanes(self) -> None:
        """Begin a programme with a lane for each recording, at their start times where all have one, and line them up by sound."""
        document = self._session.document
        recordings = [r for r in document.project.recordings if r.id in document.media]
        if len(recordings) < 2:
            self._session.say(tr("Add the other recordings of this moment first."), bad=True)
            return
        if len(recordings) > MOST_OF_ONE_MOMENT:
            message = tr(
                "{count} recordings are open, too many for one moment. Remove those of other moments, or open them in a project of their own.",
                count=len(recordings),
            )
            self._session.say(message, bad=True)
            return
        places = [(document.media[r.id].path, r) for r in recordings]
        self._session.job(
            lambda _job: _later_s(places), tr("Lining up"), lambda later: self._lay_down(recordings, later)
        )

    def _lay_down(self, recordings: Sequence[Recording], later: Sequence[float]) -> None:
        there = {r.id for r in self._session.document.project.recordings}
        if any(r.id not in there for r in recordings):
            self._session.say(tr("The recordings have changed meanwhile. Line them up again."), bad=True)
            return
        self._assembly.new_programme()
        programme = self._assembly.programme
        if programme is None:
            return
        clips = [clip_of(r, programme.rate, round(s * programme.rate)) for r, s in zip(recordings, later, strict=True)]
        lanes = tuple(Lane(name=clip.name, clips=(clip,)) for clip in clips)
        kept = tuple(lane for lane in programme.lanes if lane.kind != "voice")
        if self._assembly.apply(lambda p: replace(p, lanes=(*lanes, *kept)), tr("Recordings on lanes of their own")):
            self._assembly.choose_lane(lanes[0].id)
            self._assembly.select([clip.id for clip in clips])
            self.line_up()

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


def _later_s(recordings: Sequence[tuple[Path, Recording]]) -> list[float]:
    """How much later than the first each recording begins by its start time; all zero where one has none."""
    began: list[Fraction] = []
    for path, recording in recordings:
        try:
            start = media_facts(path).start
        except MediaError:
            start = None
        if not start:
            return [0.0] * len(recordings)
        began.append(start + Fraction(recording.kept.start, recording.rate))
    later = [float(b - min(began)) for b in began]
    return later if max(later) < MOST_APART_S else [0.0] * len(recordings)


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
