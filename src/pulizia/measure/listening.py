# SPDX-License-Identifier: GPL-3.0-or-later
"""What was heard of a recording once and is asked for by many: kept by content, for the few sources in use."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable

from pulizia.audio.source import Source
from pulizia.measure.speech_activity import Activity, activity_of

MOST_KEPT = 12
_kept: OrderedDict[str, Activity] = OrderedDict()
_lock = threading.Lock()


def listened(source: Source, progress: Callable[[float], None] = lambda _: None) -> Activity:
    """Speech activity of a source; of the middle half hour of a long one."""
    with _lock:
        if (known := _kept.get(source.key)) is not None:
            _kept.move_to_end(source.key)
            return known
    found = activity_of(source, progress)
    with _lock:
        _kept[source.key] = found
        while len(_kept) > MOST_KEPT:
            _kept.popitem(last=False)
    return found


def voice_level_db(source: Source, progress: Callable[[float], None] = lambda _: None) -> float:
    """Mean level of the voice in the band of speech in dBFS; -160 where nobody speaks."""
    found = listened(source, progress)
    return found.speech_db if found.active.any() else -160.0
