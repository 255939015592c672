# SPDX-License-Identifier: GPL-3.0-or-later
"""Programmes as rows of a project file."""

from __future__ import annotations

import math
from fractions import Fraction
from typing import Any

from pulizia.audio.markers import in_order
from pulizia.audio.timeline import Edge
from pulizia.project.clips import (
    FLATTEST,
    KINDS,
    MOST_CHANNELS,
    MOST_CLIPS,
    MOST_LANES,
    TALLEST,
    Clip,
    Lane,
    Programme,
)
from pulizia.project.received import received_of, received_row
from pulizia.project.rows import marker_of, marker_row, step_of, step_row
from pulizia.project.warped import checked
from pulizia.words import tr

LAWS = ("gain", "power", "matched")
LONGEST_NAME, LONGEST_NOTE, LONGEST_PATH = 1000, 4000, 8000
MOST_DRIFT_PPM = 10_000.0


def programme_row(programme: Programme) -> dict[str, Any]:
    """A programme as plain JSON values."""
    return {
        "id": programme.id, "name": programme.name, "rate": programme.rate, "channels": programme.channels,
        "lanes": [lane_row(lane) for lane in programme.lanes],
        "steps": [step_row(step) for step in programme.steps],
        "markers": [marker_row(marker) for marker in programme.markers],
        "target": programme.target_id, "start_frame": programme.start_frame,
        "picture_rate": str(programme.picture_rate), "drop_frame": programme.drop_frame,
        "received": None if programme.received is None else received_row(programme.received),
    } | ({"film": programme.film, "film_quarters": programme.film_quarters} if programme.film else {}) | (
        {"picture_locked": True} if programme.picture_locked else {}
    )  # fmt: skip


def lane_row(lane: Lane) -> dict[str, Any]:
    """A lane as plain JSON values."""
    return {
        "id": lane.id, "name": lane.name, "kind": lane.kind, "gain_db": lane.gain_db, "muted": lane.muted,
        "soloed": lane.soloed, "placement": lane.placement, "stem": lane.stem,
        "clips": [clip_row(clip) for clip in lane.clips], "steps": [step_row(step) for step in lane.steps],
    } | ({"group": lane.group} if lane.group else {}) | ({"height": lane.height} if lane.height != 1.0 else {}) | (
        {"locked": True} if lane.locked else {}
    )  # fmt: skip


def clip_row(clip: Clip) -> dict[str, Any]:
    """A clip as plain JSON values."""
    row: dict[str, Any] = {
        "id": clip.id, "recording": clip.recording_id, "start": clip.start, "inner": clip.inner, "frames": clip.frames,
    }  # fmt: skip
    usual = Clip(recording_id="", start=0, inner=0, frames=1)
    for name in ("tone", "channel", "gain_db", "enabled", "inverted", "drift_ppm", "shift", "name", "note"):
        if getattr(clip, name) != getattr(usual, name):
            row[name] = getattr(clip, name)
    if clip.warp:
        row["warp"] = [list(pair) for pair in clip.warp]
    if clip.listed is not None:
        row["listed"] = list(clip.listed)
    if clip.gain_line:
        row["gain_line"] = [list(point) for point in clip.gain_line]
    for name in ("fade_in", "fade_out"):
        edge: Edge = getattr(clip, name)
        if edge != Edge():
            row[name] = [edge.frames, edge.law]
    return row


