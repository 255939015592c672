# SPDX-License-Identifier: GPL-3.0-or-later
"""Templates of a job: lanes with their kinds, names and standing steps, the target and the clock of the next programme."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path
from typing import Any

from pulizia.audio.layouts import are_microphones
from pulizia.audio.timecode import frame_of, timecode
from pulizia.audio.timeline import Edge
from pulizia.data.json_text import parsed
from pulizia.errors import ProjectError, PuliziaError, UnknownNameError, brief
from pulizia.media.folders import config_folder
from pulizia.media.library import Library
from pulizia.media.write import shortened, write_text
from pulizia.project.clips import FLATTEST, KINDS, MOST_CHANNELS, MOST_LANES, TALLEST, Clip, Lane, LaneKind, Programme
from pulizia.project.model import Recording
from pulizia.score.steps import Step, make_step, new_id
from pulizia.settings.as_dict import to_dict
from pulizia.units import seconds_to_frames
from pulizia.words import tr

FORMAT, VERSION = "pulizia-template", 1
LARGEST_BYTES, MOST_STEPS = 4 << 20, 200
EDGE_S, LONGEST_NAME = 0.01, 200


class TemplateError(ProjectError):
    """A template that cannot be read, or does not fit."""


class UnknownTemplateError(TemplateError, UnknownNameError):
    """There is no template of this name."""


@dataclass(frozen=True, slots=True, kw_only=True)
class TemplateLane:
    """A lane of the next programme."""

    name: str
    kind: LaneKind = "voice"
    gain_db: float = 0.0
    placement: str = ""
    stem: str = ""
    group: str = ""
    height: float = 1.0
    steps: tuple[Step, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Template:
    """Everything that stays from job to job.

    Attributes
    ----------
    rate : sample rate; 0 is that of the recordings
    start : timecode of the first frame
    gap_s : pause between recordings that are laid on one lane
    """

    name: str
    description: str = ""
    lanes: tuple[TemplateLane, ...] = ()
    steps: tuple[Step, ...] = ()
    target_id: str = "ebu-r128"
    rate: int = 0
    channels: int = 2
    picture_rate: Fraction = Fraction(25)
    drop_frame: bool = False
    start: str = "00:00:00:00"
    gap_s: float = 0.5


def template_of(programme: Programme, target_id: str, description: str = "") -> Template:
    """What of a programme stays for the next one: its lanes, standing steps and clocks, without clips."""
    lanes = tuple(
        TemplateLane(
            name=lane.name, kind=lane.kind, gain_db=lane.gain_db, placement=lane.placement, stem=lane.stem,
            group=lane.group, height=lane.height, steps=tuple(step.for_recipe() for step in lane.steps),
        )
        for lane in programme.lanes
    )  # fmt: skip
    return Template(
        name=programme.name, description=description, lanes=lanes, steps=tuple(step.for_recipe() for step in programme.steps),
        target_id=programme.target_id or target_id, rate=programme.rate, channels=programme.channels,
        picture_rate=programme.picture_rate, drop_frame=programme.drop_frame,
        start=timecode(programme.start_frame, programme.picture_rate, drop=programme.drop_frame),
    )  # fmt: skip


Placed = tuple[Recording, int | None]
"""A recording on a lane, and the one channel of it that is heard there; None is all."""


def programme_of_template(
    template: Template, placed: Mapping[str, Sequence[Placed]], name: str = "", clock: int | None = None
) -> Programme:
    """A programme of a template.

    Parameters
    ----------
    placed
        What is heard on the lane of a name, one behind the other with the template's pause.
    clock
        Sample rate where the template leaves it open; None is that of most recordings.
    """
    rates = [r.rate for rows in placed.values() for r, _ in rows]
    rate = template.rate or clock or (max(rates, key=rates.count) if rates else 48_000)
    gap = seconds_to_frames(template.gap_s, rate)
    lanes = []
    for row in template.lanes:
        clips, at = [], 0
        for recording, channel in placed.get(row.name, ()):
            scale, kept = rate / recording.rate, recording.kept
            inner = round(kept.start * scale)
            frames = max(1, round(kept.stop * scale) - inner)
            edge = Edge(min(seconds_to_frames(EDGE_S, rate), frames // 4))
            clips.append(
                Clip(
                    recording_id=recording.id,
                    start=at,
                    inner=inner,
                    frames=frames,
                    channel=channel,
                    name=recording.name,
                    fade_in=edge,
                    fade_out=edge,
                )
            )
            at += frames + gap
        lane = Lane(
            name=row.name, kind=row.kind, gain_db=row.gain_db, placement=row.placement, stem=row.stem,
            group=row.group, height=row.height, steps=tuple(replace(step, id=new_id()) for step in row.steps),
        )  # fmt: skip
        lanes.append(lane.with_clips(clips))
    start = frame_of(template.start, template.picture_rate, drop=template.drop_frame)
    return Programme(
        name=name or template.name, rate=rate, channels=template.channels, lanes=tuple(lanes),
        steps=tuple(replace(step, id=new_id()) for step in template.steps), target_id=template.target_id,
        picture_rate=template.picture_rate, drop_frame=template.drop_frame, start_frame=start,
    )  # fmt: skip


def programmes_of_each(
    template: Template, recordings: Sequence[Recording], names_of: Callable[[Recording], Sequence[str]] = lambda _: ()
) -> tuple[Programme, ...]:
    """A programme of each recording, named after it, on the template's lanes of voices; TemplateError when it has none.

    ``names_of`` gives the names of a recording's channels. Microphones go onto the lane of their name, the others onto
    the lanes that are left, one by one; everything else goes onto the first lane.
    """
    voices = [row.name for row in template.lanes if row.kind == "voice"]
    if not voices and recordings:
        message = tr(
            "The template {name} has no lane of voices. Choose the lanes of the recordings.", name=template.name
        )
        raise TemplateError(message)
    return tuple(programme_of_template(template, by_microphone(r, voices, names_of(r)), r.name) for r in recordings)


def by_microphone(recording: Recording, lanes: Sequence[str], names: Sequence[str]) -> dict[str, list[Placed]]:
    """A recording on one or several lanes: each microphone on the lane of its name, the others one by one; else all of it."""
    if len(lanes) < 2 or not are_microphones(names):
        return {lanes[0]: [(recording, None)]}
    named = {lane: names.index(lane) for lane in lanes if lane in names}
    rest = (n for n in range(len(names)) if n not in named.values())
    channels = {lane: named[lane] if lane in named else next(rest, None) for lane in lanes}
    return {lane: [(recording, channel)] for lane, channel in channels.items() if channel is not None}


# -- as text


def template_text(template: Template) -> str:
    """The file's text."""
    content = {
        "format": FORMAT, "version": VERSION, "name": template.name, "description": template.description, "target": template.target_id,
        "rate": template.rate, "channels": template.channels, "picture_rate": str(template.picture_rate),
        "drop_frame": template.drop_frame, "start": template.start, "gap_s": template.gap_s,
        "lanes": [
            {"name": lane.name, "kind": lane.kind, "gain_db": lane.gain_db, "placement": lane.placement, "stem": lane.stem,
             "group": lane.group, "height": lane.height, "steps": [_step_row(step) for step in lane.steps]}
            for lane in template.lanes
        ],
        "steps": [_step_row(step) for step in template.steps],
    }  # fmt: skip
    return json.dumps(content, indent=1) + "\n"


