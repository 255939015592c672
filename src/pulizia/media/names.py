# SPDX-License-Identifier: GPL-3.0-or-later
"""Names of files made of what people and other programs write: safe on every disk, and short enough."""

from __future__ import annotations

import re
from pathlib import Path

LONGEST_BYTES = 200  # of a name without its ending: disks take 255, and a number or an ending may follow
MOST_NUMBERED = 10_000


def safe_name(text: str, usual: str = "untitled") -> str:
    """A name that stays in its folder: no separators, control characters, or dots and dashes at its start."""
    name = re.sub(r'[\\/:*?"<>|\x00-\x1f\x7f-\x9f\u2028\u2029]', "-", text).strip(" .-") or usual
    while len(name.encode("utf-8", "replace")) > LONGEST_BYTES:
        name = name[:-1]
    return name.rstrip(" .-") or usual


def free_name(path: Path) -> Path:
    """A name beside a file that is there: name-2, name-3 and on; the path itself when it is free."""
    if not path.exists():
        return path
    numbered = (path.with_name(f"{path.stem}-{n}{path.suffix}") for n in range(2, MOST_NUMBERED))
    return next((p for p in numbered if not p.exists()), path)
