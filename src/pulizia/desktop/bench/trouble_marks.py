# SPDX-License-Identifier: GPL-3.0-or-later
"""Where the sound goes over full scale or was cut flat, and where something was found, as columns of a view."""

from __future__ import annotations

import numpy as np

from pulizia.measure.blocks import BLOCKS_PER_SECOND
from pulizia.session.heard import Listening
from pulizia.session.session import Session


def troubled_columns(session: Session, first: float, frames_per_column: float, count: int) -> list[int]:
    """Columns in which a true peak passes full scale or tops are flattened, of what is heard."""
    if session.listening.is_removed:
        return []
    measures = session.measures("before" if session.listening is Listening.BEFORE else "after")
    if measures is None:
        return []
    per_block = measures.rate_hz / BLOCKS_PER_SECOND
    low, high = first / per_block, (first + count * frames_per_column) / per_block
    seen = measures.troubled[np.searchsorted(measures.troubled, low) : np.searchsorted(measures.troubled, high)]
    columns = np.unique(np.floor((seen * per_block - first) / frames_per_column).astype(np.int64))
    return [int(c) for c in columns if 0 <= c < count]


def found_columns(session: Session, first: float, frames_per_column: float, count: int) -> list[int]:
    """Columns in which the inspection found a moment, of what is heard."""
    starts = session.inspection.places(session.heard_source)
    seen = starts[np.searchsorted(starts, first) : np.searchsorted(starts, first + count * frames_per_column)]
    return [int(c) for c in np.unique(np.floor((seen - first) / frames_per_column))]