def _step_row(step: Step) -> dict[str, Any]:
    return {"tool": step.tool_id, "settings": to_dict(step.settings), "enabled": step.enabled}


def parse_template(text: str, name: str) -> Template:
    """Check the text of a template.

    Raises
    ------
    TemplateError
        One sentence: not a template, newer than this program, or what is wrong in it.
    """
    content = parsed(text, name, TemplateError, tr("Choose a template."))
    if not isinstance(content, dict) or content.get("format") != FORMAT:
        message = tr('{name} is not a template: its "format" is not "{format}".', name=name, format=FORMAT)
        raise TemplateError(message)
    version = content.get("version")
    if not isinstance(version, int) or not 1 <= version <= VERSION:
        message = tr("{name} was made by a newer Pulizia. Update Pulizia.", name=name)
        raise TemplateError(message)
    try:
        return _template(content)
    except (KeyError, TypeError, ValueError, AttributeError, ArithmeticError, PuliziaError) as error:
        message = tr("{name} is damaged ({error}). Choose another template.", name=name, error=brief(error))
        raise TemplateError(message) from error


def _template(content: dict[str, Any]) -> Template:
    lanes = tuple(_lane(row) for row in content["lanes"][:MOST_LANES])
    rate, channels = int(content.get("rate", 0)), int(content.get("channels", 2))
    picture = Fraction(str(content.get("picture_rate", "25")))
    start, drop = str(content.get("start", "00:00:00:00")), bool(content.get("drop_frame", False))
    if not 0 <= rate <= 768_000 or not 0 < channels <= MOST_CHANNELS or not 1 <= picture <= 1000:
        raise ValueError(tr("a rate or the number of channels is out of range"))
    frame_of(start, picture, drop=drop)
    return Template(
        name=str(content["name"])[:LONGEST_NAME], description=str(content.get("description", ""))[:2000], lanes=lanes,
        steps=_steps(content.get("steps", [])), target_id=str(content.get("target", "ebu-r128")), rate=rate, channels=channels,
        picture_rate=picture, drop_frame=drop, start=start, gap_s=min(max(float(content.get("gap_s", 0.5)), 0.0), 60.0),
    )  # fmt: skip


