# SPDX-License-Identifier: GPL-3.0-or-later
"""Recipes: a named chain of steps kept as a text file, and reading one safely."""

from __future__ import annotations

import json
import math
from collections.abc import Collection
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, cast

from pulizia.audio.spans import Span
from pulizia.data.json_text import parsed
from pulizia.errors import RecipeError, SettingsError, brief
from pulizia.score.steps import Step, make_step, settings_row
from pulizia.settings.declare import Places, declared
from pulizia.tools.registry import tool_of
from pulizia.units import seconds_to_frames
from pulizia.words import tr

FORMAT, VERSION = "pulizia-recipe", 1
LARGEST_BYTES = 16 << 20
MOST_STEPS = 1000
MOST_CHANNELS = 1024


@dataclass(frozen=True, slots=True, kw_only=True)
class RecipeStep:
    """A step with its places in seconds, so that it fits any sample rate."""

    tool_id: str
    settings: dict[str, Any]
    spans_s: tuple[tuple[float, float], ...] | None
    band_hz: tuple[float, float] | None
    enabled: bool
    channels: tuple[int, ...] | None = None

    def at_rate(self, rate: int, number: int) -> Step:
        """The step for a recording of a sample rate."""
        spans = None
        if self.spans_s is not None:
            spans = tuple(Span(seconds_to_frames(a, rate), seconds_to_frames(b, rate)) for a, b in self.spans_s)
        try:
            made = make_step(self.tool_id, self.settings, spans=spans, band_hz=self.band_hz, enabled=self.enabled)
        except SettingsError as error:
            message = tr("step {number} ({tool_id}): {error}", number=number, tool_id=self.tool_id, error=brief(error))
            raise RecipeError(message) from error
        return made if self.channels is None else replace(made, channels=self.channels)


@dataclass(frozen=True, slots=True, kw_only=True)
class Recipe:
    """A named chain of steps."""

    name: str
    steps: tuple[RecipeStep, ...]
    description: str = ""

    def open_places(self) -> tuple[tuple[int, str, str], ...]:
        """What the recipe leaves open: number of the step from 0, its setting, and the setting's label."""
        return tuple(
            (n, name, declaration.label)
            for n, step in enumerate(self.steps)
            for name, declaration in declared(cast("Any", tool_of(step.tool_id).settings)).items()
            if isinstance(declaration, Places) and declaration.learned and not step.settings.get(name)
        )

    def placed(self, where_s: tuple[float, float], chosen: Collection[tuple[int, str]]) -> Recipe:
        """The recipe with a stretch in seconds at some of its open places."""
        steps = tuple(
            replace(step, settings=step.settings | {name: [list(where_s)] for at, name in chosen if at == n})
            for n, step in enumerate(self.steps)
        )
        return replace(self, steps=steps)

    def steps_for(self, rate: int) -> tuple[Step, ...]:
        """The steps for a recording of a sample rate."""
        return tuple(step.at_rate(rate, n) for n, step in enumerate(self.steps, 1))


def read_recipe(path: Path) -> Recipe:
    """Read and check a recipe file.

    Raises
    ------
    RecipeError
        One sentence: unreadable, not a recipe, newer than this program, or what is wrong where.
    """
    try:
        if path.stat().st_size > LARGEST_BYTES:
            message = tr("{name} is too large for a recipe. Choose another file.", name=path.name)
            raise RecipeError(message)
        text = path.read_text(encoding="utf-8")
    except FileNotFoundError as error:
        message = tr("{path} does not exist. Check the name of the recipe.", path=path)
        raise RecipeError(message) from error
    except (OSError, UnicodeDecodeError) as error:
        message = tr("{name} cannot be read as a recipe. Choose another file.", name=path.name)
        raise RecipeError(message) from error
    return parse_recipe(text, path.name)


