# SPDX-License-Identifier: GPL-3.0-or-later
"""The recordings that ship with the program."""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path

NAMES = ("hall-of-pendulums", "room-04-water-clock", "room-07-pocket-watches", "interview-keeper-anselmi")


def demo_files() -> list[Path]:
    """Recordings of an invented clock museum, with something wrong in each."""
    folder = files("pulizia.data").joinpath("demo")
    return [Path(str(folder.joinpath(f"{name}.flac"))) for name in NAMES]
