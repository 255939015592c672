# SPDX-License-Identifier: GPL-3.0-or-later
"""Field recordings in the place of camera sound: by start time first, and by what both heard. No Qt."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from pulizia.audio.source import Source
from pulizia.errors import MediaError
from pulizia.measure.line_up import LineUp, line_up
from pulizia.media.facts import media_facts
from pulizia.project.clips import Clip, Programme
from pulizia.project.lined_up import exchanged
from pulizia.project.model import Recording
from pulizia.session.assembly_service import AssemblyService
from pulizia.session.core import SessionCore
from pulizia.session.jobs import Job
from pulizia.session.line_up_service import raw_source, reference_source
from pulizia.words import plural, tr

SLACK_S = 2.0  # clocks of recorders are set by hand


@dataclass(frozen=True, slots=True)
class _Field:
    """A recording of the project that no selected clip hears, and when its file says that it began (0: nothing said)."""

    recording: Recording
    source: Source
    start_s: float


@dataclass(frozen=True, slots=True)
class _Camera:
    """A selected clip, what it hears, and when the file of that says that it began."""

    clip: Clip
    source: Source
    start_s: float

    def overlaps(self, other: _Field, rate: int) -> bool:
        """Whether start times say that the other recording ran while this clip was recorded."""
        if not self.start_s or not other.start_s:
            return False
        first, last = (self.start_s + self.clip.heard_at(f) / rate for f in (self.clip.start, self.clip.stop))
        length = other.recording.frames / other.recording.rate
        return other.start_s <= first + SLACK_S and last <= other.start_s + length + SLACK_S

    def heard_in(self, other: _Field, lie: LineUp) -> bool:
        """Whether the other recording heard the same: for certain, or perhaps, and just when start times say so.

        Takes of one text sound alike, so that the sound alone may leave a doubt.
        """
        if lie.is_same:
            return True
        told = bool(self.start_s and other.start_s)
        return told and lie.perhaps and abs(lie.offset_s - (other.start_s - self.start_s)) <= SLACK_S


class FieldRecordings:
    """Lets selected clips hear other recordings of the project that were made at the same moment."""

    def __init__(self, session: SessionCore, assembly: AssemblyService) -> None:
        self._session, self._assembly = session, assembly

    def use(self) -> None:
        """Match all selected clips, as one entry of history; clips that no other recording covers stay as they are."""
        programme, media = self._assembly.programme, self._session.document.media
        clips = [c for c in self._assembly.clips if not c.tone and c.recording_id in media]
        taken = {c.recording_id for c in clips}
        others = [r for r in self._session.document.project.recordings if r.id not in taken and r.id in media]
        if programme is None or not clips or not others:
            self._session.say(
                tr("Select clips of camera sound, and add the field recordings to the project first."), bad=True
            )
            return
        sound = {r.id: raw_source(self._session, programme, r.id) for r in others}
        heard = [(c, reference_source(self._session, programme, c)) for c in clips]

        def work(job: Job) -> dict[str, Clip]:
            starts = {i: _start_s(media[i].path) for i in (*sound, *taken)}
            fields = [_Field(r, sound[r.id], starts[r.id]) for r in others]
            cameras = [_Camera(c, source, starts[c.recording_id]) for c, source in heard]
            return _matched(cameras, fields, programme.rate, job.progress)

        self._session.job(
            work, tr("Looking for field recordings"), lambda made: self._done(programme, len(clips), made)
        )

    def _done(self, programme: Programme, asked: int, made: dict[str, Clip]) -> None:
        if self._assembly.programme != programme:
            self._session.say(tr("The programme has changed meanwhile. Line the clips up again."), bad=True)
            return
        if made:
            self._assembly.apply(lambda p: _with_clips(p, made), tr("Use field recordings"))
        sentence = plural("1 clip hears a field recording.", "{n} clips hear field recordings.", len(made))
        if left := asked - len(made):
            sentence += " " + plural(
                "For 1 clip none covers its moment.", "For {n} clips none covers their moment.", left
            )
        self._session.say(sentence, bad=not made)


def _matched(
    cameras: Sequence[_Camera], fields: Sequence[_Field], rate: int, progress: Callable[[float], None]
) -> dict[str, Clip]:
    """The clips that found another recording, by identity. Each pair of recordings is listened to once."""
    known: dict[tuple[str, float, float, str], LineUp] = {}
    made: dict[str, Clip] = {}
    for n, camera in enumerate(cameras):
        best = 0.0
        for field in sorted(fields, key=lambda f: not camera.overlaps(f, rate)):
            clip = camera.clip
            key = (clip.recording_id, clip.drift_ppm, clip.shift, field.recording.id)
            if key not in known:
                share = _shares(progress, n, len(cameras))
                known[key] = line_up(camera.source, field.source, share, exactly=False)
            lie = known[key]
            if not camera.heard_in(field, lie) or lie.score <= best:
                continue
            new = exchanged(clip, field.recording, rate, lie.offset_s, lie.drift_ppm, inverted=lie.inverted)
            if new is not None:
                made[clip.id], best = new, lie.score
                if camera.overlaps(field, rate):
                    break  # start time and sound agree
    return made


def _shares(progress: Callable[[float], None], n: int, count: int) -> Callable[[float], None]:
    return lambda share: progress((n + share) / count)


def _start_s(path: Path) -> float:
    try:
        return float(media_facts(path).start or 0)
    except MediaError:  # its sound is in the cache, the file is gone
        return 0.0


def _with_clips(programme: Programme, made: dict[str, Clip]) -> Programme:
    for lane in programme.lanes:
        if any(c.id in made for c in lane.clips):
            programme = programme.with_lane(lane.with_clips(made.get(c.id, c) for c in lane.clips))
    return programme
