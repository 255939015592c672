# SPDX-License-Identifier: GPL-3.0-or-later
"""The clips of a programme in its report."""

from __future__ import annotations

import html
from collections.abc import Sequence
from dataclasses import asdict, astuple, dataclass
from typing import Any

from pulizia.words import N_, tr

HEAD = (N_("at"), N_("length"), N_("lane"), N_("clip"), N_("file"), N_("from"), N_("gain"))


@dataclass(frozen=True, slots=True)
class ClipRow:
    """One clip in words: where it lies and how long it is, on which lane, of which file and from where in it."""

    start: str
    length: str
    lane: str
    name: str
    file: str
    source_start: str
    gain: str


def clips_html(clips: Sequence[ClipRow]) -> str:
    """A table of clips with its heading; nothing without clips."""
    if not clips:
        return ""
    head = "".join(f"<th>{html.escape(tr(word))}</th>" for word in HEAD)
    rows = "".join(
        "<tr>" + "".join(f"<td>{html.escape(cell)}</td>" for cell in astuple(clip)) + "</tr>" for clip in clips
    )
    title = html.escape(tr("Clips"))
    return f"<h2>{title}</h2><table><tr>{head}</tr>{rows}</table>"


def clips_content(clips: Sequence[ClipRow]) -> list[dict[str, Any]]:
    """The clips as plain JSON values."""
    return [asdict(clip) for clip in clips]
