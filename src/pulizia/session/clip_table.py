# SPDX-License-Identifier: GPL-3.0-or-later
"""The clips of a programme as rows of a table. No Qt."""

from __future__ import annotations

from collections.abc import Callable

from pulizia.project.clips import Programme
from pulizia.report.clip_table import ClipRow
from pulizia.units import format_number, format_time


def clip_rows(programme: Programme, file_of: Callable[[str], str]) -> tuple[ClipRow, ...]:
    """The clips that are on, by their place; ``file_of`` gives the file name of a recording."""
    rate = programme.rate
    rows = [
        (clip.start, number, lane, clip)
        for number, lane in enumerate(programme.lanes)
        for clip in lane.clips
        if clip.enabled and not lane.muted
    ]
    return tuple(
        ClipRow(
            format_time(clip.start / rate, 3), format_time(clip.frames / rate, 3), lane.name, clip.name,
            file_of(clip.recording_id), "" if clip.tone else format_time(max(0, clip.inner) / rate, 3),
            f"{format_number(clip.gain_db, 1, plus=True)} dB" if clip.gain_db else "",
        )
        for _, _, lane, clip in sorted(rows, key=lambda row: row[:2])
    )  # fmt: skip
