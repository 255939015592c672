# SPDX-License-Identifier: GPL-3.0-or-later
"""A file that a coding library writes into: what the disk refuses is kept here and told by us.

The library prints tracebacks of its own and leaves its file open when a write fails in its hands.
"""

from __future__ import annotations

import os
from pathlib import Path


class Sink:
    """Takes every write; after the first one that failed, the rest goes nowhere. ``check`` raises what was refused."""

    def __init__(self, path: Path) -> None:
        self._file = path.open("w+b")
        self._at = 0
        self._error: OSError | None = None

    def write(self, data: bytes) -> int:
        """Write at the present place."""
        if self._error is None:
            try:
                self._file.write(data)
            except OSError as error:
                self._error = error
        self._at += len(data)
        return len(data)

    def seek(self, offset: int, whence: int = os.SEEK_SET) -> int:
        """Go to a place."""
        if self._error is None:
            try:
                self._at = self._file.seek(offset, whence)
            except OSError as error:
                self._error = error
        if self._error is not None:
            self._at = offset if whence == os.SEEK_SET else self._at + offset
        return self._at

    def tell(self) -> int:
        """The present place."""
        return self._at

    def check(self) -> None:
        """Raise OSError when anything was refused."""
        if self._error is not None:
            raise self._error

    def close(self) -> None:
        """Close the file; what was still to be written may be refused now."""
        try:
            self._file.close()
        except OSError as error:
            self._error = self._error or error
