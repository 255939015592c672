# SPDX-License-Identifier: GPL-3.0-or-later
"""Edits of speech in the assembly: from phrase to phrase, pauses, breaths, one lane for each voice. No Qt."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Sequence
from dataclasses import replace

from pulizia.audio.spans import Span
from pulizia.measure.speech_spans import REACH_AFTER_S, REACH_BEFORE_S, SpeechSpans, speech_spans
from pulizia.measure.voices import voices_of
from pulizia.project import speech_edits
from pulizia.project.clips import Lane, Programme
from pulizia.session.assembly_service import CROSS_S, AssemblyService
from pulizia.session.core import SessionCore
from pulizia.session.jobs import LATER, SOON, Job
from pulizia.tools import breaths
from pulizia.units import format_number, seconds_to_frames
from pulizia.words import plural, tr

MOST_KEPT = 400
BREATH_REACH_S, BREATH_AROUND_S = 1.0, 9.0  # how far from the playhead a breath is looked for; what is heard around it
BREATH_EDGE_S = 0.02
USUAL_PAUSE_S = 0.6


class SpeechService:
    """Listens to the recordings of the programme in the background, and edits by what it has heard."""

    def __init__(self, session: SessionCore, assembly: AssemblyService) -> None:
        self._session, self._assembly = session, assembly
        self._known: OrderedDict[str, SpeechSpans] = OrderedDict()  # by the content of a file
        self._wanted: set[str] = set()
        session.events.document.connect(lambda: self.want() if assembly.is_open else None)

    # -- listening

    def of(self, recording_id: str) -> SpeechSpans | None:
        """Where a recording speaks, when it has been listened to."""
        media = self._session.document.media.get(recording_id)
        return self._known.get(media.source.key) if media is not None else None

    def want(self) -> None:
        """Listen to all recordings of the programme that are not known yet."""
        programme = self._assembly.programme
        for recording_id in programme.recordings if programme is not None else ():
            self.listen(recording_id, LATER, lambda: None)

    def listen(self, recording_id: str, priority: int, then: Callable[[], None]) -> None:
        """Listen to a recording, unless it is known; ``then`` is called once it is."""
        media = self._session.document.media.get(recording_id)
        if media is None or (media.source.key in self._wanted and priority == LATER):
            return
        key, source = media.source.key, media.source
        if key in self._known:
            return
        self._wanted.add(key)

        def done(found: SpeechSpans) -> None:
            self._wanted.discard(key)
            self._known[key] = found
            while len(self._known) > MOST_KEPT:
                self._known.popitem(last=False)
            self._session.events.surveys.emit()
            then()

        def failed(sentence: str) -> None:
            self._wanted.discard(key)
            self._session.say(sentence, bad=True)

        self._session.pool.submit(
            lambda job: speech_spans(source, job.progress), title=tr("Listening for speech"), priority=priority,
            on_done=done, on_error=failed,
        )  # fmt: skip

    def _when_heard(self, lane: Lane, then: Callable[[], None]) -> bool:
        """Whether the lane has been listened to; otherwise ``then`` is called when it has."""
        missing = [
            i
            for i in dict.fromkeys(c.recording_id for c in lane.clips if not c.tone)
            if self.of(i) is None and i in self._session.document.media
        ]
        if not missing:
            return True
        self._session.say(tr("Listening for speech. The edit follows at once."))
        for recording_id in missing:
            self.listen(recording_id, SOON, lambda: then() if self._is_heard(lane) else None)
        return False

    def _is_heard(self, lane: Lane) -> bool:
        media = self._session.document.media
        return all(self.of(c.recording_id) is not None for c in lane.clips if not c.tone and c.recording_id in media)

    def spans_on(self, lane: Lane, *, guarded: bool = False) -> list[Span]:
        """Phrases of a lane on the programme's clock, as far as they are known; ``guarded`` with their reach."""
        programme = self._assembly.programme
        if programme is None:
            return []
        scaled: dict[str, list[Span]] = {}

        def of(recording_id: str) -> Sequence[Span]:
            if recording_id not in scaled:
                found, media = self.of(recording_id), self._session.document.media.get(recording_id)
                rows = () if found is None else found.guarded if guarded else found.phrases
                scale = programme.rate / media.source.rate if media is not None else 1.0
                scaled[recording_id] = [Span(round(s.start * scale), round(s.stop * scale)) for s in rows]
            return scaled[recording_id]

        return speech_edits.on_lane(lane, of)

    # -- going and selecting

    def go(self, direction: int) -> None:
        """Put the playhead at the beginning of the next (1) or previous (-1) phrase of the chosen lane."""
        lane = self._assembly.lane
        if lane is None or not self._when_heard(lane, lambda: self.go(direction)):
            return
        here = self._session.transport.position
        starts = [s.start for s in self.spans_on(lane)]
        found = [s for s in starts if s > here] if direction > 0 else [s for s in starts if s < here]
        if found:
            self._session.seek(found[0] if direction > 0 else found[-1])
        else:
            self._session.say(tr("There is no further phrase on this lane."))

    def select_phrase(self, frame: int | None = None) -> None:
        """Select the phrase of the chosen lane at a frame, or at the playhead; in a pause, the pause."""
        lane = self._assembly.lane
        if lane is None or not self._when_heard(lane, lambda: self.select_phrase(frame)):
            return
        at = self._session.transport.position if frame is None else frame
        phrases = self.spans_on(lane)
        phrase = next((s for s in phrases if s.start <= at < s.stop), None)
        if phrase is None:
            before = max((s.stop for s in phrases if s.stop <= at), default=0)
            behind = min((s.start for s in phrases if s.start > at), default=lane.frames)
            phrase = Span(before, behind) if behind > before else None
        if phrase is not None:
            self._assembly.select_span(phrase.start, phrase.stop)

    # -- pauses

    def tighten(self, longest_s: float = USUAL_PAUSE_S) -> None:
        """Shorten the pauses of the chosen lane, in the selected section where there is one, to a length."""
        lane, programme = self._assembly.lane, self._assembly.programme
        if lane is None or programme is None or not self._when_heard(lane, lambda: self.tighten(longest_s)):
            return
        least = REACH_BEFORE_S + REACH_AFTER_S
        if longest_s < least:
            self._session.say(
                tr("Pauses keep at least {least} s, so that no word is cut. Choose a longer one.", least=format_number(least, 2)),
                bad=True,
            )  # fmt: skip
            return
        rows, inside = self.spans_on(lane, guarded=True), self._assembly.span
        longest, cross = (seconds_to_frames(s, programme.rate) for s in (longest_s - least, CROSS_S))
        counted: list[int] = []

        def tightened(made: Programme) -> Programme:
            made, count = speech_edits.tighten(made, rows, longest, cross, inside)
            counted.append(count)
            return made

        if self._assembly.apply(tightened, tr("Tighten pauses")):
            self._session.say(
                plural("1 pause shortened.", "{n} pauses shortened.", counted[0])
                if counted[0]
                else tr("No pause is longer than {longest} s.", longest=format_number(longest_s, 2))
            )

    def lengthen(self, by_s: float) -> None:
        """Make the pause at the playhead longer with room tone."""
        lane, programme, here = self._assembly.lane, self._assembly.programme, self._session.transport.position
        if lane is None or programme is None or not self._when_heard(lane, lambda: self.lengthen(by_s)):
            return
        if any(s.start < here < s.stop for s in self.spans_on(lane)):
            self._session.say(tr("The playhead is inside a phrase. Put it into a pause first."), bad=True)
            return
        frames, cross = (seconds_to_frames(s, programme.rate) for s in (by_s, CROSS_S))
        wanted = lane.id
        self._assembly.apply(lambda p: speech_edits.lengthen(p, wanted, here, frames, cross), tr("Lengthen the pause"))

    # -- breaths and voices

    def cut_breath(self) -> None:
        """Let room tone stand in the place of the breath nearest to the playhead on the chosen lane."""
        lane, programme, here = self._assembly.lane, self._assembly.programme, self._session.transport.position
        if lane is None or programme is None:
            return
        reach = seconds_to_frames(BREATH_REACH_S, programme.rate)
        clip = next((c for c in lane.clips if c.start - reach < here < c.stop + reach and not c.tone), None)
        media = self._session.document.media.get(clip.recording_id) if clip is not None else None
        if clip is None or media is None:
            self._session.say(tr("Put the playhead near the breath first."), bad=True)
            return
        source, scale = media.source, media.source.rate / programme.rate
        middle = round(clip.heard_at(here) * scale)
        around, wanted = seconds_to_frames(BREATH_AROUND_S, source.rate), lane.id
        first, last = max(0, middle - around), min(source.frames, middle + around)
        # a breath may lie only where nobody speaks for certain: whatever the settings, words are left alone
        near = seconds_to_frames(BREATH_REACH_S, source.rate)

        def work(_job: Job) -> list[breaths.Breath]:
            return breaths.find(source.read(first, last), first, breaths.BreathsSettings(), source.rate)

        def done(found: list[breaths.Breath]) -> None:
            inside = [b for b in found if b.start < middle + near and middle - near < b.stop]
            breath = min(inside, key=lambda b: abs((b.start + b.stop) / 2 - middle), default=None)
            if breath is None:
                self._session.say(tr("No breath was found near the playhead."), bad=True)
                return
            edge = seconds_to_frames(BREATH_EDGE_S, programme.rate)
            a, b = (round(clip.place_of(f / scale)) for f in (breath.start, breath.stop))
            span = Span(max(clip.start, a - edge), min(clip.stop, b + edge))
            cross = seconds_to_frames(CROSS_S / 2, programme.rate)
            change = lambda p: speech_edits.replace_with_tone(p, wanted, span, cross)  # noqa: E731
            if span.frames and self._assembly.apply(change, tr("Replace the breath")):
                self._session.seek(span.start)

        self._session.job(work, tr("Looking for the breath"), done)

    def checkerboard(self) -> None:
        """Lay the phrases of two voices of the chosen lane onto two lanes, by recording, or by voice in one recording."""
        lane, programme = self._assembly.lane, self._assembly.programme
        if lane is None or programme is None or not self._when_heard(lane, self.checkerboard):
            return
        phrases, wanted = self.spans_on(lane), lane.id
        owners = [self._recording_at(lane, s) for s in phrases]
        different = list(dict.fromkeys(owners))
        names = [tr("{name}, voice {number}", name=lane.name, number=n) for n in (1, 2)]
        if len(different) == 2:
            recordings = {r.id: r.name for r in self._session.document.project.recordings}
            labels = [recordings.get(i, n) for i, n in zip(different, names, strict=True)]
            self._part(wanted, phrases, [different.index(i) for i in owners], labels)
            return
        sound = self._assembly.sound
        if len(different) != 1 or sound is None:
            self._session.say(tr("Choose a lane with clips of one recording, or of two."), bad=True)
            return
        line = next(s.chain.before for s in sound.lanes if s.lane.id == wanted)

        self._session.job(
            lambda job: voices_of(line, phrases, job.progress), tr("Telling voices apart"),
            lambda voices: self._part(wanted, phrases, voices, names),
        )  # fmt: skip

    @staticmethod
    def _recording_at(lane: Lane, span: Span) -> str:
        return next((c.recording_id for c in lane.clips if c.start < span.stop and span.start < c.stop), "")

    def _part(self, lane_id: str, phrases: list[Span], voices: list[int], names: list[str]) -> None:
        change = lambda p: speech_edits.checkerboard(p, lane_id, phrases, voices, names)  # noqa: E731
        if self._assembly.apply(change, tr("Part the voices")):
            self._session.say(tr("The phrases of two voices lie on two lanes."))

    # -- for the mouse

    def word_edges(self, first: float, last: float) -> list[int]:
        """Places in a section of the programme where a cut harms no word: the ends of what is guarded, of all lanes."""
        programme = self._assembly.programme
        if programme is None:
            return []
        window = Span(max(0, round(first)), max(0, round(last)))
        found: set[int] = set()
        for lane in programme.lanes:
            part = [c for c in lane.clips if c.start < window.stop and window.start < c.stop]
            for span in self.spans_on(replace(lane, clips=tuple(part)), guarded=True):
                found |= {span.start, span.stop}
        return sorted(f for f in found if window.start <= f <= window.stop)
