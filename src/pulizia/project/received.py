# SPDX-License-Identifier: GPL-3.0-or-later
"""The list that a programme was made of: kept word for word, with the report on what was found and what it could not say."""

from __future__ import annotations

import base64
import zlib
from dataclasses import dataclass
from typing import Any

from pulizia.words import tr

LARGEST_BYTES = 32 << 20
MOST_LINES, PIECE = 50_000, 60_000  # a text of a project file is no longer


@dataclass(frozen=True, slots=True)
class Received:
    """An edit list as it came.

    Attributes
    ----------
    name : its file name
    kind : "otio", "aaf", "edl", "xml" or "csv"
    content : all of its bytes; empty for one that is too large to be kept
    report : sentences on media and on what the list could not say
    """

    name: str
    kind: str
    content: bytes
    report: tuple[str, ...] = ()


def received_row(received: Received) -> dict[str, Any]:
    """As plain JSON values."""
    packed = base64.b64encode(zlib.compress(received.content, 6)).decode("ascii")
    pieces = [packed[at : at + PIECE] for at in range(0, len(packed), PIECE)]
    return {"name": received.name, "kind": received.kind, "content": pieces, "report": list(received.report)}


def received_of(row: dict[str, Any]) -> Received:
    """A row of a file; ValueError when it is damaged."""
    unpacker = zlib.decompressobj()
    try:
        content = unpacker.decompress(base64.b64decode("".join(row["content"]), validate=True), LARGEST_BYTES)
    except zlib.error as error:
        raise ValueError(tr("a kept edit list is damaged")) from error
    return Received(
        str(row["name"])[:1000],
        str(row["kind"])[:10],
        content,
        tuple(str(line)[:4000] for line in row["report"][:MOST_LINES]),
    )
