# SPDX-License-Identifier: GPL-3.0-or-later
"""Views and gauges of the Bench, driven with mouse and keys."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import QPoint, QPointF, Qt
from tests.conftest import voice_in_noise
from tests.desktop.conftest import Person, move

from pulizia.audio.markers import Marker
from pulizia.desktop.bench.sonogram_menu import SizeSlider, sonogram_menu
from pulizia.desktop.bench.waveform_view import between_samples
from pulizia.desktop.theme import colour
from pulizia.dsp.oversample import TAPS
from pulizia.errors import ProjectError
from pulizia.measure.live import Reading
from pulizia.media.open import open_media
from pulizia.session.heard import Listening
from pulizia.session.sound_out import Choice, SimulatedOut
from pulizia.units import format_number

RATE = 48_000
CTRL = Qt.KeyboardModifier.ControlModifier


@pytest.fixture
def pair(person: Person, wav: Callable[..., Path]) -> Person:
    """Two channels that differ, on the bench."""
    person.open(wav(voice_in_noise(4.0, channels=2), "pair.wav", subtype="FLOAT"))
    return person


def test_markers_are_set_named_visited_saved_and_travel(
    bench: Person, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    window, session = bench.window, bench.window.session
    for second in (3.0, 1.0):
        session.seek(round(second * RATE))
        bench.key(Qt.Key.Key_M)
    assert [m.frame for m in bench.recording.markers] == [RATE, 3 * RATE]
    monkeypatch.setattr("PySide6.QtWidgets.QInputDialog.getText", lambda *_a, **_k: ("Answer one", True))
    ruler = window.bench.ruler
    bench.bot.mouseDClick(ruler, Qt.MouseButton.LeftButton, pos=bench.at_time(ruler, 3.0).toPoint())
    assert bench.recording.markers[1] == Marker(3 * RATE, "Answer one")
    session.seek(0)
    for expected in (RATE, 3 * RATE):
        bench.key(Qt.Key.Key_PageDown, CTRL)
        assert session.transport.position == expected
    bench.key(Qt.Key.Key_PageUp, CTRL)
    assert session.transport.position == RATE
    listed, cued, project = tmp_path / "m.txt", tmp_path / "m.wav", tmp_path / "p.pulizia"
    session.markers.export(listed)
    assert listed.read_text().splitlines()[1] == "3.000000\t3.000000\tAnswer one"
    session.markers.export(cued)
    bench.settle()
    kept = bench.recording.markers
    assert open_media(cued).markers == kept
    assert soundfile.info(cued).frames == bench.recording.frames
    session.document.save(project)
    for source in (listed, cued):
        session.document.set_markers(bench.recording.id, (), "Remove all")
        session.markers.take_in(source)
        bench.settle()
        assert bench.recording.markers == kept
    bench.key(Qt.Key.Key_Z, CTRL)
    assert bench.recording.markers == ()
    session.files.open_project(project)
    bench.settle()
    assert bench.recording.markers == kept
    (tmp_path / "bad.txt").write_text("1.0\t1.0\tgood\nnot a time\n")
    session.markers.take_in(tmp_path / "bad.txt")
    bench.until(lambda: "Line 2 of the list has no time" in bench.said)
    assert bench.recording.markers == kept


def test_cue_points_of_an_opened_file_become_markers(person: Person, wav: Callable[..., Path]) -> None:
    """The layout of the RIFF chunks is checked with byte offsets of the specification."""
    path = wav(voice_in_noise(1.0), "cued.wav", subtype="PCM_16")
    body = path.read_bytes()
    cue = b"cue " + (4 + 24).to_bytes(4, "little") + (1).to_bytes(4, "little")
    cue += (
        (7).to_bytes(4, "little") + (12_000).to_bytes(4, "little") + b"data" + bytes(8) + (12_000).to_bytes(4, "little")
    )
    labl = b"labl" + (4 + 6).to_bytes(4, "little") + (7).to_bytes(4, "little") + b"Click\0"
    extra = cue + b"LIST" + (4 + len(labl)).to_bytes(4, "little") + b"adtl" + labl
    path.write_bytes(body[:4] + (len(body) - 8 + len(extra)).to_bytes(4, "little") + body[8:] + extra)
    person.open(path)
    assert person.recording.markers == (Marker(12_000, "Click"),)


def test_single_samples_are_joined_by_the_band_limited_curve(bench: Person) -> None:
    n = np.arange(-TAPS // 2, 100 + TAPS // 2)
    places, values = between_samples(np.sin(2 * np.pi * 0.23 * n + 1).astype(np.float32), 0, 100)
    assert values == pytest.approx(np.sin(2 * np.pi * 0.23 * places + 1), abs=2e-3)
    axis, view = bench.window.bench.axis, bench.window.bench.waveform
    axis.show_span(2 * RATE, 2 * RATE + 60)
    view.grab()
    bench.settle()
    image = view.grab().toImage()
    ink = sum(image.pixelColor(x, y).lightness() < 70 for x in range(60, 700, 2) for y in range(0, image.height(), 2))
    assert ink > 60  # dots, twenty pixels or so each


def test_waveform_linear_and_in_rows(pair: Person) -> None:
    view = pair.window.bench.waveform
    pictures = []
    for key, modifier in (
        (None, None),
        (Qt.Key.Key_Y, Qt.KeyboardModifier.NoModifier),
        (Qt.Key.Key_Y, Qt.KeyboardModifier.ShiftModifier),
    ):
        if key is not None:
            pair.key(key, modifier)
        view.grab()
        pair.settle()
        pictures.append(view.grab().toImage())
    assert view.linear
    assert view.in_rows
    assert pictures[0] != pictures[1]
    pair.key(Qt.Key.Key_Y)
    view.grab()
    pair.settle()
    assert view.grab().toImage() not in pictures


def test_overload_is_marked_over_the_waveform(person: Person, wav: Callable[..., Path]) -> None:
    samples = voice_in_noise(4.0)
    part = slice(2 * RATE, 2 * RATE + 4800)
    samples[:, part] = np.clip(samples[:, part] * 40, -0.9, 0.9)
    person.open(wav(samples, "hot.wav", subtype="FLOAT"))
    person.until(lambda: person.window.session.measures("after"))
    view = person.window.bench.waveform
    view.grab()
    person.settle()
    image = view.grab().toImage()
    reddish = [x for x in range(image.width()) if image.pixelColor(x, 2).red() > image.pixelColor(x, 2).blue() + 60]
    middle = person.at_time(view, 2.05).x()
    assert reddish
    assert all(abs(x - middle) < 15 for x in reddish)


def test_sonogram_choices_change_the_picture(pair: Person) -> None:
    view = pair.window.bench.sonogram

    def picture() -> object:
        view.grab()
        pair.settle()
        return view.grab().toImage()

    seen = [picture()]
    for changes in (
        {"axis": "mel"},
        {"axis": "bands"},
        {"axis": "linear"},
        {"sharpened": True},
        {"sharpened": False, "window": "flat_top", "axis": "log"},
        {"ramp": "straw"},
        {"channel": "side"},
    ):
        view.choose(**changes)
        seen.append(picture())
        assert seen[-1] != seen[-2], changes
    menu = sonogram_menu(view, view)
    slider = menu.findChild(SizeSlider)
    slider.slider.setValue(0)
    assert view.look.size == 256
    assert slider.size_label.text() == "256"
    menu.deleteLater()
    before = view.low_hz, view.high_hz
    pair.key(Qt.Key.Key_Up, Qt.KeyboardModifier.AltModifier)
    assert view.high_hz - view.low_hz < before[1] - before[0]


def test_the_spectrum_is_enlarged_lists_peaks_and_is_drawn(
    person: Person, wav: Callable[..., Path], tmp_path: Path
) -> None:
    t = np.arange(4 * RATE) / RATE
    person.open(
        wav(
            (0.1 * np.sin(2 * np.pi * 150.07 * t) + 0.02 * np.sin(2 * np.pi * 1234.5 * t))[None].astype(np.float32),
            "lines.wav",
        )
    )
    person.mark(0.5, 3.5)
    small, large = person.window.bench.spectrum, person.window.bench.large_spectrum
    person.click(small.enlarge_button)
    assert large.isVisible()
    assert not small.isVisible()
    person.until(lambda: len(large.peaks) >= 2)
    assert large.peaks[0].hz == pytest.approx(150.07, abs=0.01)
    assert large.peaks[1].hz == pytest.approx(1234.5, abs=0.01)
    assert large.peak_list.item(0, 2).text() == "50 Hz \u00d7 3"
    large.export(tmp_path / "s.svg")
    drawing = (tmp_path / "s.svg").read_text()
    assert drawing.count("<path") + drawing.count("<polyline") >= 2
    person.key(Qt.Key.Key_S)
    assert small.isVisible()


def test_the_levels_panel_shows_what_is_heard(pair: Person) -> None:
    window, session = pair.window, pair.window.session
    panel = window.bench.levels
    pair.key(Qt.Key.Key_V)
    assert panel.isVisible()
    measures = session.measures("after")
    assert panel.figures[0].text() == window.foot.figures.NAMES[2][0].replace(
        "I", f"{measures.integrated_lufs:.1f}".replace("-", "\u2212")
    )
    session.repairs.add_tool("level", on_selection=False)
    session.document.change_settings(pair.recording.id, session.step.id, way="gain", gain_db=6.0)
    pair.settle()
    session.set_matched(False)
    pair.key(Qt.Key.Key_Space)
    pair.until(lambda: panel.reading is not None and session.transport.position > RATE)
    pair.until(
        lambda: (
            panel.in_out is not None and panel.in_out.after[0] - panel.in_out.before[0] == pytest.approx(6.0, abs=0.01)
        )
    )
    assert panel.reading.peak_since_reset.max() > 0
    assert panel.gonio.pair is not None
    pair.until(lambda: panel.gonio.correlation > 0.5)
    pair.key(Qt.Key.Key_Space)
    panel.choose(scale="ebu18", rms_sine=True, ppm_kind="I")
    titles = [group.title for group in panel.bars.groups]
    assert any("0 is \u221223 LUFS" in t for t in titles)
    assert any("sine-referenced" in t for t in titles)
    assert any("type I " in t for t in titles)
    pair.click(panel.reset_button)
    assert panel.reading is None
    panel.grab()
    pair.key(Qt.Key.Key_V)
    assert not panel.isVisible()


def test_the_same_figure_is_shown_in_both_places_while_playing(bench: Person) -> None:
    window, session = bench.window, bench.window.session
    bench.until(lambda: session.measures("after") is not None)
    bench.key(Qt.Key.Key_V)
    session.seek(RATE)
    bench.key(Qt.Key.Key_Space)
    seen = set()
    for _ in range(40):
        bench.bot.wait(15)
        near = []  # a block may end between two looks: before or after the other place was brought up to date
        for look in range(2):
            window.foot.tick()
            near.append([format_number(figure, 1) for figure in window.foot.figures.values[:2]])
            if look == 0:
                window.bench.levels.tick()
        texts = [bar.text for bar in window.bench.levels.bars.groups[-1].bars]
        assert texts in near
        seen.add(texts[0])
    assert len(seen) > 2
    bench.key(Qt.Key.Key_Space)


def test_only_the_marked_band_is_heard(bench: Person) -> None:
    session = bench.window.session
    bench.key(Qt.Key.Key_O, Qt.KeyboardModifier.ShiftModifier)
    assert "Select a band" in bench.said
    session.select(RATE, 3 * RATE, (1000.0, 2000.0))
    bench.key(Qt.Key.Key_O, Qt.KeyboardModifier.ShiftModifier)
    heard = session.transport._material.source.read(2 * RATE, 4 * RATE)[0] * np.hanning(2 * RATE)
    power = np.abs(np.fft.rfft(heard)) ** 2
    hz = np.fft.rfftfreq(len(heard), 1 / RATE)
    inside = power[(hz > 1000) & (hz < 2000)].sum()
    assert power[(hz < 900) | (hz > 2200)].sum() < 1e-5 * inside
    assert np.array_equal(
        session.transport._material.source.read(RATE, RATE + 100),
        session.transport._material.source.read(RATE - 50, RATE + 100)[:, 50:],
    ) or np.allclose(
        session.transport._material.source.read(RATE, RATE + 100),
        session.transport._material.source.read(RATE - 50, RATE + 100)[:, 50:],
        atol=1e-7,
    )
    session.clear_selection()
    assert session.transport._material.source is session.chain.after


def test_the_sound_output_is_chosen_and_its_level_leaves_the_gauges_alone(
    bench: Person, monkeypatch: pytest.MonkeyPatch
) -> None:
    class Known(SimulatedOut):
        name = "Speakers"

    monkeypatch.setattr(
        "pulizia.desktop.sound_dialog.outputs", lambda *, again=False: [Choice("server:x", "Speakers")] if again else []
    )
    monkeypatch.setattr(
        "pulizia.desktop.sound_dialog.output_of",
        lambda choice, _name: Known() if choice == "server:x" else SimulatedOut(),
    )
    bench.window.dialogs.show_sound()
    dialog, transport = bench.window.dialogs.sound, bench.window.session.transport
    assert "No sound output was found" in dialog.words.text()
    bench.click(dialog.refresh_button)
    dialog.box.setCurrentIndex(0)
    dialog.box.activated.emit(0)
    assert transport.output.name == "Speakers"
    dialog.level.track.moved.emit(-20.0)
    transport.play(2 * RATE, 3 * RATE)
    bench.until(lambda: len(transport.output.kept) > 20)
    played, original = transport.output.kept[5], bench.window.session.chain.after.read(2 * RATE + 4800, 2 * RATE + 5760)
    assert np.allclose(played, original.repeat(2, axis=0) * 0.1 * transport._material.gain, atol=1e-6)
    assert transport.levels.at(10_000).peak.max() == pytest.approx(
        np.abs(bench.window.session.chain.after.read(2 * RATE, 2 * RATE + 9600)).max(), rel=0.3
    )
    transport.stop()
    dialog.accept()


@pytest.mark.parametrize("channels", [1, 8])
@pytest.mark.parametrize("kind", ["silence", "constant", "one sample"])
def test_odd_sounds_are_shown_without_a_fault(
    person: Person, wav: Callable[..., Path], channels: int, kind: str
) -> None:
    samples = np.full((channels, 1 if kind == "one sample" else RATE), 0.0 if kind == "silence" else 0.5, np.float32)
    person.open(wav(samples, "odd.wav", subtype="FLOAT"))
    bench, session = person.window.bench, person.window.session
    person.key(Qt.Key.Key_V)
    session.select(0, 1)
    person.key(Qt.Key.Key_S)
    for changes in ({"sharpened": True}, {"axis": "bands", "sharpened": False}, {"axis": "mel"}):
        bench.sonogram.choose(**changes)
        person.window.grab()
        person.settle()
    person.key(Qt.Key.Key_I, Qt.KeyboardModifier.ShiftModifier)
    person.settle()
    person.key(Qt.Key.Key_Y)
    session.set_listening(Listening.BEFORE)
    person.window.grab()
    person.settle()
    assert not session.pool.unexpected


def test_label_lists_of_other_programs_are_understood() -> None:
    from pulizia.audio.markers import from_label_list

    assert from_label_list("\ufeff1,5\t2\tname  two\n\\\t100\t200\n3.25\n", 1000) == [
        Marker(1500, "name  two", 500),
        Marker(3250, "Marker 2"),
    ]
    with pytest.raises(ProjectError, match="Line 1"):
        from_label_list("inf\t1\tx", 1000)


def test_the_pointer_over_the_ruler_names_the_marker(bench: Person) -> None:
    bench.window.session.seek(2 * RATE)
    bench.key(Qt.Key.Key_M)
    ruler = bench.window.bench.ruler
    ruler.hover(bench.at_time(ruler, 2.0))
    assert "Marker 1" in ruler.toolTip()
    ruler.hover(bench.at_time(ruler, 4.0) + QPoint(0, 0))
    assert "Marker" not in ruler.toolTip()


def test_a_band_is_marked_over_all_time_at_the_frequency_axis(bench: Person) -> None:
    view = bench.window.bench.sonogram
    rows = view.scale.row_of_hz(4000), view.scale.row_of_hz(1000)
    shift, left = Qt.KeyboardModifier.ShiftModifier, Qt.MouseButton.LeftButton
    bench.bot.mousePress(view, left, shift, QPointF(12, rows[0]).toPoint())
    move(view, QPointF(12, rows[1]))
    bench.bot.mouseRelease(view, left, shift, QPointF(12, rows[1]).toPoint())
    selection = bench.window.session.selection
    assert (selection.span.start, selection.span.stop) == (0, bench.recording.frames)
    assert selection.band_hz == pytest.approx((1000, 4000), rel=0.03)


def test_the_foot_draws_a_bar_for_every_one_of_eight_tracks(bench: Person) -> None:
    levels = np.geomspace(0.002, 0.8, 8).astype(np.float32)
    reading = Reading(
        peak=levels, true_peak_hold=levels, rms=levels, correlation=None, vu=levels, ppm=levels,
        peak_since_reset=levels, true_peak_since_reset=levels, overs=0, true_peak_overs=0, pair=None,
    )  # fmt: skip
    gauge = bench.window.foot.gauge
    gauge.show_reading(reading, tuple(f"Track {n}" for n in range(1, 9)))
    picture = gauge.grab().toImage()
    ink, ratio = colour("ink"), picture.devicePixelRatio()
    rows = range(round(4 * ratio), round(31 * ratio))
    lengths = [sum(picture.pixelColor(x, y) == ink for x in range(picture.width())) for y in rows]
    assert len({length for length in lengths if length > 5}) == 8
    gauge.show_reading(None, ("L", "R"))
