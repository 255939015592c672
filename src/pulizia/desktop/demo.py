# SPDX-License-Identifier: GPL-3.0-or-later
"""The recordings that ship with the program."""

from __future__ import annotations

from collections.abc import Sequence
from importlib.resources import files
from pathlib import Path

from pulizia.audio.markers import Marker
from pulizia.audio.timeline import Edge
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.model import Recording
from pulizia.words import tr

NAMES = ("hall-of-pendulums", "room-04-water-clock", "room-07-pocket-watches", "interview-keeper-anselmi")


def demo_files() -> list[Path]:
    """Recordings of an invented clock museum, with something wrong in each."""
    folder = files("pulizia.data").joinpath("demo")
    return [Path(str(folder.joinpath(f"{name}.flac"))) for name in NAMES]


RATE = 48_000
GUIDE = (
    # recording, from and to in its seconds, pause before it on the timeline
    ("hall-of-pendulums", 1.4, 6.8, 1.0), ("hall-of-pendulums", 7.7, 13.0, 0.5), ("room-04-water-clock", 2.3, 5.0, 13.2),
    ("room-04-water-clock", 6.2, 11.5, 0.4), ("room-04-water-clock", 12.6, 16.5, 0.5), ("room-07-pocket-watches", 3.9, 9.3, 8.5),
    ("room-07-pocket-watches", 10.3, 12.9, 0.6), ("hall-of-pendulums", 22.1, 26.5, 0.8),
)  # fmt: skip
KEEPER = (
    ("interview-keeper-anselmi", 1.2, 7.3, 13.0),
    ("interview-keeper-anselmi", 8.5, 12.8, 0.5),
    ("interview-keeper-anselmi", 13.2, 15.8, 15.0),
)
EDGE = Edge(round(0.06 * RATE))


def demo_programme(recordings: Sequence[Recording]) -> Programme | None:
    """A short chapter of the museum's audio guide: a guide, the keeper, and the hall's room tone; None unless all are there."""
    by_name = {r.name: r for r in recordings}
    if not set(NAMES) <= set(by_name):
        return None

    def row(phrases: Sequence[tuple[str, float, float, float]]) -> list[Clip]:
        at, made = 0.0, []
        for name, start, stop, pause in phrases:
            at += pause
            made.append(
                Clip(recording_id=by_name[name].id, name=name, start=round(at * RATE), inner=round(start * RATE),
                     frames=round((stop - start) * RATE), fade_in=EDGE, fade_out=EDGE)
            )  # fmt: skip
            at += stop - start
        return made

    guide = Lane(name=tr("Guide")).with_clips(row(GUIDE))
    keeper = Lane(name=tr("Keeper"), gain_db=8.0).with_clips(row(KEEPER))
    length = max(guide.frames, keeper.frames) + RATE
    soft = Edge(RATE)
    hall = Clip(
        recording_id=by_name[NAMES[0]].id, tone=True, name=tr("Room tone"), start=0, inner=0, frames=length, fade_in=soft, fade_out=soft,
    )  # fmt: skip
    air = Lane(name=tr("Atmosphere"), kind="atmosphere", gain_db=-6.0).with_clips([hall])
    markers = tuple(
        Marker(clip.start, name)
        for clip, name in (
            (guide.clips[0], tr("The hall")),
            (guide.clips[2], tr("Room 4")),
            (guide.clips[5], tr("Room 7")),
        )
    )
    return Programme(name=tr("The clock museum"), rate=RATE, lanes=(guide, keeper, air), markers=markers)
