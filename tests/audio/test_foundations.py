# SPDX-License-Identifier: GPL-3.0-or-later
"""What everything stands on: stretches of frames, sources, markers, units."""

from __future__ import annotations

import itertools
import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from pulizia.audio.layouts import into_two, mask_of
from pulizia.audio.markers import Marker, as_label_list, from_label_list, in_order
from pulizia.audio.source import (
    ArraySource,
    DifferenceSource,
    SpanSource,
    content_key,
    picked,
    read_padded,
)
from pulizia.audio.spans import Span, clipped, edge_weight, normalised, without
from pulizia.delivery.deliverable import Deliverable, prepared
from pulizia.errors import ProjectError
from pulizia.media.cues import cue_chunks, parse_cues
from pulizia.session.heard import Heard
from pulizia.units import (
    db_to_gain,
    format_clock,
    format_number,
    format_time,
    gain_to_db,
    note_name,
    power_to_db,
    powers_to_db,
)

FRAMES = 200
spans = st.lists(
    st.tuples(st.integers(0, FRAMES), st.integers(0, 60)).map(lambda t: Span(t[0], t[0] + t[1])), max_size=6
)


def as_set(given_spans) -> set[int]:
    return {n for s in given_spans for n in range(s.start, s.stop)}


@given(spans)
def test_normalised_spans_hold_the_same_frames_in_order_and_apart(given_spans) -> None:
    made = normalised(given_spans)
    assert as_set(made) == as_set(given_spans)
    assert all(a.stop < b.start for a, b in itertools.pairwise(made))
    assert all(s.frames for s in made)


@given(spans, spans)
def test_holes_take_away_their_frames_and_nothing_else(given_spans, holes) -> None:
    assert as_set(without(normalised(given_spans), normalised(holes))) == as_set(given_spans) - as_set(holes)


@given(spans, st.integers(1, FRAMES))
def test_clipped_spans_lie_inside(given_spans, frames: int) -> None:
    assert as_set(clipped(normalised(given_spans), frames)) == as_set(given_spans) & set(range(frames))


@given(spans, st.integers(0, 30))
def test_the_weight_of_an_edit_is_nought_outside_and_never_jumps(given_spans, fade: int) -> None:
    made = normalised(clipped(given_spans, FRAMES))
    weight = edge_weight(made, 0, FRAMES, fade=fade, frames=FRAMES)
    inside = np.array([n in as_set(made) for n in range(FRAMES)])
    assert not weight[~inside].any()
    assert ((weight >= 0) & (weight <= 1)).all()
    parts = [edge_weight(made, a, a + 50, fade=fade, frames=FRAMES) for a in range(0, FRAMES, 50)]
    assert np.array_equal(np.concatenate(parts), weight)  # however it is divided
    for s in made:
        if fade and s.start > 0 and s.frames > 2 * fade:
            assert np.abs(np.diff(weight[s.start - 1 : s.start + fade])).max() < 2.0 / (fade + 1)


def test_spans_run_forward() -> None:
    with pytest.raises(ValueError, match="5"):
        Span(5, 4)
    with pytest.raises(ValueError, match="-1"):
        Span(-1, 4)


@given(st.integers(-50, 150), st.integers(0, 120))
def test_what_lies_outside_a_recording_is_read_as_silence(start: int, frames: int) -> None:
    sound = np.arange(1, 101, dtype=np.float32)[None]
    made = read_padded(ArraySource(sound, 8000), start, start + frames)
    expected = [sound[0, n] if 0 <= n < 100 else 0.0 for n in range(start, start + frames)]
    assert np.array_equal(made[0], np.array(expected, np.float32))


def test_sources_made_of_sources_read_what_they_say() -> None:
    rng = np.random.default_rng(1)
    two = ArraySource(rng.standard_normal((2, 500)).astype(np.float32), 8000)
    left, right = two.read(0, 500)
    assert np.array_equal(
        picked(two, "left").read(10, 50), np.stack([left, left])[: picked(two, "left").channels, 10:50]
    )
    assert np.abs(picked(two, "mid").read(0, 500)[0] - (left + right) / 2).max() < 1e-6
    assert np.abs(picked(two, "side").read(0, 500)[0] - (left - right) / 2).max() < 1e-6
    part = SpanSource(two, 100, 300)
    assert part.frames == 200
    assert np.array_equal(part.read(5, 20), two.read(105, 120))
    other = ArraySource(two.read(0, 500) * np.float32(0.25), 8000)
    assert np.abs(DifferenceSource(two, other).read(0, 500) - 0.75 * two.read(0, 500)).max() < 1e-6
    assert len({two.key, other.key, part.key, DifferenceSource(two, other).key}) == 4


@pytest.mark.slow
@given(st.lists(st.one_of(st.integers(), st.floats(allow_nan=False), st.text(), st.none(), st.booleans()), max_size=5))
def test_keys_are_alike_for_the_same_and_differ_for_other_parts(parts) -> None:
    assert content_key(*parts) == content_key(*parts)
    assert content_key(*parts, "more") != content_key(*parts)


names = st.text(st.characters(blacklist_categories=("Cs", "Cc", "Zl", "Zp")), max_size=20)


