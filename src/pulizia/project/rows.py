# SPDX-License-Identifier: GPL-3.0-or-later
"""Steps, markers and spans as rows of a project file."""

from __future__ import annotations

from typing import Any, get_args

from pulizia.audio.markers import Marker, NoteKind
from pulizia.audio.spans import Span
from pulizia.errors import SettingsError
from pulizia.score.steps import Step, settings_of, settings_row, version_of
from pulizia.settings.declare import Settings
from pulizia.tools.base import AnyTool
from pulizia.tools.registry import is_absent, tool_or_stand_in
from pulizia.words import tr


def marker_row(marker: Marker) -> list[int | str]:
    """A marker as plain JSON values."""
    row: list[int | str] = [marker.frame, marker.name]
    if marker.kind or marker.scene or marker.who:
        return [*row, marker.frames, marker.note, marker.kind, marker.scene, marker.who]
    return [*row, marker.frames, marker.note] if marker.frames or marker.note else row


def marker_of(row: list[Any]) -> Marker:
    """A marker of a file; ValueError or TypeError for a damaged one."""
    usual: list[Any] = [0, "", 0, "", "", "", ""]
    if not 2 <= len(row) <= len(usual):
        raise ValueError(tr("a marker is not one"))
    frame, name, frames, note, kind, scene, who = [*row, *usual[len(row) :]]
    if kind not in get_args(NoteKind):
        raise ValueError(tr("a marker is of an unknown kind"))
    return Marker(int(frame), str(name), int(frames), str(note), kind, str(scene), str(who))


def step_row(step: Step) -> dict[str, Any]:
    """A step as plain JSON values."""
    row = {
        "id": step.id, "tool": step.tool_id, "tool_version": version_of(step),
        "settings": settings_row(step.settings),
        "spans": None if step.spans is None else [[s.start, s.stop] for s in step.spans],
        "holes": [[s.start, s.stop] for s in step.holes],
        "band_hz": list(step.band_hz) if step.band_hz else None,
        "channels": None if step.channels is None else list(step.channels),
        "enabled": step.enabled,
    }  # fmt: skip
    if step.compared is not None:
        row["compared"] = {"side": step.compared[0], "other": settings_row(step.compared[1])}
    return row


def step_of(row: dict[str, Any], rate: int, channels_there: int) -> Step:
    """A step of a file; ValueError, KeyError or SettingsError for a damaged or newer one."""
    tool = tool_or_stand_in(row["tool"])
    if int(row.get("tool_version", 1)) > tool.version and not is_absent(tool):
        message = tr("a step {name} was made by a newer Pulizia", name=tool.id)
        raise SettingsError(message)
    spans, channels, band = row["spans"], row.get("channels"), row.get("band_hz")
    if band is not None and not 0 <= float(band[0]) < float(band[1]) <= rate:
        message = tr(
            "a step {name} acts in a band from {low:g} to {high:g} Hz",
            name=tool.id,
            low=float(band[0]),
            high=float(band[1]),
        )
        raise ValueError(message)
    if channels is not None and not all(0 <= int(c) < channels_there for c in channels):
        message = tr("a step {name} acts on channels that are not there", name=tool.id)
        raise ValueError(message)
    return Step(
        id=str(row["id"]), tool_id=tool.id, settings=settings_of(tool, row["settings"], int(row.get("tool_version", 1))),
        spans=None if spans is None else spans_of(spans), holes=spans_of(row.get("holes", [])),
        band_hz=None if band is None else (float(band[0]), float(band[1])),
        channels=None if channels is None else tuple(int(c) for c in channels),
        enabled=bool(row["enabled"]), compared=_compared_of(tool, row.get("compared"), int(row.get("tool_version", 1))),
    )  # fmt: skip


def _compared_of(tool: AnyTool, row: Any, version: int) -> tuple[str, Settings] | None:  # noqa: ANN401 - JSON
    if row is None:
        return None
    side = row["side"]
    if side not in ("A", "B"):
        raise ValueError(tr("the sides of a step are no A and B"))
    return side, settings_of(tool, row["other"], version)


def spans_of(rows: list[list[int]]) -> tuple[Span, ...]:
    """Spans of a file."""
    return tuple(Span(int(a), int(b)) for a, b in rows)
