# SPDX-License-Identifier: GPL-3.0-or-later
"""Edits of speech as values: pauses are tightened without a word being touched, tone takes the place of breaths."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from pulizia.audio.source import ArraySource
from pulizia.audio.spans import Span
from pulizia.errors import ProjectError
from pulizia.measure.speech_spans import REACH_AFTER_S, guarded, speech_spans
from pulizia.measure.voices import voices_of
from pulizia.project import programme_edits as edits
from pulizia.project import speech_edits as speech
from pulizia.project.clips import Clip, Lane, Programme

RATE = 48_000
CROSS = 1920


def talk(*clips: Clip, other: tuple[Clip, ...] = ()) -> Programme:
    lanes = (Lane(name="Talk").with_clips(clips), Lane(name="Air", kind="atmosphere").with_clips(other))
    return Programme(name="P", rate=RATE, lanes=lanes)


def clip(start_s: float, inner_s: float, seconds: float, recording: str = "a", **more: object) -> Clip:
    return Clip(
        recording_id=recording,
        start=round(start_s * RATE),
        inner=round(inner_s * RATE),
        frames=round(seconds * RATE),
        **more,
    )


def spans(*pairs: tuple[float, float]) -> list[Span]:
    return [Span(round(a * RATE), round(b * RATE)) for a, b in pairs]


def heard(programme: Programme) -> list[tuple[float, float]]:
    """Sections of the recording that are left, in seconds."""
    return [(c.inner / RATE, (c.inner + c.frames) / RATE) for c in programme.lanes[0].clips if not c.tone]


@given(st.lists(st.tuples(st.floats(0.2, 2.0), st.floats(0.3, 3.0)), min_size=2, max_size=8), st.floats(0.0, 1.0))
def test_tightened_pauses_keep_every_word_whole_and_all_lanes_together(
    talked: list[tuple[float, float]], longest_s: float
) -> None:
    at, phrases = 0.5, []
    for word, pause in talked:
        phrases.append((at, at + word))
        at += word + pause
    words = spans(*phrases)
    programme = talk(clip(0, 0, at + 1.0), other=(clip(0, 0, at + 1.0, "air"),))
    rows = list(guarded(words, RATE, round((at + 1.0) * RATE)))
    made, count = speech.tighten(programme, rows, round(longest_s * RATE), CROSS)
    kept = [(c.inner, c.inner + c.frames) for c in made.lanes[0].clips]
    assert all(any(a <= s.start and s.stop <= b for a, b in kept) for s in words)  # no word is cut
    assert made.lanes[0].frames == made.lanes[1].frames  # the atmosphere under it has moved up as well
    spare = [b.start - a.stop for a, b in pairwise(rows)]
    assert count == sum(s - round(longest_s * RATE) > CROSS for s in spare)


def test_a_longer_pause_and_a_cut_breath_are_room_tone_of_the_same_recording() -> None:
    programme = talk(clip(0, 0, 4.0), clip(4.0, 10.0, 2.0), other=(clip(0, 0, 6.0, "air"),))
    longer = speech.lengthen(programme, programme.lanes[0].id, 2 * RATE, RATE // 2, CROSS)
    assert longer.frames == round(6.5 * RATE)
    tone = next(c for c in longer.lanes[0].clips if c.tone)
    assert (tone.recording_id, tone.start, tone.stop) == ("a", 2 * RATE - CROSS, round(2.5 * RATE) + CROSS)
    assert heard(longer)[0] == (0.0, 2.0)
    assert heard(longer)[1] == (2.0, 4.0)
    breath = Span(RATE, RATE + 12_000)
    replaced = speech.replace_with_tone(programme, programme.lanes[0].id, breath, CROSS)
    assert replaced.frames == programme.frames  # nothing moves
    assert heard(replaced) == [(0.0, 1.0), (1.25, 4.0), (10.0, 12.0)]
    assert replaced.lanes[1] == programme.lanes[1]
    with pytest.raises(ProjectError, match="no clip here"):
        speech.replace_with_tone(programme, programme.lanes[0].id, Span(8 * RATE, 9 * RATE), CROSS)


def test_two_voices_go_to_two_lanes_at_the_places_where_they_were() -> None:
    programme = talk(clip(0, 0, 10.0))
    phrases = spans((0.5, 2.0), (3.0, 4.0), (5.0, 6.0), (7.0, 9.0))
    made = speech.checkerboard(programme, programme.lanes[0].id, phrases, [0, 1, 1, 0], ["Anna", "Bert"])
    assert [lane.name for lane in made.lanes] == ["Anna", "Bert", "Air"]
    assert [(c.start / RATE, c.stop / RATE) for c in made.lanes[1].clips] == [(2.5, 6.5)]
    assert [(c.start / RATE, c.stop / RATE) for c in made.lanes[0].clips] == [(0.0, 2.5), (6.5, 10.0)]
    assert all(c.inner == c.start for lane in made.lanes for c in lane.clips)  # the same sound at the same time
    with pytest.raises(ProjectError, match="one voice"):
        speech.checkerboard(programme, programme.lanes[0].id, phrases, [0, 0, 0, 0], ["A", "B"])


def test_a_clip_slides_between_its_neighbours_and_a_cut_rolls() -> None:
    row = (clip(0, 0, 3.0), clip(3.0, 20.0, 2.0, "b"), clip(5.0, 8.0, 3.0))
    programme = talk(*row)
    slid = edits.slide(programme, row[1].id, RATE).lanes[0].clips
    assert [(c.start / RATE, c.stop / RATE, c.inner / RATE) for c in slid] == [(0, 4, 0), (4, 6, 20), (6, 8, 9)]
    assert edits.slide(edits.slide(programme, row[1].id, -RATE), row[1].id, RATE) == programme
    rolled = edits.roll(programme, row[1].id, "start", 2 * RATE).lanes[0].clips
    assert [(c.start / RATE, c.stop / RATE, c.inner / RATE) for c in rolled[:2]] == [(0, 2, 0), (2, 5, 19)]
    assert edits.roll(edits.roll(programme, row[1].id, "stop", 6 * RATE), row[1].id, "stop", 5 * RATE) == programme
    with pytest.raises(ProjectError, match="Nothing of the clip"):
        edits.slide(programme, row[1].id, -3 * RATE)


def glottal(pitch_hz: float, seconds: float, formants: tuple[float, ...], seed: int) -> np.ndarray:
    """A voiced sound: harmonics of a wavering pitch through resonances."""
    rng = np.random.default_rng(seed)
    t = np.arange(round(seconds * RATE)) / RATE
    hz = pitch_hz * (1 + 0.04 * np.sin(2 * np.pi * (2 + rng.random()) * t + rng.random()))
    phase = 2 * np.pi * np.cumsum(hz) / RATE
    out = np.zeros_like(t)
    for k in range(1, 40):
        gain = sum(1 / (1 + ((k * pitch_hz - f) / 120) ** 2) for f in formants) / k**0.5
        out += gain * np.sin(k * phase)
    return (0.1 * out * np.clip(np.sin(np.pi * t / seconds) * 4, 0, 1)).astype(np.float32)


def test_phrases_are_heard_with_a_reach_and_two_voices_are_told_apart() -> None:
    parts, places, at = [], [], 0.0
    for n, who in enumerate((0, 1, 0, 0, 1, 1, 0, 1)):
        pitch, formants = ((110.0, (500, 1400, 2400)), (215.0, (650, 1800, 2900)))[who]
        sound = glottal(pitch, 1.2, formants, n)
        parts += [np.zeros(RATE, dtype=np.float32), sound]
        places.append((at + 1.0, at + 2.2))
        at += 2.2
    noise = np.random.default_rng(3).normal(0, 10 ** (-65 / 20), round(at * RATE) + RATE).astype(np.float32)
    noise[: round(at * RATE)] += np.concatenate(parts)
    source = ArraySource(noise[None], RATE)
    found = speech_spans(source)
    assert len(found.phrases) == 8
    for span, (start, stop) in zip(found.phrases, places, strict=True):
        assert span.start / RATE == pytest.approx(start, abs=0.12)
        assert span.stop / RATE == pytest.approx(stop, abs=0.12)
    assert all(
        g.stop - s.stop == round(REACH_AFTER_S * RATE) for s, g in zip(found.phrases, found.guarded, strict=True)
    )
    assert voices_of(source, found.phrases) == [0, 1, 0, 0, 1, 1, 0, 1]
    one = [s for s, v in zip(found.phrases, (0, 1, 0, 0, 1, 1, 0, 1), strict=True) if not v]
    assert voices_of(source, [*one, *one]) == [0] * 8


@settings(max_examples=80, deadline=None)
@given(st.integers(1, 64_000), st.integers(1, 30_000), st.sampled_from(["lengthen", "fill", "tone"]))
def test_room_tone_finds_its_place_beside_and_inside_cross_fades(at: int, frames: int, deed: str) -> None:
    row = [
        Clip(recording_id="a", start=0, inner=0, frames=30_000), Clip(recording_id="b", start=20_000, inner=0, frames=20_000),
        Clip(recording_id="a", start=39_000, inner=90_000, frames=3000), Clip(recording_id="b", start=50_000, inner=9000, frames=15_000),
    ]  # fmt: skip
    programme = Programme(name="Talk", rate=RATE, lanes=(Lane(name="One").with_clips(row),))
    lane, at = programme.lanes[0], min(at, 41_000) if deed == "tone" else at  # there is a clip to take it of
    made = {
        "lengthen": lambda: speech.lengthen(programme, lane.id, at, frames, 1920),
        "fill": lambda: edits.fill_gaps(programme, lane.id, cross=1920),
        "tone": lambda: speech.replace_with_tone(programme, lane.id, Span(at, min(at + frames, 64_999)), 1920),
    }[deed]()  # fmt: skip
    assert made.frames == 65_000 + (frames if deed == "lengthen" else 0)
    in_gap = deed == "lengthen" and 42_000 < at < 50_000
    assert any(c.tone for c in made.lanes[0].clips) != in_gap
    if deed != "tone":
        silent = [b.start - a.stop for a, b in pairwise(made.lanes[0].clips) if b.start > a.stop]
        assert silent == ([] if deed == "fill" else [8000 + frames * in_gap])
