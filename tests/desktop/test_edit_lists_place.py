# SPDX-License-Identifier: GPL-3.0-or-later
"""Edit lists in the window: opened with their folders, reported, exported, a changed cut conformed and taken back."""

from __future__ import annotations

import csv
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QInputDialog
from tests.conftest import voice_in_noise
from tests.desktop.conftest import Person

from pulizia.audio.markers import Marker
from pulizia.cli.main import main
from pulizia.desktop.bars import ASSEMBLY
from pulizia.media.broadcast import Broadcast, ixml_chunk
from pulizia.media.write import WavWriter
from pulizia.units import format_time

RATE = 48_000
CUT = (
    "TITLE: REEL 1\nFCM: NON-DROP FRAME\n"
    "001  anna  A  C  00:00:01:00 00:00:04:00 01:00:00:00 01:00:03:00\n"
    "002  bert  A  C  00:00:00:00 00:00:02:00 01:00:03:00 01:00:05:00\n"
    "003  lost  A2 C  00:00:00:00 00:00:01:00 01:00:05:00 01:00:06:00\n"
)


def test_a_list_is_opened_exported_conformed_and_taken_back(
    person: Person, wav: Callable[..., Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    window, session = person.window, person.window.session
    folder = wav(voice_in_noise(6.0), "anna.wav").parent
    wav(voice_in_noise(6.0, seed=9), "bert.wav")
    path = tmp_path / "reel.edl"
    path.write_text(CUT)
    window.files.open_paths([path])
    dialog = window.list_places.media
    assert dialog.list.item(0).text() == str(folder)  # the folder of the list is proposed
    dialog.accept()
    person.until(lambda: window.places.currentIndex() == ASSEMBLY)
    person.settle()
    report = window.list_places.report
    assert report.lines[0].startswith("Missing: lost")
    person.bot.keyClick(report, Qt.Key.Key_Return)
    assert not report.isVisible()
    programme = session.assembly.programme
    assert (programme.name, programme.start_frame) == ("REEL 1", 90_000)
    assert [(c.name, c.start, c.inner) for c in programme.lanes[0].clips] == [("anna", 0, RATE), ("bert", 3 * RATE, 0)]
    assert session.assembly.sound.silent == ("lost",)
    person.until(lambda: len(session.document.media) == 2)
    assert session.heard_source.read(RATE, 2 * RATE).any()
    assert window.list_places.folders[0] == folder  # remembered for the next list
    # repairs and gains made here survive the new cut
    session.assembly.select([programme.lanes[0].clips[1].id])
    session.assembly.set_gain(-4.0)
    session.document.add_step(session.document.project.recordings[0].id, "hum")
    out = tmp_path / "back.edl"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(out), ""))
    window.actions_.actions["list_export"].trigger()
    assert "Steps" not in window.list_places.exporting._told.text()  # the step is of a recording, not of a lane
    window.list_places.exporting.accept()
    person.until(out.exists)
    new = tmp_path / "cut2.edl"
    new.write_text(
        CUT.replace("01:00:00:00 01:00:03:00", "01:00:02:00 01:00:05:00").replace(
            "01:00:03:00 01:00:05:00", "01:00:00:00 01:00:02:00"
        )
    )
    before = session.assembly.programme
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(new), ""))
    window.actions_.actions["list_conform"].trigger()
    window.list_places.media.accept()
    person.until(lambda: hasattr(window.list_places, "walk"))
    moved = session.assembly.programme.lanes[0].clips
    assert [(c.name, c.start, c.gain_db) for c in moved] == [("bert", 0, -4.0), ("anna", 2 * RATE, 0.0)]
    assert window.list_places.walk.found.count("moved") == 2
    assert session.document.history.undo_label == "Conform to cut2.edl"
    window.list_places.walk._undo()
    assert session.assembly.programme == before
    kept = tmp_path / "kept.edl"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(kept), ""))
    window.actions_.actions["list_received"].trigger()
    assert kept.read_text() == CUT
    window.actions_.actions["list_report"].trigger()
    assert any("lost" in line for line in window.list_places.report.lines)


def test_a_list_that_cannot_be_read_is_a_sentence_in_the_window(person: Person, tmp_path: Path) -> None:
    path = tmp_path / "x.xml"
    path.write_text("<html/>")
    person.window.files.open_paths([path])
    person.window.list_places.media.accept()
    person.until(lambda: "another kind" in person.said)
    assert not person.window.session.document.project.programmes


