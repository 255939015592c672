# SPDX-License-Identifier: GPL-3.0-or-later
"""Settings to and from plain dictionaries (recipes, projects, command line)."""

from __future__ import annotations

import difflib
from typing import Any, TypeVar

from pulizia.errors import SettingsError
from pulizia.settings.areas import Areas
from pulizia.settings.bands import Bands, as_dict
from pulizia.settings.bands import from_dict as band_of
from pulizia.settings.declare import Choice, Declaration, Levels, Number, Places, Settings, declared
from pulizia.words import tr

S = TypeVar("S", bound=Settings)


def to_dict(settings: Settings) -> dict[str, Any]:
    """All fields as plain JSON values."""
    return {
        name: [as_dict(band) for band in getattr(settings, name)]
        if isinstance(declaration, Bands)
        else _plain(getattr(settings, name))
        for name, declaration in declared(type(settings)).items()
    }


def from_dict(kind: type[S], values: object) -> S:
    """Make settings from a plain dictionary; fields that are missing keep their defaults.

    Raises
    ------
    SettingsError
        For unknown names (with the nearest known one), wrong types and values out of range.
    """
    if not isinstance(values, dict):
        message = tr("settings must be a table of names and values, not {values!r}", values=values)
        raise SettingsError(message)
    known = declared(kind)
    values = kind.of_older(values)
    problems = [_unknown(name, known) for name in values if name not in known]
    if problems:
        raise SettingsError("; ".join(problems))
    return kind(**{name: _typed(known[name], value) for name, value in values.items()})


def schema(kind: type[Settings]) -> list[dict[str, Any]]:
    """One plain dictionary per field: what the command line and the manual print."""
    rows = []
    for name, declaration in declared(kind).items():
        row: dict[str, Any] = {"name": name, "label": declaration.label, "help": declaration.help}
        row["default"] = _plain(kind.__dataclass_fields__[name].default)
        if isinstance(declaration, Number):
            row |= {"kind": "number", "unit": declaration.unit.symbol, "low": declaration.low}
            row |= {"high": declaration.high, "step": declaration.step}
        elif isinstance(declaration, Choice):
            row |= {"kind": "choice", "options": [word for word, _ in declaration.options]}
            row["labels"] = dict(declaration.options)
        else:
            row["kind"] = type(declaration).__name__.lower()
        rows.append(row)
    return rows


def _unknown(name: object, known: dict[str, Declaration]) -> str:
    near = difflib.get_close_matches(str(name), known, n=1)
    hint = tr("did you mean {near}?", near=near[0]) if near else tr("known are {known}", known=", ".join(known))
    return tr("unknown setting {name}; {hint}", name=name, hint=hint)


def _plain(value: Any) -> Any:  # noqa: ANN401 - JSON values
    if isinstance(value, tuple):
        return [_plain(item) for item in value]
    return value


def _typed(declaration: Declaration, value: Any) -> Any:  # noqa: ANN401 - JSON values
    if isinstance(declaration, Bands) and isinstance(value, list | tuple):
        return tuple(band_of(band) if isinstance(band, dict) else _frozen(band) for band in value)
    if isinstance(declaration, Places | Levels | Areas) and isinstance(value, list | tuple):
        return _frozen(value)
    is_number = isinstance(value, int | float) and not isinstance(value, bool)
    if isinstance(declaration, Number) and is_number:
        return int(value) if declaration.whole and value == int(value) else float(value)
    return value


def _frozen(value: Any) -> Any:  # noqa: ANN401 - JSON values
    return tuple(_frozen(item) for item in value) if isinstance(value, list | tuple) else value
