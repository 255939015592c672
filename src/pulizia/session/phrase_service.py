# SPDX-License-Identifier: GPL-3.0-or-later
"""Going and selecting by phrases and pauses of the recording on the bench. No Qt."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from pulizia.audio.spans import Span
from pulizia.session.core import SessionCore
from pulizia.session.jobs import SOON
from pulizia.session.speech_service import SpeechService
from pulizia.words import tr


class PhraseService:
    """Listens to the recording when it is first asked, and answers at once from then on."""

    def __init__(self, session: SessionCore, speech: SpeechService) -> None:
        self._session, self._speech = session, speech

    def _heard(self, then: Callable[[], None]) -> tuple[Span, ...] | None:
        """The phrases, once the recording has been listened to; otherwise ``then`` is called when it has."""
        recording = self._session.recording
        if recording is None or recording.id not in self._session.document.media:
            return None
        found = self._speech.of(recording.id)
        if found is not None:
            return found.phrases
        self._session.say(tr("Listening for speech. The selection follows at once."))
        wanted = recording.id

        def heard() -> None:
            self._session.say("")  # which takes the sentence away
            if self._session.current_id == wanted:
                then()

        self._speech.listen(wanted, SOON, heard)
        return None

    def select_at(self, frame: int | None = None) -> None:
        """Select the phrase at a frame or at the playhead; in a pause, the pause. The playhead goes to its start."""
        phrases = self._heard(lambda: self.select_at(frame))
        if phrases is None or self._session.recording is None:
            return
        at = self._session.transport.position if frame is None else frame
        places = [*phrases, *pauses_between(phrases, self._session.recording.frames)]
        self._choose(next((s for s in places if s.start <= at < s.stop), None))

    def go_phrase(self, direction: int) -> None:
        """Select the next (1) or previous (-1) phrase, counted from the selection or the playhead."""
        phrases = self._heard(lambda: self.go_phrase(direction))
        if phrases is not None and not self._choose(self._beside(phrases, direction)):
            self._session.say(tr("There is no further phrase."))

    def go_pause(self, direction: int) -> None:
        """Select the next (1) or previous (-1) pause."""
        phrases = self._heard(lambda: self.go_pause(direction))
        if phrases is None or self._session.recording is None:
            return
        pauses = pauses_between(phrases, self._session.recording.frames)
        if not self._choose(self._beside(pauses, direction)):
            self._session.say(tr("There is no further pause."))

    def _beside(self, places: Sequence[Span], direction: int) -> Span | None:
        selection = self._session.selection
        here = selection.span.start if selection is not None else self._session.transport.position
        if direction > 0:
            # from a playhead at rest, a place that begins there counts too
            return next((s for s in places if s.start > here or (selection is None and s.start == here)), None)
        return next((s for s in reversed(places) if s.start < here), None)

    def _choose(self, span: Span | None) -> bool:
        if span is None:
            return False
        self._session.select(span.start, span.stop)
        if not self._session.transport.is_playing:
            self._session.seek(span.start)
        self._session.events.shown.emit(span.start, span.stop)
        return True


def pauses_between(phrases: Sequence[Span], frames: int) -> list[Span]:
    """What lies before, between and behind phrases that are in order."""
    edges = [0, *(edge for s in phrases for edge in (s.start, s.stop)), frames]
    return [Span(a, b) for a, b in zip(edges[::2], edges[1::2], strict=True) if b > a]
