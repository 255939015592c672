# SPDX-License-Identifier: GPL-3.0-or-later
"""All tools, in the order of menus and manual."""

from __future__ import annotations

import difflib

from pulizia.errors import SettingsError, UnknownNameError
from pulizia.tools import (
    areas,
    breaths,
    channels,
    clicks,
    dull_voice,
    equaliser,
    fade,
    gate,
    hum,
    level,
    leveller,
    limiter,
    noise,
    original,
    overload,
    plosives,
    polarity,
    reverse,
    ringing,
    room_tail,
    room_tone,
    sibilance,
    silence,
    split_compressor,
    voice_sieve,
)
from pulizia.tools.absent import ID, AbsentSettings, absent
from pulizia.tools.base import AnyTool
from pulizia.tools.extensions import found_tools
from pulizia.words import tr

SHIPPED: tuple[AnyTool, ...] = (
    original.TOOL, channels.TOOL, polarity.TOOL, overload.TOOL, clicks.TOOL, plosives.TOOL, hum.TOOL, gate.TOOL, breaths.TOOL,
    areas.TOOL, noise.TOOL, voice_sieve.TOOL, room_tail.TOOL, ringing.TOOL, sibilance.TOOL, equaliser.TOOL, dull_voice.TOOL, split_compressor.TOOL,
    leveller.TOOL, silence.TOOL, reverse.TOOL, room_tone.TOOL, level.TOOL, fade.TOOL, limiter.TOOL,
)  # fmt: skip
EXTRA, PROBLEMS = found_tools(SHIPPED)
"""Tools of other packages, and a sentence for each that cannot be used."""
ALL: tuple[AnyTool, ...] = (*SHIPPED, *EXTRA)
_BY_ID = {tool.id: tool for tool in ALL}


RENAMED = {"blots": "areas"}
"""Ids of tools as earlier versions have written them into projects and recipes."""


def tool_of(tool_id: str) -> AnyTool:
    """The tool with this id, also by an earlier one.

    Raises
    ------
    SettingsError
        When there is none, with the nearest known one.
    """
    if (tool := _BY_ID.get(RENAMED.get(tool_id, tool_id))) is not None:
        return tool
    known = [tool.id for tool in ALL]
    near = difflib.get_close_matches(str(tool_id), known, n=1)
    hint = tr("did you mean {near}?", near=near[0]) if near else tr("known are {known}", known=", ".join(known))
    message = tr("unknown tool {tool_id}; {hint}", tool_id=str(tool_id)[:60], hint=hint)
    raise SettingsError(message)


def tool_or_stand_in(tool_id: object) -> AnyTool:
    """The tool with this id, or one that keeps its place where its package is not installed.

    Raises
    ------
    SettingsError
        When no tool can have this id.
    """
    if tool_id not in _BY_ID and tool_id not in RENAMED and isinstance(tool_id, str) and ID.fullmatch(tool_id):
        _BY_ID[tool_id] = absent(tool_id)
    return tool_of(str(tool_id))


def is_absent(tool: AnyTool) -> bool:
    """Whether this is a stand-in."""
    return tool.settings is AbsentSettings


def tool_named(tool_id: str) -> AnyTool:
    """The tool that a person has asked for by its id; UnknownNameError when there is none."""
    try:
        return tool_of(tool_id)
    except SettingsError as error:
        raise UnknownNameError(str(error)) from error
