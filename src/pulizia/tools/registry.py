# SPDX-License-Identifier: GPL-3.0-or-later
"""All tools, in the order of menus and manual."""

from __future__ import annotations

import difflib

from pulizia.errors import SettingsError, UnknownNameError
from pulizia.tools import (
    blots,
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
from pulizia.tools.base import AnyTool
from pulizia.words import tr

ALL: tuple[AnyTool, ...] = (
    original.TOOL, channels.TOOL, polarity.TOOL, overload.TOOL, clicks.TOOL, plosives.TOOL, hum.TOOL, gate.TOOL, breaths.TOOL,
    blots.TOOL, noise.TOOL, voice_sieve.TOOL, room_tail.TOOL, ringing.TOOL, sibilance.TOOL, equaliser.TOOL, dull_voice.TOOL, split_compressor.TOOL,
    leveller.TOOL, silence.TOOL, reverse.TOOL, room_tone.TOOL, level.TOOL, fade.TOOL, limiter.TOOL,
)  # fmt: skip
_BY_ID = {tool.id: tool for tool in ALL}


def tool_of(tool_id: str) -> AnyTool:
    """The tool with this id.

    Raises
    ------
    SettingsError
        When there is none, with the nearest known one.
    """
    if (tool := _BY_ID.get(tool_id)) is not None:
        return tool
    near = difflib.get_close_matches(str(tool_id), _BY_ID, n=1)
    hint = tr("did you mean {near}?", near=near[0]) if near else tr("known are {known}", known=", ".join(_BY_ID))
    message = tr("unknown tool {tool_id}; {hint}", tool_id=str(tool_id)[:60], hint=hint)
    raise SettingsError(message)


def tool_named(tool_id: str) -> AnyTool:
    """The tool that a person has asked for by its id; UnknownNameError when there is none."""
    try:
        return tool_of(tool_id)
    except SettingsError as error:
        raise UnknownNameError(str(error)) from error