@pytest.mark.slow
def test_a_programme_begins_from_a_template_and_is_saved_as_one(
    person: Person, wav: Callable[..., Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    person.open(wav(voice_in_noise(2.0), "anna.wav"))
    person.open(wav(voice_in_noise(2.5), "bert.wav"))
    person.key(Qt.Key.Key_F3)
    assembly, session = person.window.assembly, person.window.session
    assembly.ask_template()
    dialog = assembly.template
    dialog.template.setCurrentIndex(
        next(n for n in range(dialog.template.count()) if "interview" in dialog.template.itemText(n))
    )
    assert [choice.currentIndex() for choice in dialog.lanes] == [1, 2]  # a speaker each
    dialog.accept()
    person.settle()
    programme = session.assembly.programme
    assert programme is not None
    assert [c.name for lane in programme.lanes for c in lane.clips] == ["anna", "bert"]
    assert programme.lanes[0].steps
    monkeypatch.setattr(QInputDialog, "getText", lambda *_a, **_k: ("Our interview", True))
    assembly.ask_keep_template()
    assert "saved" in person.said
    assembly.ask_template()
    assert assembly.template.template.itemText(0) == "Our interview"
    assembly.template.each.setChecked(True)
    assembly.template.accept()
    person.settle()
    assert [p.name for p in session.document.project.programmes][-2:] == ["anna", "bert"]
    session.document.undo()
    assert len(session.document.project.programmes) == 1


def test_notes_are_written_edited_kept_and_listed(
    person: Person,
    wav: Callable[..., Path],
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    capsys: pytest.CaptureFixture[str],
) -> None:
    person.open(wav(voice_in_noise(4.0), "anna.wav"))
    person.key(Qt.Key.Key_F3)
    assembly, session = person.window.assembly, person.window.session
    assembly.add_all()
    person.settle()
    session.seek(2 * RATE)
    person.key(Qt.Key.Key_M, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    dialog = assembly.note
    dialog.kind.setCurrentIndex(dialog.kind.findData("again"))
    dialog.name.setText("Line 12")
    dialog.scene.setText("4B")
    dialog.who.setText("Anna")
    dialog.note.setPlainText('A <door> in "the" word,\nsecond half')
    dialog.accept()
    person.settle()
    (marker,) = session.assembly.programme.markers
    assert (marker.frame, marker.kind, marker.scene, marker.who) == (2 * RATE, "again", "4B", "Anna")
    assembly.edit_note(marker)
    assembly.note.scene.setText("4C")
    assembly.note.accept()
    page, table, project = tmp_path / "notes.html", tmp_path / "notes.csv", tmp_path / "job.pulizia"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(page), ""))
    assembly.ask_notes()
    assert "notes.html" in person.said
    said = page.read_text()
    assert "<td>00:00:02:00</td>" in said
    assert "A &lt;door&gt; in" in said
    session.document.save(project)
    assert main(["notes", str(project), "-o", str(table), "--kind", "again"]) == 0
    rows = list(csv.reader(table.read_text().splitlines(keepends=True)))
    assert rows[1][:3] == ["00:00:02:00", "0:02.000", ""]
    assert rows[1][3:] == ["Line to be recorded again", "4C", "Anna", "Line 12", 'A <door> in "the" word,\nsecond half']
    assert main(["notes", str(project), "--kind", "problem"]) == 0
    assert "Line 12" not in capsys.readouterr().out
    reels = (Marker(0, "R1", round(1.5 * RATE), kind="reel"), Marker(RATE, "R2", kind="reel"))
    for reel in reels:
        assembly.session.assembly.add_note(reel)
    session.document.save(project)
    assert main(["notes", str(project), "--kind", "reel"]) == 0
    told = list(csv.reader(capsys.readouterr().out.splitlines()))
    rest = session.assembly.programme.frames / RATE - 1.0
    assert [(row[0], row[2], row[3], row[7]) for row in told[1:]] == [
        ("00:00:00:00", "0:01.500", "Reel", "Overlaps R2 by 0:00.500."),
        ("00:00:01:00", format_time(rest, 3), "Reel", ""),
    ]
    assert main(["notes", str(project), "-o", str(tmp_path / "notes.txt")]) != 0
    assert ".csv or .html" in capsys.readouterr().err


def test_microphones_of_a_recorder_have_a_lane_each_in_a_template(
    person: Person, wav: Callable[..., Path], tmp_path: Path
) -> None:
    path = tmp_path / "take.wav"
    said = ixml_chunk(Broadcast(channel_names=("Ann lav", "Bert lav")), rate=48_000)
    with WavWriter(path, rate=48_000, channels=2, sample_format="int24", chunks=said) as writer:
        writer.write(np.stack([voice_in_noise(1.5)[0]] * 2))
    person.open(path)
    person.open(wav(voice_in_noise(2.0), "camera.wav"))
    person.key(Qt.Key.Key_F3)
    person.window.assembly.ask_template()
    dialog = person.window.assembly.template
    dialog.template.setCurrentIndex(
        next(n for n in range(dialog.template.count()) if "interview" in dialog.template.itemText(n))
    )
    assert [c.accessibleName() for c in dialog.lanes] == [
        "Lane of take, Ann lav",
        "Lane of take, Bert lav",
        "Lane of camera",
    ]
    assert [choice.currentIndex() for choice in dialog.lanes] == [1, 2, 0]  # the camera is left out
    dialog.accept()
    person.settle()
    programme = person.window.session.assembly.programme
    assert programme is not None
    assert [[(c.name, c.channel) for c in lane.clips] for lane in programme.lanes] == [[("take", 0)], [("take", 1)], []]
