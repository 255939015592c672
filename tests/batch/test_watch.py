# SPDX-License-Identifier: GPL-3.0-or-later
"""A watched folder: complete files only, failures aside with a sentence, the same ledger after a restart."""

from __future__ import annotations

import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile
from tests.batch.test_many_files import entries, started, wait_for
from tests.cli.test_commands import run
from tests.conftest import voice_in_noise

from pulizia.batch.ledger import NAME
from pulizia.batch.watch import WatchedFolder, is_being_written
from pulizia.cli.main import main, parser

PULIZIA = [sys.executable, "-m", "pulizia"]


def test_a_file_is_told_once_it_stands_still_and_nobody_writes_to_it(tmp_path: Path) -> None:
    now = [0.0]
    folder = WatchedFolder(tmp_path, {".wav"}, settle_s=5.0, clock=lambda: now[0])
    path = tmp_path / "a.WAV"
    with path.open("wb") as file:
        file.write(b"one")
        file.flush()
        for moment in (0.0, 6.0):
            now[0] = moment
            assert folder.arrived() == []
        assert is_being_written(path)
        file.write(b"two")
    (tmp_path / "notes.txt").write_text("no sound")
    (tmp_path / ".hidden.wav").touch()
    assert folder.arrived() == []  # it has just changed
    now[0] = 8.0
    assert (folder.arrived(), folder.unsettled) == ([], 1)
    now[0] = 11.5
    assert (folder.arrived(), folder.unsettled) == ([path], 0)
    now[0] = 60.0
    assert folder.arrived() == []
    path.write_bytes(b"a new state of it")
    assert folder.arrived() == []
    now[0] = 66.0
    assert folder.arrived() == [path]


@pytest.mark.slow
def test_what_arrives_is_delivered_and_the_rest_is_moved_aside(wav: Callable[..., Path], tmp_path: Path) -> None:
    arriving, out = tmp_path / "arriving", tmp_path / "out"
    arriving.mkdir()
    one, two = wav(voice_in_noise(4.0), "one.wav"), wav(voice_in_noise(4.0, seed=3), "two.wav")
    command = [*PULIZIA, "watch", arriving, "--recipe", "hard-s", "--target", "ebu-r128", "-o", out, "--settle", "0.3"]
    with started(*command) as watching:
        assert "Watching" in watching.stdout.readline()  # type: ignore[union-attr] - it is a pipe
        shutil.copy(one, arriving)
        (arriving / "broken.wav").write_bytes(b"RIFF")
        growing = (arriving / "two.wav").open("wb")
        content = two.read_bytes()
        growing.write(content[:5000])
        growing.flush()
        wait_for((out / "one.wav").exists)
        wait_for((arriving / "failed" / "broken.wav.txt").exists)
        time.sleep(1.0)
        assert not (out / "two.wav").exists()  # it is not complete
        assert (arriving / "two.wav").exists()
        growing.write(content[5000:])
        growing.close()
        wait_for((out / "two.wav").exists)
        wait_for(lambda: entries(out / NAME)["two.wav"][0] == "done")
        watching.send_signal(signal.SIGTERM)
        told = watching.communicate(timeout=240)[0]
    assert watching.returncode == 0, told
    assert "Traceback" not in told
    assert "broken.wav" in (arriving / "failed" / "broken.wav.txt").read_text()
    assert not (arriving / "broken.wav").exists()
    assert (arriving / "one.wav").read_bytes() == one.read_bytes()  # inputs stay as they are

    before = {path: path.stat().st_mtime_ns for path in out.glob("*.wav")}
    shutil.copy(one, arriving / "three.wav")
    soundfile.write(arriving / "one.flac", voice_in_noise(4.0, seed=5).T, 48_000)  # the name of an output that is there
    again = subprocess.run(list(map(str, [*command, "--once"])), capture_output=True, text=True, check=False)
    assert (again.returncode, again.stderr) == (0, "")
    assert {path.name for path in out.glob("*.wav")} == {"one.wav", "two.wav", "three.wav", "one-flac.wav"}
    assert all(path.stat().st_mtime_ns == moment for path, moment in before.items())
    assert {status for name, (status, _) in entries(out / NAME).items() if name != "broken.wav"} == {"done"}


@pytest.mark.parametrize(
    ("flags", "sentence"),
    [
        ((), "Say what is to be done"),
        (("--recipe", "hard-s", "-o", "{folder}"), "an output folder that is not the watched one"),
        (("--recipe", "hard-s", "--settle", "-1"), "--settle"),
        (("--recipe", "nobody"), "nobody"),
    ],
)
def test_wrong_orders_are_one_sentence(capsys, tmp_path: Path, flags: tuple[str, ...], sentence: str) -> None:
    given = [flag.format(folder=tmp_path) for flag in flags]
    given += [] if "-o" in given else ["-o", str(tmp_path / "out")]
    code, _, err = run(capsys, "watch", tmp_path, *given)
    assert code in (1, 2)
    assert sentence in err
    assert err.count("\n") == 1


def test_a_folder_that_is_gone_is_one_sentence(capsys, tmp_path: Path) -> None:
    code, _, err = run(capsys, "watch", tmp_path / "gone", "--recipe", "hard-s", "-o", tmp_path)
    assert code == 1
    assert "does not exist" in err


def test_a_standing_order_has_every_flag_that_a_single_delivery_or_repair_reads() -> None:
    made = parser()
    standing = vars(made.parse_args(["watch", "a", "-o", "b", "--target", "ebu-r128"]))
    for single in (["deliver", "a", "--target", "ebu-r128", "-o", "b"], ["repair", "a", "-o", "b", "--treat"]):
        missing = set(vars(made.parse_args(single))) - set(standing) - {"files", "resume"}
        assert not missing


@pytest.mark.slow
def test_what_arrives_is_treated_by_what_is_found_in_it(
    wav: Callable[..., Path], tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    arriving, out = tmp_path / "arriving", tmp_path / "out"
    arriving.mkdir()
    t = np.arange(8 * 48_000) / 48_000
    hum = sum(0.02 / k * np.sin(2 * np.pi * 50.0 * k * t) for k in (1, 2, 3, 4))
    shutil.copy(wav((voice_in_noise(8.0) + hum).astype(np.float32), "hums.wav"), arriving)
    here = [str(arriving), "--once", "--settle", "0", "--jobs", "1"]
    assert main(["watch", *here, "--treat", "--target", "ebu-r128", "-o", str(out)]) == 0
    told = capsys.readouterr().out
    assert "Hum (50 Hz)" in told
    assert "Verified from the written file." in told
    alone = tmp_path / "alone.wav"
    assert main(["deliver", str(arriving / "hums.wav"), "--treat", "--target", "ebu-r128", "-o", str(alone)]) == 0
    made, same = (soundfile.read(p, dtype="float32")[0] for p in (out / "hums.wav", alone))
    assert np.array_equal(made, same)

    def at_100_hz(x: np.ndarray) -> float:
        return float(np.abs(np.mean(x * np.exp(-2j * np.pi * 100.0 * t[: len(x)]))) / np.std(x))

    before = soundfile.read(arriving / "hums.wav", dtype="float32")[0]
    assert at_100_hz(made) < 0.1 * at_100_hz(before)
    assert main(["watch", *here, "--treat", "--recipe", "hard-s", "-o", str(out)]) == 2
    assert main(["watch", *here, "-o", str(out)]) == 1
    assert "--recipe or --treat" in capsys.readouterr().err
