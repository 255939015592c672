# SPDX-License-Identifier: GPL-3.0-or-later
"""What became of each stretch of a programme in a new cut, and the sentences that say so."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from pulizia.project.clips import Programme
from pulizia.units import format_time
from pulizia.words import tr

Change = Literal["moved", "trimmed", "longer", "new", "gone", "left out"]
_ORDER: dict[Change, int] = {"gone": 0, "new": 1, "left out": 2, "longer": 3, "trimmed": 4, "moved": 5}


@dataclass(frozen=True, slots=True, kw_only=True)
class ConformRow:
    """What became of a stretch: ``at`` in the new programme, or where it was when it is gone.

    "longer" is a clip of which the new cut plays more: its work reaches as far. "left out" is a stretch that both lists ask for and that had been taken out of the programme since.
    """

    change: Change
    name: str
    lane: str
    at: int
    frames: int
    was: int | None = None


@dataclass(frozen=True, slots=True)
class Conformed:
    """The programme in the new order, and a row for every stretch that changed."""

    programme: Programme
    rows: tuple[ConformRow, ...]

    def count(self, change: Change) -> int:
        """Of rows of a kind."""
        return sum(row.change == change for row in self.rows)


def in_order(rows: list[ConformRow]) -> tuple[ConformRow, ...]:
    """What most wants to be looked at comes first; by place within each kind."""
    return tuple(sorted(rows, key=lambda r: (_ORDER[r.change], r.at)))


def count_words(found: Conformed) -> str:
    """How many stretches there are of each kind that occurs, as a sentence."""
    words = {
        "moved": tr("{n} moved", n=found.count("moved")),
        "trimmed": tr("{n} trimmed", n=found.count("trimmed")),
        "longer": tr("{n} longer", n=found.count("longer")),
        "new": tr("{n} new", n=found.count("new")),
        "left out": tr("{n} left out as before", n=found.count("left out")),
        "gone": tr("{n} gone", n=found.count("gone")),
    }
    there = {row.change for row in found.rows}
    if not there:
        return tr("Nothing changed.")
    return ", ".join(said for change, said in words.items() if change in there) + "."


def row_words(row: ConformRow, rate: int) -> str:
    """A row as a sentence."""
    at, length = format_time(row.at / rate, 2), format_time(row.frames / rate, 2)
    name = row.name or row.lane
    if row.change == "new":
        return tr("New at {at}: {name}, {length}.", at=at, name=name, length=length)
    if row.change == "gone":
        return tr("Gone: {name}, {length}, was at {at}.", at=at, name=name, length=length)
    if row.change == "left out":
        return tr("Left out as before, at {at}: {name}, {length}.", at=at, name=name, length=length)
    was = format_time((row.was or 0) / rate, 2)
    if row.change == "trimmed":
        return tr("Part of {name}, {length}, now at {at}, was at {was}.", at=at, name=name, length=length, was=was)
    if row.change == "longer":
        return tr("Longer: {name}, {length}, now at {at}, was at {was}.", at=at, name=name, length=length, was=was)
    return tr("Moved: {name}, now at {at}, was at {was}.", at=at, name=name, was=was)
