# SPDX-License-Identifier: GPL-3.0-or-later
"""One repair in a score: a tool, its settings, where it acts, on or off."""

from __future__ import annotations

import json
import uuid
from dataclasses import dataclass, field, replace
from typing import Any, cast

from pulizia.audio.source import content_key
from pulizia.audio.spans import Span, clipped, without
from pulizia.errors import SettingsError
from pulizia.settings.areas import Areas
from pulizia.settings.as_dict import from_dict, to_dict
from pulizia.settings.declare import Places, Settings, declared
from pulizia.tools.absent import AbsentSettings
from pulizia.tools.base import AnyTool
from pulizia.tools.registry import is_absent, tool_of
from pulizia.words import tr


def new_id() -> str:
    """A short identity that no other step has."""
    return uuid.uuid4().hex[:12]


@dataclass(frozen=True, slots=True, kw_only=True)
class Step:
    """One entry of a score.

    ``spans`` None means the whole recording; ``holes`` are stretches given back to the original;
    ``band_hz`` and ``channels`` None mean all. ``compared`` is the side that is shown ("A" or "B") and the settings of
    the other one, where two states are compared; it has no say in the sound.
    """

    tool_id: str
    settings: Settings
    spans: tuple[Span, ...] | None = None
    holes: tuple[Span, ...] = ()
    band_hz: tuple[float, float] | None = None
    channels: tuple[int, ...] | None = None
    enabled: bool = True
    compared: tuple[str, Settings] | None = None
    id: str = field(default_factory=new_id)

    @property
    def tool(self) -> AnyTool:
        """The step's tool."""
        return tool_of(self.tool_id)

    @property
    def other(self) -> str:
        """Fingerprint of another recording that the step reads; empty for nearly all."""
        return str(getattr(self.settings, self.tool.other_field)) if self.tool.other_field else ""

    def acts_in(self, frames: int) -> tuple[Span, ...]:
        """The stretches of a recording of ``frames`` frames in which the step acts."""
        whole = (Span(0, frames),)
        spans = whole if self.spans is None else clipped(self.spans, frames)
        return without(spans, clipped(self.holes, frames))

    def content_key(self) -> str:
        """Key of everything that changes the sound; not of the identity."""
        return content_key(
            self.tool_id, self.tool.version, sorted(to_dict(self.settings).items()),
            self.spans, self.holes, self.band_hz, self.channels, self.enabled,
        )  # fmt: skip

    def sounds_like(self, other: Step) -> bool:
        """Whether both are the same step with the same sound."""
        return self == replace(other, compared=self.compared)

    def with_settings(self, **changes: Any) -> Step:  # noqa: ANN401 - values of any setting
        """The step with some settings changed; raises SettingsError when they are out of range."""
        return replace(self, settings=replace(self.settings, **changes))

    def for_recipe(self) -> Step:
        """The step without places: it acts everywhere on its channels, and learns from what it is applied to."""
        placeless = {name: () for name, d in declared(type(self.settings)).items() if isinstance(d, Places | Areas)}
        placeless |= {"ride_levels": ()} if hasattr(self.settings, "ride_levels") else {}
        return replace(self.with_settings(**placeless), spans=None, holes=(), compared=None, id=new_id())

    def with_hole(self, hole: Span) -> Step:
        """The step with one more stretch given back."""
        return replace(self, holes=(*self.holes, hole))


def make_step(
    tool_id: str,
    settings: dict[str, Any] | None = None,
    *,
    spans: tuple[Span, ...] | None = None,
    band_hz: tuple[float, float] | None = None,
    enabled: bool = True,
) -> Step:
    """A step from plain values; raises SettingsError for unknown or wrong ones."""
    tool = tool_of(tool_id)
    made = from_dict(tool.settings, settings or {})
    return Step(tool_id=tool.id, settings=made, spans=spans, band_hz=band_hz, enabled=enabled)


def settings_row(settings: Settings) -> dict[str, Any]:
    """Settings as plain JSON values; those of a tool that is not installed as they came."""
    if isinstance(settings, AbsentSettings):
        kept: dict[str, Any] = json.loads(settings.text)
        return kept
    return to_dict(settings)


def settings_of(tool: AnyTool, row: object, version: int) -> Settings:
    """Settings from plain JSON values; SettingsError for wrong ones."""
    if not is_absent(tool):
        return cast("Settings", from_dict(tool.settings, row))
    if not isinstance(row, dict):
        raise SettingsError(tr("the settings of a step are no table"))
    return AbsentSettings(text=json.dumps(row), version=str(version))


def version_of(step: Step) -> int:
    """The version of the tool that made a step's settings."""
    return int(step.settings.version) if isinstance(step.settings, AbsentSettings) else step.tool.version
