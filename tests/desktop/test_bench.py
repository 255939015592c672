# SPDX-License-Identifier: GPL-3.0-or-later
"""The first whole path through the real window, with mouse and keys."""

from __future__ import annotations

import json
import threading
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QApplication
from tests.conftest import voice_in_noise
from tests.desktop.conftest import Person, move

from pulizia.audio.source import DifferenceSource
from pulizia.audio.spans import Span
from pulizia.desktop.bench.time_axis import GUTTER
from pulizia.desktop.ramps import ramp_table
from pulizia.desktop.theme import LAMPLIGHT, LINEN, THEMES, theme, use_theme
from pulizia.media.pcm import PcmSource
from pulizia.score.chain import Stage
from pulizia.session.heard import Listening

RATE = 48_000


def test_noise_is_marked_taken_and_becomes_a_strip(bench: Person) -> None:
    bench.mark(0.1, 0.9)
    span = bench.window.session.selection.span
    assert span.start == pytest.approx(0.1 * RATE, abs=600)
    assert span.stop == pytest.approx(0.9 * RATE, abs=600)
    assert bench.window.bench.bar.isVisible()
    bench.key(Qt.Key.Key_N)
    (step,) = bench.recording.score
    assert step.tool_id == "noise"
    assert step.settings.profile_spans_s[0] == pytest.approx((span.start / RATE, span.stop / RATE))
    assert step.spans is None
    bench.settle()
    box = bench.window.bench.score.plan.strip_box(0, Span(0, bench.recording.frames))
    axis = bench.window.bench.axis
    assert (box.left(), box.right()) == pytest.approx((GUTTER, GUTTER + axis.width), abs=1)
    before, after = bench.window.session.measures("before"), bench.window.session.measures("after")
    assert after.rms_dbfs < before.rms_dbfs
    chain = bench.window.session.chain
    quiet = lambda s: 10 * np.log10(np.mean(s.read(5000, 40_000) ** 2))  # noqa: E731
    assert quiet(chain.before) - quiet(chain.after) == pytest.approx(10, abs=0.7)


def test_a_turned_slider_is_heard_within_a_quarter_second_and_is_one_undo(bench: Person) -> None:
    bench.mark(0.1, 0.9)
    bench.key(Qt.Key.Key_N)
    bench.settle()
    session = bench.window.session
    session.set_matched(False)
    bench.key(Qt.Key.Key_R)
    bench.key(Qt.Key.Key_Space)
    out = session.transport.output
    bench.until(lambda: out.heard() > 0.4 * RATE)
    track = bench.body.controls["reduction_db"].track
    recent = lambda: np.sqrt(np.mean(out.kept[-1] ** 2))  # noqa: E731
    old = np.sqrt(np.mean(np.concatenate(out.kept[-10:], axis=1) ** 2))
    waiting = session.transport.waiting
    bench.drag(track, QPointF(40, 12), QPointF(90, 12))
    bench.until(lambda: recent() < 0.5 * old)
    assert waiting / RATE < 0.2  # what is queued is all that is still heard as it was
    assert bench.recording.score[0].settings.reduction_db > 25
    bench.key(Qt.Key.Key_Space)
    bench.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert bench.recording.score[0].settings.reduction_db == 10.0


def test_listening_switch_changes_what_is_heard_and_seen_at_matched_level(bench: Person) -> None:
    bench.mark(0.1, 0.9)
    bench.key(Qt.Key.Key_N)
    session = bench.window.session
    session.document.add_step(bench.recording.id, "level", {"way": "gain", "gain_db": -12.0})
    bench.settle()
    material = lambda: session.transport._material  # noqa: E731
    assert 20 * np.log10(material().gain) == pytest.approx(12.0, abs=0.3)
    bench.key(Qt.Key.Key_B)
    assert session.listening is Listening.BEFORE
    assert material().source is session.chain.before
    assert material().gain == 1.0
    bench.key(Qt.Key.Key_3)
    removed, chain = material().source, session.chain
    assert np.array_equal(removed.read(0, 500), chain.before.read(0, 500) - chain.after.read(0, 500))
    bench.click(bench.window.foot.switch, QPointF(95, 14))
    assert session.listening is Listening.AFTER
    bench.key(Qt.Key.Key_M, Qt.KeyboardModifier.ShiftModifier)
    assert material().gain == 1.0


