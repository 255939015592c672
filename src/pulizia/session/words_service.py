# SPDX-License-Identifier: GPL-3.0-or-later
"""The same words in other takes: found, heard in their place, and laid there, fitted moment by moment. No Qt."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from pulizia.audio.source import Source, read_padded
from pulizia.audio.spans import Span
from pulizia.errors import AnalysisError
from pulizia.measure.same_words import LONGEST_S, SHORTEST_S, Described, SameWords, described, find_words, says_enough
from pulizia.project.clips import Clip, Programme
from pulizia.project.speech_edits import Taken, borrow
from pulizia.project.warped import checked
from pulizia.session.assembly_service import AssemblyService
from pulizia.session.core import SessionCore
from pulizia.session.jobs import Job
from pulizia.units import format_number, seconds_to_frames
from pulizia.words import plural, tr

CROSS_S = 0.02
RUN_UP_S, RUN_OUT_S = 1.2, 0.8  # of hearing words in their place
SMOOTH_S, EVERY_S = 0.08, 0.1  # of how the words are fitted: a warping jumps from step to step, a voice does not
MOST_GAIN_DB = 15.0
MOST_KEPT_BYTES = 200 << 20  # of what recordings sound like: 37 MB an hour


@dataclass(frozen=True, slots=True)
class OtherTake:
    """Words of another take that can stand in the place of a section.

    Attributes
    ----------
    start_s, stop_s : where they are in their recording
    likeness : 0..1
    longer : by which share of the section's length they are longer when they are not fitted
    """

    taken: Taken
    start_s: float
    stop_s: float
    likeness: float
    longer: float
    gain_db: float


@dataclass(frozen=True, slots=True)
class OtherTakes:
    """A section of a lane, the clip that it lies in, and what was found for it, the likest first."""

    programme_id: str
    lane_id: str
    span: Span
    clip: Clip
    takes: tuple[OtherTake, ...]


class WordsService:
    """Looks for the selected words in all recordings of the project."""

    def __init__(self, session: SessionCore, assembly: AssemblyService) -> None:
        self._session, self._assembly = session, assembly
        self._known: OrderedDict[str, Described] = OrderedDict()  # by the content of a file

    def look(self, done: Callable[[OtherTakes], None]) -> None:
        """Look for the selected section of the chosen lane, or the selected clip; ``done`` gets what was found."""
        programme, asked = self._assembly.programme, self._asked()
        if programme is None or asked is None:
            return
        lane_id, span, clip = asked
        document, rate = self._session.document, programme.rate
        media = {r.id: document.media[r.id].source for r in document.project.recordings if r.id in document.media}
        sounds = {i: chain.after for i in media if (chain := document.chain_or_none(i)) is not None}
        names = {r.id: r.name for r in document.project.recordings}
        source = media[clip.recording_id]
        scale = source.rate / rate
        passage = Span(*(max(0, round(clip.heard_at(f) * scale)) for f in (span.start, span.stop)))

        if not SHORTEST_S <= passage.frames / source.rate <= LONGEST_S:
            self._say_length()  # a fitted clip, or one on another clock, hears more or less of its recording
            return

        def work(job: Job) -> list[OtherTake]:
            found: list[OtherTake] = []
            mine = self._described(source, lambda share: job.progress(share / (len(media) + 1)))
            if not says_enough(mine, passage):
                message = tr("Hardly anything is said in this section. Select words.")
                raise AnalysisError(message)
            loud = _level_db(sounds.get(clip.recording_id, source), passage)
            for n, (recording_id, other) in enumerate(media.items(), 1):
                part = lambda share, n=n: job.progress((n + share) / (len(media) + 1))  # noqa: E731
                theirs = mine if other.key == source.key else self._described(other, part)
                for same in find_words(mine, passage, theirs):
                    level = _level_db(sounds.get(recording_id, other), Span(same.start, same.stop))
                    channel = clip.channel if clip.channel is not None and clip.channel < other.channels else None
                    taken = Taken(recording_id, names[recording_id], _fitted(same, span, other.rate, rate), channel)
                    found.append(_told(same, taken, other.rate, span.frames / rate, loud - level))
            return sorted(found, key=lambda take: -take.likeness)

        def told(found: list[OtherTake]) -> None:
            if found:
                self._session.say(plural("Found 1 other take.", "Found {n} other takes.", len(found)))
                done(OtherTakes(programme.id, lane_id, span, clip, tuple(found)))
            else:
                self._session.say(tr("These words were not found in the recordings of the project."), bad=True)

        self._session.job(work, tr("Looking for these words"), told)

    def hear(self, found: OtherTakes, number: int) -> None:
        """Hear a take in its place, with a run-up, without laying it there."""
        programme = self._now(found)
        if programme is None:
            return
        made = self._with(programme, found, number)
        sound = self._session.document.sounds.put_together(
            made, lambda i: chain.after if (chain := self._session.document.chain_or_none(i)) is not None else None
        )
        before, behind = (seconds_to_frames(s, programme.rate) for s in (RUN_UP_S, RUN_OUT_S))
        self._session.transport.stop()
        self._assembly.instead = sound.after
        self._session.sync()
        self._session.transport.play(max(0, found.span.start - before), min(programme.frames, found.span.stop + behind))
        self._session.events.listening.emit()

    def end_hearing(self) -> None:
        """Hear the programme as it is again."""
        if self._assembly.instead is not None:
            self._session.transport.stop()
            self._assembly.instead = None
            self._session.sync()
            self._session.events.listening.emit()

    def put(self, found: OtherTakes, number: int) -> None:
        """Lay a take into its place, as one entry of history."""
        self.end_hearing()
        programme = self._now(found)
        if programme is None:
            return
        take = found.takes[number]
        if self._assembly.apply(lambda p: self._with(p, found, number), tr("Take words from another take")):
            self._session.seek(max(0, found.span.start - seconds_to_frames(RUN_UP_S, programme.rate)))
            sentence = tr(
                "The words are those of {name} now, fitted to the length of what was there.", name=take.taken.name
            )
            self._session.say(sentence)

    def _asked(self) -> tuple[str, Span, Clip] | None:
        """The lane, the section and its clip; a refusal is said."""
        programme, lane, span = self._assembly.programme, self._assembly.lane, self._assembly.span
        clips = self._assembly.clips
        if programme is None or lane is None:
            return None
        if span is None and clips:
            span, lane = clips[0].span, programme.lane_of(clips[0].id)
        clip = None
        if span is not None:
            clip = next((c for c in lane.clips if c.start <= span.start and span.stop <= c.stop and not c.tone), None)
        if span is None or clip is None or clip.recording_id not in self._session.document.media:
            self._session.say(
                tr("Select the words inside one clip first: drag over them, or press W for the phrase."), bad=True
            )
            return None
        if not SHORTEST_S <= span.frames / programme.rate <= LONGEST_S:
            self._say_length()
            return None
        return lane.id, span, clip

    def _say_length(self) -> None:
        words = tr("Words can be looked for that last {least} to {most} s. Select such a section.",
                   least=format_number(SHORTEST_S, 2), most=format_number(LONGEST_S, 0))  # fmt: skip
        self._session.say(words, bad=True)

    def _now(self, found: OtherTakes) -> Programme | None:
        programme = self._assembly.programme
        lanes = programme.lanes if programme is not None and programme.id == found.programme_id else ()
        if programme is None or not any(la.id == found.lane_id and found.clip in la.clips for la in lanes):
            self._session.say(tr("The programme has changed meanwhile. Look for the words again."), bad=True)
            return None
        return programme

    @staticmethod
    def _with(programme: Programme, found: OtherTakes, number: int) -> Programme:
        take = found.takes[number]
        cross = seconds_to_frames(CROSS_S, programme.rate)
        return borrow(programme, found.lane_id, found.span, take.taken, cross, take.gain_db)

    def _described(self, source: Source, progress: Callable[[float], None]) -> Described:
        known = self._known.get(source.key)
        if known is None:
            known = self._known[source.key] = described(source, progress)
            while len(self._known) > 1 and sum(d.figures.nbytes for d in self._known.values()) > MOST_KEPT_BYTES:
                self._known.popitem(last=False)
        return known


def _told(same: SameWords, taken: Taken, rate: int, seconds: float, gain_db: float) -> OtherTake:
    return OtherTake(
        taken, same.start / rate, same.stop / rate, same.likeness, (same.stop - same.start) / rate / seconds - 1.0,
        float(np.clip(round(gain_db, 1), -MOST_GAIN_DB, MOST_GAIN_DB)),
    )  # fmt: skip


def _level_db(source: Source, span: Span) -> float:
    power = float(np.square(read_padded(source, span.start, span.stop), dtype=np.float64).mean())
    return 10.0 * float(np.log10(max(power, 1e-14)))


def _fitted(same: SameWords, span: Span, their_rate: int, rate: int) -> tuple[tuple[int, int], ...]:
    """Anchors of :class:`pulizia.project.warped.WarpedSource` on the programme's clock, from a way that was smoothed."""
    way = np.array(same.path)
    length, theirs = span.frames / rate, (same.stop - same.start) / their_rate
    asked, found = way[:, 0] * length / max(way[-1, 0], 1e-9), way[:, 1] * theirs / max(way[-1, 1], 1e-9)
    grid = np.linspace(0.0, length, max(2, round(length / EVERY_S) + 1))
    fine = np.linspace(0.0, length, 200)
    later = np.interp(fine, asked, found) - fine * theirs / length  # than if all of it were as much slower
    width = max(1, round(SMOOTH_S / length * 200))
    padded = np.pad(later, width, mode="edge")
    smooth = np.convolve(padded, np.ones(2 * width + 1) / (2 * width + 1), "valid")
    smooth -= np.interp(fine, [0.0, length], [smooth[0], smooth[-1]])  # both ends stay where they are
    at = np.interp(grid, fine, smooth) + grid * theirs / length
    first = round(same.start / their_rate * rate)
    pairs = [
        (first + round(a * rate), first + round(b * rate)) for a, b in zip(grid.tolist(), at.tolist(), strict=True)
    ]
    pairs[-1] = (first + span.frames, pairs[-1][1])
    try:
        return checked(pairs)
    except ValueError:  # smoothing has bent a short way too far: the same speed everywhere, at most twice or half
        return checked((pairs[0], pairs[-1]))
