# SPDX-License-Identifier: GPL-3.0-or-later
"""A real disk that is full at every write: one sentence, no half file, what was there stays."""

from __future__ import annotations

import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest
from tests.cli.test_commands import run
from tests.delivery.test_pictures import film  # noqa: F401 - a fixture

from pulizia.delivery.deliver import SPARE_BYTES
from pulizia.delivery.targets import save_own, shipped_targets
from pulizia.errors import DiskError, PuliziaError
from pulizia.interchange.export import list_of, write_list
from pulizia.interchange.read import read_edit_list
from pulizia.media.open import open_media
from pulizia.media.write import write_text
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.file import load_project
from pulizia.project.journal import left_behind
from pulizia.project.model import Recording
from pulizia.session.document import Document

DISK_KB = 24_000
SPARE_KB = SPARE_BYTES // 1024  # what is never filled up


class Disk:
    """A small file system of its own."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def leave(self, kilobytes: int) -> None:
        """Fill it up to the last few kilobytes."""
        filler = self.folder / "filler"
        filler.unlink(missing_ok=True)
        free = int(
            subprocess.run(
                ["df", "--output=avail", "-k", self.folder], capture_output=True, text=True, check=True
            ).stdout.split()[-1]
        )
        filler.write_bytes(b"x" * 1024 * max(0, free - kilobytes))

    def names(self) -> set[str]:
        return {p.name for p in self.folder.rglob("*") if p.is_file()} - {"filler"}


@pytest.fixture
def disk(tmp_path: Path) -> Iterator[Disk]:
    folder = tmp_path / "disk"
    folder.mkdir()
    mounted = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", f"size={DISK_KB}k", "tmpfs", str(folder)], capture_output=True, check=False
    )
    if mounted.returncode:
        pytest.skip("a small disk can only be mounted by the administrator")
    yield Disk(folder)
    subprocess.run(["umount", str(folder)], check=True)


@pytest.mark.parametrize("kind", ["wav", "flac", "mp3", "opus", "m4a"])
@pytest.mark.parametrize("left_kb", [0, 12, SPARE_KB + 20])
def test_a_delivery_onto_a_full_disk_leaves_nothing_and_the_old_file_stays(
    capsys, disk: Disk, voice_file: Path, kind: str, left_kb: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    if left_kb < SPARE_KB:  # past the look beforehand, as if the disk had filled up meanwhile
        monkeypatch.setattr("pulizia.delivery.deliver.SPARE_BYTES", -(1 << 30))
    elif kind != "wav":
        return  # only plain sound has a size that is known before
    target = disk.folder / f"out.{kind}"
    target.write_bytes(b"the old one")
    disk.leave(left_kb)
    code, out, err = run(capsys, "deliver", voice_file, "--target", "online-16", "-o", target, "--overwrite")
    assert (code, out) == (1, "")
    assert err.startswith("pulizia: ")
    assert err.count("\n") == 1
    assert "full" in err or "room" in err
    assert target.read_bytes() == b"the old one"
    assert disk.names() == {target.name}


@pytest.mark.parametrize("suffix", [".mp4", ".mov", ".mkv"])
def test_a_picture_onto_a_full_disk_leaves_nothing(capsys, disk: Disk, film: Path, suffix: str) -> None:  # noqa: F811
    disk.leave(8)
    code, _, err = run(capsys, "deliver", film, "--target", "online-16", "-o", disk.folder / f"out{suffix}")
    assert (code, err.count("\n")) == (1, 1)
    assert "full" in err or "room" in err
    assert disk.names() == set()


def test_the_rest_of_a_batch_goes_on(
    capsys, disk: Disk, wav: Callable[..., Path], voice: np.ndarray, tmp_path: Path
) -> None:
    long, short = wav(voice, "long.wav"), wav(voice[:, 48_000 : 48_000 + 24_000], "short.wav")
    recipe = tmp_path / "r.json"
    recipe.write_text(
        '{"format": "pulizia-recipe", "version": 1, "name": "r", "steps": [{"tool": "level", "settings": {}}]}'
    )
    disk.leave(SPARE_KB + 300)
    code, out, err = run(capsys, "repair", long, short, "--recipe", recipe, "-o", disk.folder, "--jobs", 1)
    assert code == 1
    assert "1 of 2 files written" in out
    assert "long.wav" in out
    assert disk.names() == {"short.wav", "pulizia-ledger.sqlite"}  # it says what is left to do
    assert "full" in err


def test_reports_projects_recipes_and_targets_are_whole_or_not_there(disk: Disk, voice_file: Path) -> None:
    document = Document()
    document.add_media(open_media(voice_file))
    project = disk.folder / "job.pulizia"
    document.save(project)
    before = project.read_bytes()
    for n in range(60):
        document.add_step(
            document.project.recordings[0].id, "equaliser", {"bands": [["bell", 500.0 + n, -3.0, 2.0]] * 8}
        )
    disk.leave(4)
    with pytest.raises(DiskError, match="disk is full"):
        document.save(project)
    assert project.read_bytes() == before
    assert len(load_project(project).recordings[0].score) == 0
    assert document.is_dirty
    with pytest.raises(DiskError, match="disk is full"):
        write_text(disk.folder / "report.html", "x" * 40_000)
    with pytest.raises(DiskError, match="disk is full"):
        save_own(
            shipped_targets()[0].__class__(
                id="own",
                title="t" * 3900,
                purpose="p" * 3900,
                source="s" * 3900,
                integrated_lufs=-20,
                tolerance_lu=1,
                true_peak_dbtp=-1,
            ),
            disk.folder,
            write_text,
        )
    assert disk.names() == {"job.pulizia"}
    disk.leave(400)
    document.save(project)
    assert len(load_project(project).recordings[0].score) == 60


@pytest.mark.parametrize("kind", ["otio", "aaf", "xml", "edl", "csv"])
def test_an_edit_list_is_whole_or_not_there(disk: Disk, voice_file: Path, kind: str) -> None:
    recording = Recording.of_media(open_media(voice_file))
    row = [Clip(recording_id=recording.id, start=n * 20, inner=0, frames=20, name=f"take {n}") for n in range(300)]
    programme = Programme(name="Reel", rate=48_000, channels=1, lanes=(Lane(name="Voice").with_clips(row),))
    target = disk.folder / f"reel.{kind}"
    found = list_of(programme, {recording.id: recording}, lambda _recording: None)
    target.write_text("what was there")
    disk.leave(4)
    with pytest.raises(DiskError, match="disk is full"):
        write_list(found, target)
    assert target.read_text() == "what was there"
    assert disk.names() == {target.name}
    with pytest.raises(DiskError, match="does not exist"):
        write_list(found, disk.folder / "nowhere" / target.name)
    disk.leave(8000)
    write_list(found, target)
    again, _ = read_edit_list(target)
    assert len(again.tracks[0].events) == 300


def test_pictures_and_printed_reports_are_whole_or_not_there(
    disk: Disk, voice_file: Path, tmp_path: Path, qtbot
) -> None:
    from PySide6.QtWidgets import QApplication

    from pulizia.desktop.start import make_application, make_window

    make_application()
    window, poster = make_window(simulated=True)
    window.files.asks = False
    qtbot.addWidget(window)
    window.show()
    window.files.open_paths([voice_file])
    qtbot.waitUntil(lambda: window.bench.spectrum.plot.lines() is not None, timeout=20_000)
    window.go_to(2)
    window.delivery.deliver_to(tmp_path / "out.wav")
    qtbot.waitUntil(lambda: window.delivery.written.delivered is not None, timeout=30_000)
    disk.leave(0)
    for suffix in ("png", "svg", "csv"):
        window.bench.spectrum.export(disk.folder / f"spectrum.{suffix}")
        assert "disk is full" in window.message.text.text()
    window.delivery.written.print_to(disk.folder / "report.pdf")
    window.delivery.measuring.save_log(disk.folder / "log.csv")
    qtbot.waitUntil(lambda: not window.session.pool.busy, timeout=20_000)
    QApplication.processEvents()
    assert "disk is full" in window.message.text.text()
    assert disk.names() == set()
    disk.leave(4000)
    window.bench.spectrum.export(disk.folder / "spectrum.png")
    window.delivery.written.print_to(disk.folder / "report.pdf")
    qtbot.waitUntil(lambda: "report.pdf" in disk.names(), timeout=20_000)
    assert disk.names() == {"spectrum.png", "report.pdf"}
    assert (disk.folder / "report.pdf").read_bytes().rstrip().endswith(b"%%EOF")
    window.close()
    poster.close()


def test_caches_and_journals_on_a_full_disk_cost_no_work(
    capsys, disk: Disk, voice_file: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("PULIZIA_HOME", str(disk.folder))
    disk.leave(0)
    target = tmp_path / "out.wav"
    assert run(capsys, "deliver", voice_file, "--target", "online-16", "--recipe", "hard-s", "-o", target)[0] == 0
    assert open_media(target).source.frames == open_media(voice_file).source.frames
    said = []
    for arguments in (
        ("measure", tmp_path / "coded.flac"),
        ("deliver", voice_file, "--target", "online-16", "--rate", "44100", "-o", tmp_path / "other.wav"),
    ):
        if arguments[0] == "measure":
            run(capsys, "deliver", voice_file, "--target", "online-16", "-o", tmp_path / "coded.flac")
        code, _, err = run(capsys, *arguments)
        said.append((code, err.count("\n"), "full" in err or "room" in err))
    assert said == [(1, 1, True), (1, 1, True)]  # what must be decoded or converted first needs room for it
    assert not (tmp_path / "other.wav").exists()
    document = Document()
    document.add_media(open_media(voice_file))
    try:
        document.write_journal()
    except PuliziaError as error:
        assert "full" in str(error)  # noqa: PT017 - both are allowed: no journal, or one that is whole
    assert all(found.project.recordings for found in left_behind(disk.folder / "state" / "journal"))