def programme_of_row(row: dict[str, Any]) -> Programme:
    """A programme of a file.

    Raises
    ------
    ValueError, KeyError, TypeError, ProjectError
        For a row that is damaged; the reader of the file makes one sentence of it.
    """
    rate, channels = int(row["rate"]), int(row["channels"])
    if rate <= 0 or not 0 < channels <= MOST_CHANNELS:
        message = tr("programme {name} has no rate or no channels", name=row.get("name"))
        raise ValueError(message)
    if len(row["lanes"]) > MOST_LANES:
        message = tr("programme {name} has too many lanes", name=row.get("name"))
        raise ValueError(message)
    picture_rate = Fraction(str(row["picture_rate"]))
    if not 1 <= picture_rate <= 1000:
        message = tr("programme {name} has no picture rate", name=row.get("name"))
        raise ValueError(message)
    return Programme(
        id=str(row["id"]), name=str(row["name"])[:LONGEST_NAME], rate=rate, channels=channels,
        lanes=tuple(_lane(entry, rate, channels) for entry in row["lanes"]),
        steps=tuple(step_of(entry, rate, channels) for entry in row["steps"]),
        target_id=str(row["target"]), start_frame=int(row["start_frame"]), picture_rate=picture_rate,
        drop_frame=bool(row["drop_frame"]), picture_locked=bool(row.get("picture_locked", False)),
        received=None if row["received"] is None else received_of(row["received"]),
        film=str(row.get("film", ""))[:LONGEST_PATH], film_quarters=int(row.get("film_quarters", 0)),
        markers=in_order(marker_of(entry) for entry in row["markers"]),
    )  # fmt: skip


def _lane(row: dict[str, Any], rate: int, channels: int) -> Lane:
    if len(row["clips"]) > MOST_CLIPS:
        message = tr("lane {name} has too many clips", name=row.get("name"))
        raise ValueError(message)
    if row["kind"] not in KINDS:
        message = tr("lane {name} is of an unknown kind", name=row.get("name"))
        raise ValueError(message)
    lane = Lane(
        id=str(row["id"]), name=str(row["name"])[:LONGEST_NAME], kind=row["kind"], gain_db=_finite(row["gain_db"]),
        muted=bool(row["muted"]), soloed=bool(row["soloed"]), placement=str(row["placement"])[:LONGEST_NAME],
        stem=str(row["stem"])[:LONGEST_NAME], steps=tuple(step_of(entry, rate, channels) for entry in row["steps"]),
        group=str(row.get("group", ""))[:LONGEST_NAME],
        height=min(max(_finite(row.get("height", 1.0)), FLATTEST), TALLEST), locked=bool(row.get("locked", False)),
    )  # fmt: skip
    return lane.with_clips(clip_of(entry) for entry in row["clips"])


def clip_of(row: dict[str, Any]) -> Clip:
    """A clip of a file; see :func:`programme_of_row` for the errors."""
    channel = row.get("channel")
    return Clip(
        id=str(row["id"]), recording_id=str(row["recording"]), start=int(row["start"]), inner=int(row["inner"]),
        frames=int(row["frames"]), tone=bool(row.get("tone", False)),
        channel=None if channel is None else max(0, int(channel)), gain_db=_finite(row.get("gain_db", 0.0)),
        gain_line=tuple((int(at), _finite(db)) for at, db in row.get("gain_line", ())),
        fade_in=_edge(row.get("fade_in")), fade_out=_edge(row.get("fade_out")), enabled=bool(row.get("enabled", True)),
        inverted=bool(row.get("inverted", False)), drift_ppm=_small(row.get("drift_ppm", 0.0)), shift=_small(row.get("shift", 0.0)), name=str(row.get("name", ""))[:LONGEST_NAME],
        note=str(row.get("note", ""))[:LONGEST_NOTE], warp=checked(row["warp"]) if row.get("warp") else (),
        listed=_listed(row.get("listed")),
    )  # fmt: skip


def _listed(row: Any) -> tuple[str, int] | None:  # noqa: ANN401 - a row of a file
    if row is None:
        return None
    recording, more = row
    return str(recording), int(more)


def _edge(row: Any) -> Edge:  # noqa: ANN401 - a row of a file
    if row is None:
        return Edge()
    frames, law = row
    if law not in LAWS or int(frames) < 0:
        message = tr("a fade is of an unknown kind")
        raise ValueError(message)
    return Edge(int(frames), law)


def _small(value: Any) -> float:  # noqa: ANN401 - a value of a file
    number = _finite(value)
    if abs(number) > MOST_DRIFT_PPM:
        message = tr("a clip was lined up with a clock that cannot be")
        raise ValueError(message)
    return number


def _finite(value: Any) -> float:  # noqa: ANN401 - a value of a file
    number = float(value)
    if not math.isfinite(number):
        message = tr("a gain is not a number")
        raise ValueError(message)
    return number