def parse_recipe(text: str, name: str) -> Recipe:
    """Check the text of a recipe; see :func:`read_recipe`."""
    content = parsed(text, name, RecipeError, tr("Choose a recipe."))
    if not isinstance(content, dict) or content.get("format") != FORMAT:
        message = tr('{name} is not a recipe: its "format" is not "{format}".', name=name, format=FORMAT)
        raise RecipeError(message)
    version = content.get("version")
    if not isinstance(version, int) or version > VERSION:
        message = tr(
            "{name} has version {version}, this program reads {known}. Update Pulizia.",
            name=name,
            version=version,
            known=VERSION,
        )
        raise RecipeError(message)
    steps = content.get("steps")
    if not isinstance(steps, list):
        message = tr('{name} has no list "steps".', name=name)
        raise RecipeError(message)
    if len(steps) > MOST_STEPS:
        message = tr(
            "{name} has {count} steps, at most {most_steps} are read. Choose another file.",
            name=name,
            count=len(steps),
            most_steps=MOST_STEPS,
        )
        raise RecipeError(message)
    made = tuple(_step(entry, name, number) for number, entry in enumerate(steps, 1))
    recipe = Recipe(
        name=str(content.get("name") or Path(name).stem), steps=made, description=str(content.get("description") or "")
    )
    recipe.steps_for(48_000)  # settings out of range are told now, not in the middle of the work
    return recipe


def recipe_text(name: str, steps: tuple[Step, ...], rate: int, description: str = "") -> str:
    """The text of a recipe made from steps of a recording."""
    rows = []
    for step in steps:
        spans = None
        if step.spans is not None:
            spans = [[round(s.start / rate, 6), round(s.stop / rate, 6)] for s in step.spans]
        rows.append({
            "tool": step.tool_id, "settings": settings_row(step.settings), "spans_s": spans,
            "band_hz": list(step.band_hz) if step.band_hz else None, "enabled": step.enabled,
        } | ({"channels": [c + 1 for c in step.channels]} if step.channels is not None else {}))  # fmt: skip
    content = {"format": FORMAT, "version": VERSION, "name": name, "description": description, "steps": rows}
    return json.dumps(content, indent=1) + "\n"


def _step(entry: Any, name: str, number: int) -> RecipeStep:  # noqa: ANN401 - JSON
    place = tr("{name}: step {number}", name=name, number=number)
    if not isinstance(entry, dict) or not isinstance(entry.get("tool"), str):
        message = tr('{place} names no "tool".', place=place)
        raise RecipeError(message)
    known = {"tool", "settings", "spans_s", "band_hz", "enabled", "channels"}
    if unknown := set(entry) - known:
        message = tr("{place} has unknown entries {sorted}.", place=place, sorted=", ".join(sorted(unknown)))
        raise RecipeError(message)
    settings = entry.get("settings") or {}
    if not isinstance(settings, dict):
        message = tr("{place}: settings must be a table of names and values.", place=place)
        raise RecipeError(message)
    enabled = entry.get("enabled", True)
    if not isinstance(enabled, bool):
        message = tr("{place}: enabled must be true or false.", place=place)
        raise RecipeError(message)
    spans, channels = entry.get("spans_s"), entry.get("channels")
    if channels is not None and not (
        isinstance(channels, list) and channels and all(type(c) is int and 1 <= c <= MOST_CHANNELS for c in channels)
    ):
        message = tr("{place}: channels must be a list of numbers from 1 on.", place=place)
        raise RecipeError(message)
    return RecipeStep(
        tool_id=entry["tool"],
        settings=settings,
        spans_s=None if spans is None else read_pairs(spans, f"{place}: spans_s"),
        band_hz=None if entry.get("band_hz") is None
        else read_pairs([entry["band_hz"]], f"{place}: band_hz")[0],
        enabled=enabled,
        channels=None if channels is None else tuple(sorted({c - 1 for c in channels})),
    )  # fmt: skip


def read_pairs(value: Any, place: str) -> tuple[tuple[float, float], ...]:  # noqa: ANN401 - JSON
    """Check a list of [low, high] pairs of finite numbers, low < high, not negative."""
    if not isinstance(value, list):
        message = tr("{place} must be a list of [from, to] pairs.", place=place)
        raise RecipeError(message)
    pairs = []
    for pair in value:
        good = isinstance(pair, list) and len(pair) == 2
        if not good or not all(_is_number(x) for x in pair) or not 0 <= pair[0] < pair[1]:
            message = tr(
                "{place} holds {start!r}; it must be [from, to] with from smaller than to.", place=place, start=pair
            )
            raise RecipeError(message)
        pairs.append((float(pair[0]), float(pair[1])))
    return tuple(pairs)


def _is_number(value: Any) -> bool:  # noqa: ANN401 - JSON
    good = isinstance(value, int | float) and not isinstance(value, bool)
    return good and math.isfinite(value) and value < 1e9