def _lane(row: dict[str, Any]) -> TemplateLane:
    if row.get("kind", "voice") not in KINDS:
        raise ValueError(tr("lane {name} is of an unknown kind", name=row.get("name")))
    return TemplateLane(
        name=str(row["name"])[:LONGEST_NAME], kind=row.get("kind", "voice"), gain_db=float(row.get("gain_db", 0.0)),
        placement=str(row.get("placement", "")), stem=str(row.get("stem", "")), steps=_steps(row.get("steps", [])),
        group=str(row.get("group", ""))[:LONGEST_NAME],
        height=min(max(float(row.get("height", 1.0)), FLATTEST), TALLEST),
    )  # fmt: skip


def _steps(rows: list[dict[str, Any]]) -> tuple[Step, ...]:
    return tuple(
        make_step(str(row["tool"]), row.get("settings", {}), enabled=bool(row.get("enabled", True)))
        for row in rows[:MOST_STEPS]
    )


# -- where they are


def read_template(path: Path) -> Template:
    """A template of a file; TemplateError when it cannot be read."""
    try:
        if path.stat().st_size > LARGEST_BYTES:
            message = tr("{name} is too large for a template. Choose another file.", name=path.name)
            raise TemplateError(message)
        text = path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        message = tr("{name} cannot be read as a template. Choose another file.", name=path.name)
        raise TemplateError(message) from error
    return parse_template(text, path.name)


LIBRARY = Library("templates", parse_template, read_template, TemplateError)


def shipped_templates() -> dict[str, Template]:
    """Starters by purpose, by short name."""
    return LIBRARY.shipped()


def own_templates() -> dict[str, Template]:
    """The user's templates by file name without its ending; damaged ones are left out."""
    return LIBRARY.own()


def find_template(name: str) -> Template:
    """A template by path or name; own ones go before shipped ones. TemplateError when there is none."""
    if (found := LIBRARY.find(name)) is not None:
        return found
    message = tr(
        "There is no template {name}. Known are {known}; or give the path of a template's file.",
        name=shortened(name),
        known=LIBRARY.known(),
    )
    raise UnknownTemplateError(message)


def keep_template(template: Template, name: str) -> Path:
    """Write a template into the user's folder; DiskError when the disk refuses."""
    path = config_folder("templates") / f"{name}.json"
    write_text(path, template_text(template))
    return path