def test_marked_words_are_given_back_and_undone_by_keys(bench: Person) -> None:
    bench.mark(0.1, 0.9)
    bench.key(Qt.Key.Key_N)
    bench.mark(2.0, 2.5)
    span = bench.window.session.selection.span
    bench.key(Qt.Key.Key_G)
    chain = bench.window.session.chain
    assert np.array_equal(chain.after.read(span.start, span.stop), chain.before.read(span.start, span.stop))
    assert not np.array_equal(chain.after.read(0, span.start), chain.before.read(0, span.start))
    bench.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    chain = bench.window.session.chain
    assert not np.array_equal(chain.after.read(span.start, span.stop), chain.before.read(span.start, span.stop))
    bench.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    assert bench.recording.score[0].holes == (span,)
    bench.mark(2.0, 2.4)
    bench.key(Qt.Key.Key_G)
    assert "already the original" in bench.said


def test_strips_are_switched_dragged_reordered_and_removed(bench: Person) -> None:
    session = bench.window.session
    session.document.add_step(bench.recording.id, "noise")
    session.document.add_step(bench.recording.id, "level", {"way": "gain"})
    bench.settle()
    score = bench.window.bench.score
    noise, level = bench.recording.score
    bench.click(score, score.plan.dot_place(1))
    assert not bench.recording.score[1].enabled
    bench.key(Qt.Key.Key_E)
    assert bench.recording.score[1].enabled
    box = score.plan.strip_box(0, Span(0, bench.recording.frames))
    end = QPointF(box.right() - 1, box.center().y())
    bench.drag(score, end, bench.at_time(score, 3.0, 0) + QPointF(0, end.y()))
    (span,) = bench.recording.score[0].spans
    assert (span.start, span.stop) == (0, pytest.approx(3.0 * RATE, abs=600))
    middle = score.plan.strip_box(1, Span(0, bench.recording.frames)).center()
    bench.drag(score, middle, middle - QPointF(0, 40))
    assert [s.id for s in bench.recording.score] == [level.id, noise.id]
    bench.key(Qt.Key.Key_Down, Qt.KeyboardModifier.ShiftModifier)
    assert [s.id for s in bench.recording.score] == [noise.id, level.id]
    bench.key(Qt.Key.Key_Delete)
    assert [s.id for s in bench.recording.score] == [noise.id]


def test_dragging_in_the_sonogram_marks_time_and_frequency(bench: Person) -> None:
    view = bench.window.bench.sonogram
    bench.drag(view, bench.at_time(view, 2.0, 0.2), bench.at_time(view, 3.0, 0.7))
    selection = bench.window.session.selection
    low, high = selection.band_hz
    scale = view.scale
    assert high == pytest.approx(float(scale.hz_of_row(0.2 * view.height())), rel=0.05)
    assert low == pytest.approx(float(scale.hz_of_row(0.7 * view.height())), rel=0.05)
    bench.window.session.repairs.add_tool("level", on_selection=True)
    (step,) = bench.recording.score
    assert step.band_hz == (low, high)
    assert step.spans == (selection.span,)
    bench.key(Qt.Key.Key_Escape)
    assert bench.window.session.selection is None


