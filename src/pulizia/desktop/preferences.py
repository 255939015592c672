# SPDX-License-Identifier: GPL-3.0-or-later
"""What the window remembers from one time to the next, as a small text file."""

from __future__ import annotations

import contextlib
import json
from pathlib import Path
from typing import Any

from pulizia.errors import DiskError
from pulizia.media.folders import state_folder
from pulizia.media.write import write_text

MOST_RECENT = 12


class Preferences:
    """Theme, window size, recent files. A damaged file counts as empty."""

    def __init__(self) -> None:
        self._file = state_folder("window") / "window.json"
        self._values: dict[str, Any] = {}
        with contextlib.suppress(OSError, ValueError):
            values = json.loads(self._file.read_text(encoding="utf-8"))
            if isinstance(values, dict):
                self._values = values

    def text(self, name: str, default: str) -> str:
        """A word."""
        value = self._values.get(name, default)
        return value if isinstance(value, str) else default

    def numbers(self, name: str) -> list[int]:
        """Whole numbers."""
        value = self._values.get(name, [])
        good = isinstance(value, list) and all(isinstance(v, int) for v in value)
        return value if good else []

    def table(self, name: str) -> dict[str, Any]:
        """Values by name."""
        value = self._values.get(name, {})
        return dict(value) if isinstance(value, dict) else {}

    def lists(self, name: str) -> dict[str, list[str]]:
        """Lists of words by name."""
        value = self._values.get(name, {})
        if not isinstance(value, dict):
            return {}
        good = {k: v for k, v in value.items() if isinstance(v, list) and all(isinstance(x, str) for x in v)}
        return {str(k): v for k, v in good.items()}

    @property
    def recent(self) -> list[Path]:
        """Files opened lately that are still there."""
        value = self._values.get("recent", [])
        names = value if isinstance(value, list) else []
        return [Path(n) for n in names if isinstance(n, str) and Path(n).exists()]

    def add_recent(self, *paths: Path) -> None:
        """Note files that were opened, the last one first in the list."""
        opened = [path.absolute() for path in reversed(paths)]
        names = dict.fromkeys(str(path) for path in (*opened, *self.recent))
        self.set("recent", list(names)[:MOST_RECENT])

    def set(self, name: str, value: Any) -> None:  # noqa: ANN401 - JSON values
        """Remember a value."""
        self._values[name] = value
        with contextlib.suppress(DiskError):  # a full disk only costs the memory of the window
            write_text(self._file, json.dumps(self._values, indent=1))
