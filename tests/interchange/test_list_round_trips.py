# SPDX-License-Identifier: GPL-3.0-or-later
"""Any programme through each kind of list and back: places, channels, gains, fades and markers, at every picture rate."""

from __future__ import annotations

import random
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from xml.etree import ElementTree as ET

import aaf2
import numpy as np
import pytest
import soundfile as sf

from pulizia.audio.markers import Marker
from pulizia.audio.timeline import Edge
from pulizia.interchange.assemble import assemble
from pulizia.interchange.export import list_of, write_list
from pulizia.interchange.find_media import MediaFolders, media_facts
from pulizia.interchange.read import read_edit_list
from pulizia.media.open import open_media
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.model import Recording

RATE = 48_000
RATES = (
    (Fraction(25), False), (Fraction(24), False), (Fraction(24000, 1001), False), (Fraction(30000, 1001), True),
    (Fraction(30000, 1001), False), (Fraction(30), False), (Fraction(50), False), (Fraction(60000, 1001), True),
)  # fmt: skip
SECONDS = 20


@pytest.fixture(scope="module")
def recordings(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Recording]:
    """Two mono recordings and one of two channels."""
    folder, made = tmp_path_factory.mktemp("media"), {}
    for n, (name, channels) in enumerate((("anna", 1), ("bert", 1), ("pair", 2))):
        sound = np.random.default_rng(n).normal(0, 0.05, (SECONDS * RATE, channels))
        sf.write(folder / f"{name}.wav", sound, RATE, subtype="PCM_16")
        made[name] = Recording.of_media(open_media(folder / f"{name}.wav"))
    return made


def any_lane(name: str, recordings: dict[str, Recording], rng: random.Random) -> Lane:
    """Clips of any place, channel, gain and fade, some passing into one another, some off."""
    at, row = rng.randrange(0, 2 * RATE), list[Clip]()
    for _ in range(rng.randrange(1, 6)):
        recording = recordings[rng.choice(list(recordings))]
        frames = rng.randrange(RATE // 5, 4 * RATE)
        over = min(rng.randrange(200, 4000), row[-1].frames // 3, frames // 3) if row and rng.random() < 0.3 else 0
        if over:
            row[-1] = replace(row[-1], fade_out=Edge(0))
        elif rng.random() < 0.5:
            at += rng.randrange(0, RATE)
        line = ((0, 0.0), (rng.randrange(frames // 4, frames // 2), -6.0), (frames, -2.0)) if rng.random() < 0.2 else ()
        row.append(
            Clip(
                recording_id=recording.id, start=at - over, inner=rng.randrange(0, SECONDS * RATE - frames), frames=frames,
                name=recording.name, channel=rng.choice([None, 0, 1]) if recording.channels > 1 else None,
                gain_db=rng.choice([0.0, -3.0, 2.5]), gain_line=line, fade_in=Edge(over or rng.choice([0, 480])),
                fade_out=Edge(rng.choice([0, 480])), enabled=rng.random() < 0.9,
            )
        )  # fmt: skip
        at = row[-1].stop
    return Lane(name=name).with_clips(row)


def told(programme: Programme, kind: str) -> list[tuple[object, ...]]:
    """Of each clip what a kind carries: a gain line holds the gain of its clip, and two kinds carry no lines."""
    clips = [c for lane in programme.lanes for c in lane.clips if c.enabled or kind not in ("edl", "aaf")]
    return sorted(
        (
            c.recording_id, c.start, c.inner, c.frames, -1 if c.channel is None else c.channel, c.enabled, c.fade_in.frames,
            c.fade_out.frames, round(c.gain_db + (c.gain_line[0][1] if c.gain_line else 0.0), 2),
            len(c.gain_line) if kind not in ("edl", "csv") else 0,
        )
        for c in clips
    )  # fmt: skip


@pytest.mark.parametrize("seed", range(8))
def test_any_programme_comes_back_from_every_kind_of_list(
    recordings: dict[str, Recording], tmp_path: Path, seed: int
) -> None:
    rng = random.Random(seed)
    rate, drop = RATES[seed]
    markers = sorted(Marker(rng.randrange(0, 9 * RATE), f"m{n}") for n in range(3))
    was = Programme(
        name="Any", rate=RATE, picture_rate=rate, drop_frame=drop, markers=tuple(markers),
        lanes=tuple(any_lane(f"Voice {n}", recordings, rng) for n in range(rng.randrange(1, 4))),
        start_frame=rng.choice([0, 3600 * round(rate), rng.randrange(0, 200_000)]),
    )  # fmt: skip
    by_id = {r.id: r for r in recordings.values()}
    facts = {r.id: media_facts(r.path) for r in by_id.values()}
    folders = MediaFolders.of([next(iter(by_id.values())).path.parent])
    for kind in ("otio", "xml", "aaf", "edl", "csv"):
        path = tmp_path / f"any.{kind}"
        write_list(list_of(was, by_id, lambda r: facts[r.id]), path)
        found, content = read_edit_list(path)
        now = assemble(found, content, path.name, folders, known=tuple(by_id.values())).programme
        assert (now.picture_rate, now.drop_frame, now.start_frame) == (rate, drop, was.start_frame), kind
        assert told(now, kind) == told(was, kind), kind
        frame = 1 if kind in ("otio", "csv", "aaf") else RATE / rate
        assert [m.name for m in now.markers] == [m.name for m in was.markers], kind
        assert all(abs(a.frame - b.frame) <= frame for a, b in zip(now.markers, was.markers, strict=True)), kind


def test_other_programs_find_both_channels_of_a_clip(recordings: dict[str, Recording], tmp_path: Path) -> None:
    """As the lists themselves say it: read with the libraries for XML and AAF alone."""
    pair, anna = recordings["pair"], recordings["anna"]
    row = [
        Clip(recording_id=pair.id, start=0, inner=0, frames=RATE, name="pair"),
        Clip(recording_id=anna.id, start=RATE, inner=0, frames=RATE, name="anna"),
        Clip(recording_id=pair.id, start=3 * RATE, inner=RATE, frames=RATE, name="pair", channel=1),
    ]
    was = Programme(
        name="Both", rate=RATE, lanes=(Lane(name="Voice").with_clips(row), Lane(name="Air").with_clips(row[:1]))
    )
    facts = {r.id: media_facts(r.path) for r in recordings.values()}
    told = list_of(was, {r.id: r for r in recordings.values()}, lambda r: facts[r.id])
    wanted = [[("pair", 1, 0), ("anna", 1, 1), ("pair", 2, 3)], [("pair", 2, 0)], [("pair", 1, 0)], [("pair", 2, 0)]]
    write_list(told, tmp_path / "both.xml")
    tracks = ET.parse(tmp_path / "both.xml").getroot().findall("./sequence/media/audio/track")
    assert [
        [(i.findtext("name"), int(i.findtext("sourcetrack/trackindex")), int(i.findtext("start")) // 25) for i in t.findall("clipitem")]
        for t in tracks
    ] == wanted  # fmt: skip
    write_list(told, tmp_path / "both.aaf")
    with aaf2.open(str(tmp_path / "both.aaf")) as file:
        (top,) = file.content.toplevel()
        slots = []
        for slot in (s for s in top.slots if s.media_kind == "Sound"):
            at, found = 0, []
            for part in slot.segment.components:
                if type(part).__name__ == "SourceClip":
                    channel = [s.slot_id for s in part.mob.slots].index(part.slot_id) + 1
                    found.append((part.mob.name.removesuffix(".wav"), channel, at // RATE))
                at += part.length
            slots.append(found)
    assert slots == wanted
