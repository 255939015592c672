# SPDX-License-Identifier: GPL-3.0-or-later
"""The library for AAF files; it is part of an optional group."""

from __future__ import annotations

from typing import Any

from pulizia.interchange.edit_list import EditListError
from pulizia.words import tr


def aaf_library() -> Any:
    """The library. EditListError when it is not installed."""
    try:
        import aaf2
    except ImportError as error:
        message = tr("AAF lists need the package pyaaf2. Install pulizia with its group editlists.")
        raise EditListError(message) from error
    return aaf2
