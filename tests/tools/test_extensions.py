# SPDX-License-Identifier: GPL-3.0-or-later
"""Tools of other packages, as real packages on the path of a real process; and the Python face."""

from __future__ import annotations

import doctest
import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import soundfile

from pulizia import api
from pulizia.errors import DeliveryError, MediaError

EXAMPLE = Path(__file__).parents[2] / "docs" / "extension"


def package(folder: Path, name: str, entry: str, code: str = "") -> None:
    """A package as an installer leaves it: its module, and its entry point in its metadata."""
    module = entry.partition(":")[0]
    if code:
        (folder / f"{module}.py").write_text(code)
    info = folder / f"{name.replace('-', '_')}-1.0.dist-info"
    info.mkdir()
    (info / "METADATA").write_text(f"Metadata-Version: 2.1\nName: {name}\nVersion: 1.0\n")
    (info / "entry_points.txt").write_text(f"[pulizia.tools]\n{name} = {entry}\n")


def pulizia(folder: Path, *arguments: object) -> subprocess.CompletedProcess[str]:
    """The program with these packages installed."""
    path = os.pathsep.join([str(folder), *filter(None, [os.environ.get("PYTHONPATH", "")])])
    return subprocess.run(
        [sys.executable, "-m", "pulizia", *map(str, arguments)],
        env=os.environ | {"PYTHONPATH": path}, capture_output=True, text=True, check=False,
    )  # fmt: skip


@pytest.fixture
def packages(tmp_path: Path) -> Path:
    """The example, and three packages with something wrong."""
    folder = tmp_path / "packages"
    folder.mkdir()
    shutil.copy(EXAMPLE / "pulizia_telephone.py", folder)
    package(folder, "pulizia-telephone", "pulizia_telephone:TOOL")
    package(folder, "broken-one", "broken_one:TOOL", "import nothing_like_it\n")
    package(folder, "second-noise", "second_noise:TOOL", "from pulizia.tools.noise import TOOL\n")
    package(folder, "no-tool", "no_tool:TOOL", "TOOL = 7\n")
    return folder


@pytest.mark.slow
def test_the_example_is_found_used_and_documented_and_broken_packages_harm_nothing(
    packages: Path, voice_file: Path, tmp_path: Path
) -> None:
    listed = pulizia(packages, "tools")
    assert listed.returncode == 0
    assert "telephone         Limits a voice to the band of a telephone line." in listed.stdout
    sentences = listed.stderr.strip().splitlines()
    assert len(sentences) == 3
    for name in ("broken-one", "second-noise", "no-tool"):
        assert sum(f"of the package {name} is switched off" in line for line in sentences) == 1
    assert "default 3400" in pulizia(packages, "tools", "telephone").stdout
    recipe = tmp_path / "r.json"
    step = {"tool": "telephone", "settings": {"high_hz": 3000}}
    recipe.write_text(json.dumps({"format": "pulizia-recipe", "version": 1, "name": "r", "steps": [step]}))
    done = pulizia(packages, "repair", voice_file, "--recipe", recipe, "-o", tmp_path / "line.wav")
    assert (done.returncode, done.stderr) == (0, "")
    without = pulizia(tmp_path, "repair", voice_file, "--recipe", recipe, "-o", tmp_path / "no.wav")
    assert without.returncode == 1
    assert "unknown tool telephone" in without.stderr
    own = subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", str(EXAMPLE)],
        env=os.environ | {"PYTHONPATH": f"{packages}{os.pathsep}{os.environ.get('PYTHONPATH', '')}"},
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert own.returncode == 0, own.stdout
    assert "1 passed" in own.stdout
    page = "from pulizia.report.manual import tool_page; print(tool_page('telephone'))"
    shown = subprocess.run(
        [sys.executable, "-c", page],
        env=os.environ | {"PYTHONPATH": str(packages)},
        capture_output=True,
        text=True,
        check=True,
    )
    assert "Lowest frequency" in shown.stdout


FINDER = """
import dataclasses
from pulizia.tools.finding import Problem
from pulizia.tools.level import TOOL as LEVEL, LevelSettings

class Own(LevelSettings):
    pass

QUIET = Problem(kind="quiet", mild=-20.0, grave=-60.0, unit="dBFS", certainty=(1.0, 1.0))

def find(source, progress):
    progress(0.5)
    if source.frames < source.rate:
        return ["no finding"]
    return [QUIET.found("louder", "It is quiet.", -40.0, {"gain_db": 6.0})]

TOOL = dataclasses.replace(LEVEL, id="louder", title="Louder", settings=Own, problems=(QUIET,), find=find)
"""


@pytest.mark.slow
def test_inspect_asks_the_finder_of_another_package_and_outlives_its_fault(tmp_path: Path, voice_file: Path) -> None:
    folder = tmp_path / "packages"
    folder.mkdir()
    package(folder, "pulizia-louder", "louder_tool:TOOL", FINDER)
    found = json.loads(pulizia(folder, "inspect", voice_file, "--json").stdout)["findings"]
    quiet = next(row for row in found if row["kind"] == "quiet")
    assert (quiet["tool"], quiet["severity"], quiet["settings"]) == ("louder", 0.5, {"gain_db": 6.0})
    short = tmp_path / "short.wav"
    soundfile.write(short, np.full(4000, 0.1, np.float32), 8000)
    ended = pulizia(folder, "inspect", short, "--json")
    assert ended.returncode == 0, ended.stderr
    (tmp_path / "clash").mkdir()
    package(tmp_path / "clash", "pulizia-clash", "clash_tool:TOOL", FINDER.replace('"quiet"', '"noise"'))
    assert "another tool finds problems of the kind noise" in pulizia(tmp_path / "clash", "tools").stderr
    assert "quiet" in json.loads(ended.stdout)["not_found"]


def test_the_python_face_does_what_its_page_says(tmp_path: Path, voice_file: Path) -> None:
    found = doctest.testmod(api)
    assert found.attempted >= 10
    assert found.failed == 0
    sound = api.open(voice_file)
    louder = sound.with_steps(api.step("level", way="gain", gain_db=6.0))
    assert np.allclose(louder.read(1.0, 2.0), sound.read(1.0, 2.0) * 10 ** (6 / 20), rtol=1e-5)
    assert louder.render(tmp_path / "l.wav") == ""
    assert np.abs(api.open(tmp_path / "l.wav").read() - louder.read()).max() < 2.0**-23
    assert sound.inspect()
    with pytest.raises(DeliveryError, match="is there already"):
        louder.render(tmp_path / "l.wav")
    with pytest.raises(MediaError, match="does not lie inside"):
        sound.read(5.0, 99.0)
