# SPDX-License-Identifier: GPL-3.0-or-later
"""Where phrases lie, and how far around them nothing may be cut: word ends die away longer than they seem to."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.dsp.moments import merged, runs
from pulizia.measure.speech_activity import FRAMES_PER_S, speech_between

PHRASE_GAP_S, SHORTEST_S = 0.3, 0.12
REACH_BEFORE_S, REACH_AFTER_S = 0.05, 0.3  # of a phrase, in which nothing is cut


@dataclass(frozen=True, slots=True)
class SpeechSpans:
    """Phrases of a source in frames, in order; ``guarded`` reach further, up to the next one at most."""

    phrases: tuple[Span, ...]
    guarded: tuple[Span, ...]


def speech_spans(source: Source, progress: Callable[[float], None] = lambda _: None) -> SpeechSpans:
    """Listen to a whole source. ``progress`` (0..1) may raise to stop."""
    found = speech_between(source, 0, source.frames, progress)
    steps = merged(runs(found.active), round(PHRASE_GAP_S * FRAMES_PER_S))
    # a phrase holds something that is speech for certain
    steps = [(a, b) for a, b in steps if found.core[a:b].any() and b - a >= SHORTEST_S * FRAMES_PER_S]
    rate = source.rate
    phrases = [Span(a * rate // FRAMES_PER_S, min(source.frames, b * rate // FRAMES_PER_S)) for a, b in steps]
    return SpeechSpans(tuple(phrases), guarded(phrases, rate, source.frames))


def guarded(phrases: list[Span], rate: int, frames: int) -> tuple[Span, ...]:
    """Phrases with the reach in which nothing is cut."""
    made = []
    for n, span in enumerate(phrases):
        before = phrases[n - 1].stop if n else 0
        behind = phrases[n + 1].start if n + 1 < len(phrases) else frames
        start = max(before, span.start - round(REACH_BEFORE_S * rate))
        made.append(Span(min(start, span.start), max(span.stop, min(behind, span.stop + round(REACH_AFTER_S * rate)))))
    return tuple(made)
