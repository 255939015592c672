# SPDX-License-Identifier: GPL-3.0-or-later
"""The library for AAF files; it is part of an optional group."""

from __future__ import annotations

import logging
from functools import cache
from typing import Any

from pulizia.interchange.edit_list import EditListError
from pulizia.words import tr


@cache
def aaf_library() -> Any:
    """The library. EditListError when it is not installed."""
    try:
        import aaf2
        from aaf2 import cfb, rational, types
    except ImportError as error:
        message = tr("AAF lists need the package pyaaf2. Install pulizia with its group editlists.")
        raise EditListError(message) from error
    # it writes of damage to the root of all logs, which prints lines between ours: it gets a log of its own
    log = logging.getLogger("aaf2")
    log.addHandler(logging.NullHandler())
    for part in (cfb, rational, types):
        part.logging = log
    return aaf2