def test_keys_mark_all_move_zoom_and_loop(bench: Person) -> None:
    session, axis = bench.window.session, bench.window.bench.axis
    bench.key(Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
    assert session.selection.span == Span(0, bench.recording.frames)
    bench.key(Qt.Key.Key_End)
    assert session.transport.position == bench.recording.frames
    bench.key(Qt.Key.Key_Home)
    bench.key(Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
    assert session.transport.position == 2 * RATE
    bench.key(Qt.Key.Key_BracketLeft)
    assert session.selection.span.start == 2 * RATE
    for _ in range(40):
        bench.key(Qt.Key.Key_Plus)
    assert axis.frames_per_pixel < 0.05
    assert axis.left < 2 * RATE < axis.right
    bench.settle()
    bench.window.grab()
    bench.key(Qt.Key.Key_0)
    assert axis.is_whole
    bench.key(Qt.Key.Key_Z)
    assert axis.left < 2 * RATE < axis.left + axis.width * axis.frames_per_pixel
    bench.key(Qt.Key.Key_R)
    assert session.transport.loop == session.selection.span


def test_clicking_moves_the_play_head_and_it_moves_on_while_playing(bench: Person) -> None:
    view = bench.window.bench.waveform
    bench.click(view, bench.at_time(view, 3.0))
    assert bench.window.session.transport.position == pytest.approx(3 * RATE, abs=600)
    x = view.head_x
    bench.click(bench.window.foot.play)
    bench.until(lambda: view.head_x > x + 20)
    reading = bench.window.foot.gauge.reading
    assert reading is not None
    assert reading.peak[0] > 0.001
    bench.click(bench.window.foot.play)
    assert not bench.window.session.transport.is_playing


def test_pictures_show_the_sound_and_follow_the_score(bench: Person) -> None:
    view = bench.window.bench.sonogram
    row = round(view.scale.row_of_hz(260))

    def is_drawn() -> bool:  # dark where the voice is, light in the pause
        image = view.grab().toImage()
        at = lambda s: image.pixelColor(round(bench.at_time(view, s).x()), row).lightness()  # noqa: E731
        return min(at(1.0 + 0.05 * n) for n in range(20)) < 120 < at(0.5)

    bench.until(is_drawn)
    image = view.grab().toImage()
    bench.mark(0.1, 0.9)
    bench.key(Qt.Key.Key_N)
    bench.body.controls["reduction_db"].changed.emit(40.0)
    bench.settle()
    bench.window.session.clear_selection()
    before = np.mean([image.pixelColor(60 + n, 40).lightness() for n in range(30)])
    image = view.grab().toImage()
    assert np.mean([image.pixelColor(60 + n, 40).lightness() for n in range(30)]) >= before


def test_delivery_shows_predicts_writes_and_measures_again(bench: Person, tmp_path: Path) -> None:
    bench.mark(0.1, 0.9)
    bench.key(Qt.Key.Key_N)
    bench.key(Qt.Key.Key_F4)
    place = bench.window.delivery
    assert place.isVisible()
    bench.until(lambda: place.plan is not None)
    place.target_box.setCurrentIndex(place.target_box.findData("ebu-r128"))
    place._choose_target(0)
    bench.settle()
    bench.until(lambda: place.plan is not None)
    predicted = place.plan.predicted.integrated_lufs
    target = tmp_path / "out.wav"
    place.deliver_to(target)
    bench.until(lambda: place.written.delivered is not None)
    assert place.written.delivered.passes
    assert place.written.delivered.verified.integrated_lufs == pytest.approx(-23.0, abs=0.05)
    assert predicted == pytest.approx(place.written.delivered.verified.integrated_lufs, abs=0.02)
    assert "\u221223.0 LUFS" in place.written.figures.text()
    assert soundfile.info(target).subtype == "PCM_24"
    assert json.loads((tmp_path / "out.json").read_text())["passes"]
    assert (tmp_path / "out.html").exists()
    place.written.delivered = None
    place.deliver_to(target)
    bench.until(lambda: "is there already" in bench.said)
    place.deliver_to(bench.recording.path, overwrite=True)
    bench.until(lambda: "never written to" in bench.said)


def test_themes_switch_and_keep_their_ramps_monotone(bench: Person) -> None:
    assert theme() is LINEN
    bench.key(Qt.Key.Key_L, Qt.KeyboardModifier.ControlModifier)
    assert theme() is LAMPLIGHT
    dark = bench.window.grab().toImage().pixelColor(5, 400).lightness()
    assert dark < 60
    for name, chosen in THEMES.items():
        table = ramp_table("theme", chosen, -84, -34, -127.5, 0.5)
        luma = [0.299 * (c >> 16 & 255) + 0.587 * (c >> 8 & 255) + 0.114 * (c & 255) for c in table]
        steps = np.diff(luma) if name == "lamplight" else -np.diff(luma)
        assert steps.min() > -1.5
    use_theme("linen")


def test_every_command_has_words_and_a_menu(bench: Person) -> None:
    rows = bench.window.actions_.key_table()
    assert {m for m, *_ in rows} == {"File", "Edit", "Listen", "View", "Steps", "Assembly", "Delivery", "Help"}
    bench.window.dialogs.show_keys()
    bench.bot.wait(20)


@pytest.mark.slow
def test_the_window_never_waits_for_sound(bench: Person, monkeypatch: pytest.MonkeyPatch) -> None:
    """Whatever is done, no sound is read or rendered on the window's own thread."""
    readers: list[str] = []

    def watched(kind: type) -> None:
        read = kind.read

        def noting(self: object, start: int, stop: int) -> np.ndarray:
            readers.append(threading.current_thread().name)
            return read(self, start, stop)

        monkeypatch.setattr(kind, "read", noting)

    for kind in (PcmSource, Stage, DifferenceSource):
        watched(kind)
    bench.mark(1.2, 2.0)
    bench.key(Qt.Key.Key_N)
    axis = bench.window.bench.axis
    axis.show_span(RATE, 3 * RATE)
    for n in range(30):
        axis.scroll(40 if n % 10 < 5 else -40)
        if n % 6 == 0:
            axis.zoom(1.6 if n < 15 else 1 / 1.6, 200)
        bench.bot.wait(5)
    bench.key(Qt.Key.Key_Space)
    for key in (Qt.Key.Key_1, Qt.Key.Key_3, Qt.Key.Key_2, Qt.Key.Key_F4, Qt.Key.Key_F2, Qt.Key.Key_G):
        bench.key(key)
        bench.bot.wait(30)
    bench.window.grab()
    for _ in range(14):
        bench.key(Qt.Key.Key_Plus)
    bench.settle()
    bench.window.grab()
    assert len(readers) > 20
    assert threading.main_thread().name not in readers


def test_track_answers_keys_and_typed_values(bench: Person) -> None:
    bench.window.session.document.add_step(bench.recording.id, "noise")
    row = bench.body.controls["reduction_db"]
    row.track.setFocus()
    bench.bot.keyClick(row.track, Qt.Key.Key_Right)
    assert bench.recording.score[0].settings.reduction_db == 10.5

    def keys(words: str, *keys: Qt.Key) -> float:
        if words:
            bench.bot.keyClick(row.track, Qt.Key.Key_Return)  # from the slider to its value
            assert row.edit.hasSelectedText()
            bench.bot.keyClicks(row.edit, words)
        for key in keys:
            bench.bot.keyClick(QApplication.focusWidget(), key)
        return bench.recording.score[0].settings.reduction_db

    assert keys("17,5 dB", Qt.Key.Key_Return) == 17.5
    assert row.track.hasFocus()  # 1 to 3 say again what is heard
    assert keys("12", Qt.Key.Key_Up) == 12.5
    assert keys("", Qt.Key.Key_Down, Qt.Key.Key_Down, Qt.Key.Key_Return) == 11.5
    assert keys("3", Qt.Key.Key_Escape) == 11.5  # left as it was
    assert (row.edit.text(), row.track.hasFocus()) == ("11.5 dB", True)
    for words in ("x", "nan", "inf"):
        assert keys(words, Qt.Key.Key_Return) == 11.5
        assert row.edit.text() == "11.5 dB"
        assert f"“{words}” is not a number" in bench.window.message.text.text()
    move(row.track, QPointF(20, 10))


def test_a_learned_profile_is_carried_to_another_recording_of_another_rate(
    person: Person, wav: Callable[..., Path], voice_file: Path
) -> None:
    other = wav(voice_in_noise(4.0, 44_100, seed=11), "other.wav", 44_100)
    person.open(voice_file, other)
    person.mark(0.1, 0.9)
    person.key(Qt.Key.Key_N)
    person.settle()
    person.key(Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    person.until(lambda: person.window.session.steps.can_paste)
    cards = person.window.bench.list.cards
    person.click(cards, QPointF(60, 48 + 20))
    assert person.recording.name == "other"
    person.key(Qt.Key.Key_V, Qt.KeyboardModifier.ControlModifier)
    (step,) = person.recording.score
    assert step.settings.profile_levels
    assert not step.settings.profile_spans_s
    chain = person.window.session.chain
    quiet = lambda s: 10 * np.log10(np.mean(s.read(5000, 35_000) ** 2))  # noqa: E731
    assert quiet(chain.before) - quiet(chain.after) == pytest.approx(10, abs=0.8)
    person.window.session.files.save_recipe(voice_file.with_name("kept.json"))
    assert json.loads(voice_file.with_name("kept.json").read_text())["steps"][0]["tool"] == "noise"
