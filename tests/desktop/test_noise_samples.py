# SPDX-License-Identifier: GPL-3.0-or-later
"""Noise that changes: samples given and found, listed, dropped and rejected; sections drawn on the strip and dragged."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile as sf
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QPushButton
from tests.desktop.conftest import Person
from tests.inspection.test_ear import RATE, talk

from pulizia.audio.source import ArraySource
from pulizia.audio.spans import Span
from pulizia.desktop.bench.sample_list import SampleList
from pulizia.measure.noise_profile import NoiseProfile, Told, by_stretch
from pulizia.tools.base import Survey
from pulizia.tools.noise import TOOL
from pulizia.units import powers_to_db

SIZE = 2048


def two_noises() -> tuple[NDArray[np.float64], float]:
    """Talk over a fan, and from a pause on over a noise that is 15 dB louder; and the second of the change."""
    samples, phrases = talk()
    place = next(b for _a, b in phrases if b > 16.0) + 0.1
    rng = np.random.default_rng(4)
    level = np.where(np.arange(len(samples)) < place * RATE, 10 ** (-60 / 20), 10 ** (-45 / 20))
    return samples + level * rng.standard_normal(len(samples)), place


def quiet_places(sound: NDArray[np.float64], count: int, first_s: float, last_s: float) -> list[float]:
    """Seconds at which the quietest quarters of a second begin, in order."""
    step = RATE // 4
    powers = [np.mean(sound[n : n + step] ** 2) for n in range(round(first_s * RATE), round(last_s * RATE), step)]
    return sorted(first_s + 0.25 * n for n in np.argsort(powers)[:count])


def level_at(profile: NoiseProfile, second: float) -> float:
    row = profile.at(np.array([round(second * RATE)]))[0]
    return float(powers_to_db(row.sum() * 2.0 / (0.5 * SIZE * SIZE)))


def test_with_the_first_noise_given_the_second_one_is_followed_and_samples_and_sections_are_obeyed() -> None:
    sound, place = two_noises()
    source = ArraySource(sound[None].astype(np.float32), RATE)
    (first,) = quiet_places(sound, 1, 1.0, place - 1.0)
    (second,) = quiet_places(sound, 1, place + 1.0, len(sound) / RATE - 1.0)
    one, other = (Span(round(s * RATE), round((s + 0.25) * RATE)) for s in (first, second))
    nothing = lambda _share: None  # noqa: E731
    followed = by_stretch(source, Told((one,)), SIZE, nothing)
    assert len(followed.edges) == 1
    assert followed.edges[0] / RATE == pytest.approx(place, abs=1.3)
    assert followed.heard[0] == (one,)
    assert level_at(followed, 2.0) == pytest.approx(-60.0, abs=1.5)
    assert level_at(followed, len(sound) / RATE - 2.0) == pytest.approx(-45.0, abs=1.5)
    both = by_stretch(source, Told((one, other)), SIZE, nothing)
    assert both.heard == ((one,), (other,))
    for second_s, level_db in ((2.0, -60.0), (len(sound) / RATE - 2.0, -45.0)):  # what the picture is drawn from
        shown = TOOL.analysis_around(both, Span(round(second_s * RATE), round((second_s + 0.1) * RATE)))
        assert len(shown.rows) == 1
        assert level_at(shown, 0.0) == pytest.approx(level_db, abs=1.5)
    refused = by_stretch(source, Told((one,), followed.heard[1]), SIZE, nothing)
    assert not any(a.overlaps(b.start, b.stop) for a in refused.heard[1] for b in followed.heard[1])
    ends = (Span(0, 5 * RATE), Span(5 * RATE, source.frames))
    assert by_stretch(source, Told((one,), (), ends), SIZE, nothing).edges == (5 * RATE,)


@pytest.fixture
def talking(person: Person, tmp_path: Path) -> tuple[Person, list[float], float]:
    sound, place = two_noises()
    path = tmp_path / "two.wav"
    sf.write(path, sound, RATE, subtype="PCM_24")
    person.open(path)
    places = quiet_places(sound, 1, 1.0, place - 1.0) + quiet_places(sound, 1, place + 1.0, len(sound) / RATE - 1.0)
    return person, places, place


def samples_of(person: Person) -> SampleList:
    made = person.body.samples
    assert made is not None
    return made


def crosses(person: Person) -> list[QPushButton]:
    return [b for b in samples_of(person).findChildren(QPushButton) if b.text() == "\u00d7" and b.isVisible()]


@pytest.mark.slow
def test_samples_are_added_dropped_and_rejected_and_sections_dragged(
    talking: tuple[Person, list[float], float],
) -> None:
    person, places, place = talking
    session = person.window.session
    for at in places:
        person.mark(at, at + 0.25)
        person.key(Qt.Key.Key_N)
    step = session.step
    assert step is not None
    assert len(step.settings.profile_spans_s) == 2
    assert len(session.recording.score) == 1

    def found() -> Survey | None:
        known = session.surveys.of(session.chain.stages[session.step.id])
        return known.survey if known is not None else None

    person.until(lambda: found() is not None and len(crosses(person)) == 2)
    assert [s.by_hand for s in found().samples] == [True, True]
    assert len(found().edges) == 1

    score = person.window.bench.score
    row = score.plan.row_box(0).center().y()
    start = QPointF(person.at_time(score, found().edges[0] / RATE).x(), row)
    person.drag(score, start, QPointF(person.at_time(score, place - 3.0).x(), row))
    person.settle()
    (first, second) = session.step.settings.sections_s
    assert first[1] == second[0] == pytest.approx(place - 3.0, abs=0.3)
    person.until(lambda: found() is not None)
    assert found().edges[0] / RATE == pytest.approx(place - 3.0, abs=0.3)
    edges_of = person.window.session.repairs.edges_of
    assert len(edges_of(session.step, None)) == 1
    assert edges_of(session.step.with_settings(following="one"), None) == ()  # one profile has no sections
    (again,) = (b for b in samples_of(person).findChildren(QPushButton) if b.text() == "Find sections")
    person.click(again)
    assert session.step.settings.sections_s == ()
    person.until(lambda: found() is not None and len(crosses(person)) == 2)

    person.click(crosses(person)[0])
    assert len(session.step.settings.profile_spans_s) == 1
    person.until(lambda: found() is not None and len(found().samples) > 1)
    found_ones = [s for s in found().samples if not s.by_hand]
    person.until(lambda: len(crosses(person)) == len(found().samples))
    person.click(crosses(person)[0])
    (rejected,) = session.step.settings.rejected_spans_s
    assert rejected[0] == pytest.approx(found_ones[0].start / RATE, abs=0.01)
    person.until(lambda: found() is not None)
    assert not any(s.start / RATE < rejected[1] and s.stop / RATE > rejected[0] for s in found().samples)
    person.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert session.step.settings.rejected_spans_s == ()
