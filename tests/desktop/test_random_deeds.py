# SPDX-License-Identifier: GPL-3.0-or-later
"""What nobody thought of: commands, clicks, keys, menus and dialogs in an order that chance makes."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[2]


@pytest.mark.slow
@pytest.mark.parametrize("seed", [1, 2, 3])
def test_nothing_unexpected_comes_of_random_deeds(seed: int, tmp_path: Path) -> None:
    folders = {name: str(tmp_path / name.lower()) for name in ("HOME", "XDG_CONFIG_HOME", "XDG_CACHE_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME")}  # fmt: skip
    files = tmp_path / "files"
    files.mkdir()
    done = subprocess.run(
        [sys.executable, "-m", "tests.desktop.random_deeds", str(seed), "300", str(files)],
        cwd=ROOT, env={**os.environ, **folders, "QT_QPA_PLATFORM": "offscreen"}, capture_output=True, text=True,
        timeout=240, check=False,
    )  # fmt: skip
    told = "\n".join(line for line in (done.stdout + done.stderr).splitlines() if "This plugin does not" not in line)
    assert done.returncode == 0, told[-6000:]
