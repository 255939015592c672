# SPDX-License-Identifier: GPL-3.0-or-later
"""Named places in a recording, and the labelled text list in which they travel.

The list has one line per place: start and end in seconds and the name, tabs between them. Many
editors and annotation programs read and write it.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Literal

from pulizia.audio.spans import Span
from pulizia.errors import ProjectError
from pulizia.words import tr

NoteKind = Literal["", "mix", "again", "problem", "reel"]
LONGEST_NAME, LONGEST_NOTE = 200, 2000
MOST_MARKERS = 100_000


@dataclass(frozen=True, slots=True, order=True)
class Marker:
    """A place with a name; a region has a length, either may have a note.

    Attributes
    ----------
    kind : "mix" is a note for the mixer, "again" a line to be recorded again, "problem" something to be solved,
        "reel" the beginning of a reel, or the whole of one where it has a length
    scene, who : of a note; "" where nothing is said
    """

    frame: int
    name: str
    frames: int = 0
    note: str = ""
    kind: NoteKind = ""
    scene: str = ""
    who: str = ""

    def moved(self, scale: float, shift: int = 0) -> Marker:
        """At another rate, and later by ``shift`` frames of it."""
        return replace(self, frame=round(self.frame * scale) + shift, frames=round(self.frames * scale))


def in_order(markers: Iterable[Marker], frames: int | None = None) -> tuple[Marker, ...]:
    """Markers by time, each once, with names of one line; those of a recording inside its ``frames``.

    A programme has no end of its own: what is noted behind its last clip is kept (None).
    """
    kept = {
        replace(
            m,
            name=_one_line(m.name),
            frames=max(0, m.frames if frames is None else min(m.frames, frames - m.frame)),
            note=m.note.strip()[:LONGEST_NOTE],
            scene=m.scene.strip()[:LONGEST_NAME],
            who=m.who.strip()[:LONGEST_NAME],
        )
        for m in markers
        if m.frame >= 0 and (frames is None or m.frame <= frames)
    }
    return tuple(sorted(kept))[:MOST_MARKERS]


@dataclass(frozen=True, slots=True)
class Reel:
    """A part of a programme that is handed over as a file of its own."""

    name: str
    span: Span


def reels_of(markers: Iterable[Marker], frames: int) -> tuple[Reel, ...]:
    """Reels by their beginning: each as long as its marker, or up to the next reel, or to the end; no name twice."""
    rows = sorted((m for m in markers if m.kind == "reel" and m.frame < frames), key=lambda m: m.frame)
    rows = [m for n, m in enumerate(rows) if n + 1 == len(rows) or rows[n + 1].frame > m.frame]
    found: list[Reel] = []
    for n, m in enumerate(rows):
        following = rows[n + 1].frame if n + 1 < len(rows) else frames
        name = m.name if all(m.name != other.name for other in rows if other is not m) else f"{m.name} {n + 1}"
        found.append(Reel(name, Span(m.frame, min(m.frame + m.frames, frames) if m.frames else following)))
    return tuple(found)


def as_label_list(markers: Iterable[Marker], rate: int) -> str:
    """The text list, microseconds exact."""
    return "".join(f"{m.frame / rate:.6f}\t{(m.frame + m.frames) / rate:.6f}\t{m.name}\n" for m in markers)


def from_label_list(text: str, rate: int) -> list[Marker]:
    """Markers of a text list.

    Raises
    ------
    ProjectError
        With the number of the first line that is not one.
    """
    found: list[Marker] = []
    for number, line in enumerate(text.lstrip("\ufeff").splitlines(), 1):
        if not line.strip() or line.startswith("\\"):  # a second line with frequencies
            continue
        parts = line.split("\t")
        seconds = _number(parts[0])
        if not math.isfinite(seconds) or seconds < 0:
            message = tr(
                "Line {number} of the list has no time. Each line is: seconds, tab, seconds, tab, name.", number=number
            )
            raise ProjectError(message)
        start, end = round(seconds * rate), _number(parts[1]) if len(parts) > 1 else math.nan
        frames = max(0, round(end * rate) - start) if math.isfinite(end) else 0
        found.append(
            Marker(start, parts[2] if len(parts) > 2 else tr("Marker {number}", number=len(found) + 1), frames)
        )
    return found


def _number(text: str) -> float:
    try:
        return float(text.replace(",", "."))
    except ValueError:
        return math.nan


def _one_line(name: str) -> str:
    return " ".join(name.split())[:LONGEST_NAME] or "Marker"
