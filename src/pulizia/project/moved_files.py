# SPDX-License-Identifier: GPL-3.0-or-later
"""Where the other files of a project are, once one of them was found in another folder."""

from __future__ import annotations

from pathlib import Path


def places_of(lost: Path, old: Path, new: Path) -> list[Path]:
    """Where a file that was lost may lie now: moved along with its folder, or beside the one that was found.

    Parameters
    ----------
    lost
        Where the file lay.
    old, new
        Where another one lay, and where it was found.

    Returns
    -------
    The likeliest first, each once.
    """
    old_root, new_root = old.parent, new.parent
    while old_root.name and old_root.name == new_root.name:
        old_root, new_root = old_root.parent, new_root.parent
    moved = [new_root / lost.relative_to(old_root)] if lost.is_relative_to(old_root) else []
    return list(dict.fromkeys([*moved, new.parent / lost.name]))
