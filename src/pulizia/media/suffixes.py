# SPDX-License-Identifier: GPL-3.0-or-later
"""Which endings are looked at in folders and offered in dialogs; one list for the window, edit lists and watched folders.

A file of another ending can still be named: what it holds decides, not what it is called.
"""

from __future__ import annotations

from collections.abc import Iterable

SOUND = (
    ".wav", ".rf64", ".bwf", ".w64", ".flac", ".aif", ".aiff", ".aifc", ".caf", ".au", ".ogg", ".oga", ".opus", ".mp3", ".m4a",
    ".m4b", ".aac", ".wma",
)  # fmt: skip
VIDEO = (".mp4", ".m4v", ".mov", ".mkv", ".webm", ".mxf", ".avi", ".ts", ".mts")
ALL = frozenset({*SOUND, *VIDEO})


def pattern(suffixes: Iterable[str]) -> str:
    """The endings as file dialogs want them."""
    return " ".join(f"*{suffix}" for suffix in suffixes)