@given(st.lists(st.tuples(st.integers(0, 400_000), names), max_size=8))
def test_markers_survive_the_list_and_the_cue_chunks(rows) -> None:
    markers = in_order([Marker(f, n) for f, n in rows], 400_000)
    back = from_label_list(as_label_list(markers, 48_000), 48_000)
    assert [m.frame for m in back] == [m.frame for m in markers]
    chunks = cue_chunks(markers)
    if markers:
        size = int.from_bytes(chunks[4:8], "little")
        found = parse_cues(chunks[8 : 8 + size], [chunks[8 + size + (size & 1) + 8 :]])
        assert [m.frame for m in found] == [m.frame for m in markers]
        assert all(
            m.name == wanted.name.strip()
            for m, wanted in zip(found, markers, strict=True)
            if wanted.name.strip() and "\0" not in wanted.name
        )


def test_a_line_without_a_time_is_told_with_its_number() -> None:
    with pytest.raises(ProjectError, match="Line 2 of the list has no time"):
        from_label_list("1.0\t1.0\ta\nnever\t\tb\n", 48_000)


@given(st.floats(-120, 40))
def test_levels_and_gains_undo_each_other(level: float) -> None:
    assert gain_to_db(db_to_gain(level)) == pytest.approx(level, abs=1e-9)
    assert power_to_db(db_to_gain(level) ** 2) == pytest.approx(level, abs=1e-9)
    assert powers_to_db(np.array([db_to_gain(level) ** 2]))[0] == pytest.approx(level, abs=1e-9)


@pytest.mark.parametrize(("value", "decimals", "plus", "text"), [
    (-3.04, 1, False, "\u22123.0"), (-0.04, 1, False, "0.0"), (2.0, 0, True, "+2"), (0.0, 1, True, "0.0"), (None, 1, False, "\u2013"),
    (math.inf, 1, False, "\u2013"), (1234.5, 2, False, "1234.50"),
])  # fmt: skip
def test_figures_carry_a_true_minus_and_no_minus_nought(value, decimals: int, plus: bool, text: str) -> None:  # noqa: FBT001
    assert format_number(value, decimals, plus=plus) == text


@pytest.mark.parametrize(
    ("seconds", "decimals", "text"),
    [(0, 0, "0:00"), (59.6, 0, "1:00"), (3599.999, 2, "1:00:00.00"), (75.25, 2, "1:15.25"), (-1, 0, "0:00")],
)
def test_times_carry_over(seconds: float, decimals: int, text: str) -> None:
    assert format_time(seconds, decimals) == text
    assert len(format_clock(seconds)) == 12


@pytest.mark.parametrize(("hz", "name"), [(440.0, "A4"), (261.626, "C4"), (50.0, "G1"), (27.5, "A0")])
def test_notes_are_those_of_equal_temperament(hz: float, name: str) -> None:
    assert note_name(hz).split()[0] == name


C = 10 ** (-3 / 20)  # ITU-R BS.775: centre and surrounds 3 dB down


@pytest.mark.parametrize(
    ("layout", "left", "right"),
    [
        ("L R LFE", (1, 0, 0), (0, 1, 0)),
        ("L R C", (1, 0, C), (0, 1, C)),
        ("L R C LFE", (1, 0, C, 0), (0, 1, C, 0)),
        ("L R Ls Rs", (1, 0, C, 0), (0, 1, 0, C)),
        ("L R C Cs", (1, 0, C, 0.5), (0, 1, C, 0.5)),
        ("L R C Ls Rs", (1, 0, C, C, 0), (0, 1, C, 0, C)),
        ("L R C LFE Ls Rs", (1, 0, C, 0, C, 0), (0, 1, C, 0, 0, C)),
        ("L R C LFE Lb Rb Ls Rs", (1, 0, C, 0, C, 0, C, 0), (0, 1, C, 0, 0, C, 0, C)),
    ],
)
def test_every_loudspeaker_has_its_gain_in_two(layout: str, left: tuple[float, ...], right: tuple[float, ...]) -> None:
    """One table serves listening, deliverables and picks; full scale everywhere stays full scale."""
    names = layout.split()
    weights = into_two(names)
    most = max(sum(left), 1.0)
    assert weights == pytest.approx(np.array([left, right]) / most, abs=1e-9)
    silent = ArraySource(np.zeros((len(names), 8), np.float32), 48_000)
    assert Heard(silent, names=tuple(names)).weights() == pytest.approx(weights, abs=1e-6)
    each = np.eye(len(names), dtype=np.float32)  # a sample of full scale in one channel after the other
    source = ArraySource(each, 48_000)
    stereo = prepared(source, Deliverable(layout="stereo"), names=names)
    mono = prepared(source, Deliverable(layout="mono"), names=names)
    assert stereo.read(0, len(names)) == pytest.approx(weights, abs=1e-6)
    assert mono.read(0, len(names))[0] == pytest.approx(weights.mean(axis=0), abs=1e-6)


def test_the_tracks_of_a_recorder_are_mixed_alike_or_heard_alone() -> None:
    tracks = ArraySource(np.zeros((8, 8), np.float32), 48_000)
    names = ("Boom", "Lav1", "Lav2", "Plant", "5", "6", "7", "8")
    assert Heard(tracks, names=names).weights() == pytest.approx(np.full((2, 8), 8**-0.5))
    alone = Heard(tracks, names=names, only=3).weights()
    assert alone[:, 3].tolist() == [1.0, 1.0]
    assert alone.sum() == 2.0
    assert mask_of(names) == 0
    assert mask_of(("L", "R", "C", "LFE", "Ls", "Rs")) == 0x3F
