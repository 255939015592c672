# SPDX-License-Identifier: GPL-3.0-or-later
"""The list that a programme was made of: kept word for word, with the report on what was found and what it could not say."""

from __future__ import annotations

import base64
import json
import zlib
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

from pulizia.words import tr

LARGEST_BYTES = 32 << 20
MOST_LINES, PIECE = 50_000, 60_000  # a text of a project file is no longer


@dataclass(frozen=True, slots=True)
class Laid:
    """A clip as the list asked for it, before anything was done to the programme; frames of the programme's clock.

    Attributes
    ----------
    lane_id, lane : identity of the lane that was made for the list's track, and the track's name
    channel : of the recording, counted from 0; None is all
    """

    lane_id: str
    lane: str
    recording_id: str
    start: int
    inner: int
    frames: int
    channel: int | None


@dataclass(frozen=True, slots=True)
class Received:
    """An edit list as it came.

    Attributes
    ----------
    name : its file name
    kind : "otio", "aaf", "edl", "xml" or "csv"
    content : all of its bytes; empty for one that is too large to be kept
    report : sentences on media and on what the list could not say
    laid : its clips as they were laid; empty in a project of an earlier version
    starts : of recordings by identity, the time in seconds that the list calls their first frame
    prefers_field : whether field recordings were taken in the place of cameras' sound
    title : what the list calls the cut; the programme is called so until somebody gives it another name
    """

    name: str
    kind: str
    content: bytes
    report: tuple[str, ...] = ()
    laid: tuple[Laid, ...] = ()
    starts: tuple[tuple[str, Fraction], ...] = ()
    prefers_field: bool = False
    title: str = ""


def received_row(received: Received) -> dict[str, Any]:
    """As plain JSON values."""
    row: dict[str, Any] = {
        "name": received.name, "kind": received.kind, "content": _packed(received.content), "report": list(received.report),
    }  # fmt: skip
    if received.laid:
        lanes = dict.fromkeys((c.lane_id, c.lane) for c in received.laid)
        recordings = dict.fromkeys(c.recording_id for c in received.laid)
        lane_at, recording_at = ({key: n for n, key in enumerate(keys)} for keys in (lanes, recordings))
        clips = [
            [lane_at[c.lane_id, c.lane], recording_at[c.recording_id], c.start, c.inner, c.frames, c.channel]
            for c in received.laid
        ]
        laid = {"lanes": [list(key) for key in lanes], "recordings": list(recordings), "clips": clips}
        row["laid"] = _packed(json.dumps(laid, separators=(",", ":")).encode())
    if received.starts:
        row["starts"] = {recording: str(start) for recording, start in received.starts}
    return (
        row
        | ({"prefers_field": True} if received.prefers_field else {})
        | ({"title": received.title} if received.title else {})
    )


def received_of(row: dict[str, Any]) -> Received:
    """A row of a file; ValueError when it is damaged."""
    return Received(
        str(row["name"])[:1000], str(row["kind"])[:10], _unpacked(row["content"]),
        tuple(str(line)[:4000] for line in row["report"][:MOST_LINES]), _laid(row.get("laid")),
        tuple((str(recording), Fraction(str(start))) for recording, start in row.get("starts", {}).items()),
        bool(row.get("prefers_field", False)), str(row.get("title", ""))[:1000],
    )  # fmt: skip


def _laid(pieces: list[str] | None) -> tuple[Laid, ...]:
    if pieces is None:
        return ()
    found = json.loads(_unpacked(pieces))
    lanes, recordings = found["lanes"], found["recordings"]
    return tuple(
        Laid(
            str(lanes[lane][0]), str(lanes[lane][1]), str(recordings[recording]), int(start), int(inner), int(frames),
            None if channel is None else int(channel),
        )
        for lane, recording, start, inner, frames, channel in found["clips"]
    )  # fmt: skip


def _packed(content: bytes) -> list[str]:
    """Bytes as pieces of text that a project file may hold."""
    packed = base64.b64encode(zlib.compress(content, 6)).decode("ascii")
    return [packed[at : at + PIECE] for at in range(0, len(packed), PIECE)]


def _unpacked(pieces: list[str]) -> bytes:
    unpacker = zlib.decompressobj()
    try:
        return unpacker.decompress(base64.b64decode("".join(pieces), validate=True), LARGEST_BYTES)
    except zlib.error as error:
        raise ValueError(tr("a kept edit list is damaged")) from error
