# SPDX-License-Identifier: GPL-3.0-or-later
"""How a tool declares its settings once, for panel, command line, recipe, manual and tests."""

from __future__ import annotations

import math
from dataclasses import MISSING, Field, dataclass, field, fields
from functools import cache
from typing import Any, ClassVar, Literal

from pulizia.errors import SettingsError
from pulizia.settings.areas import Areas
from pulizia.settings.bands import Bands
from pulizia.units import Unit, format_number
from pulizia.words import in_context, plural, tr, translated

Scale = Literal["linear", "log"]
Stretches = tuple[tuple[float, float], ...]
"""Stretches of a recording in seconds: ((start, stop), ...)."""
LONGEST_WORD = 200


@dataclass(frozen=True, slots=True, kw_only=True)
class Number:
    """A number with a unit and a range."""

    unit: Unit
    low: float
    high: float
    step: float
    scale: Scale
    whole: bool
    optional: bool
    label: str
    help: str
    more: bool

    @property
    def decimals(self) -> int:
        """Digits after the point that the step needs."""
        return 0 if self.whole else max(0, -math.floor(math.log10(self.step) + 1e-9))

    def text(self, value: float | None) -> str:
        """The value with its unit, as people read it."""
        if value is None:
            return tr("auto")
        if self.unit is Unit.SHARE:
            return f"{format_number(100.0 * value, 0)} %"
        return f"{format_number(value, self.decimals)} {self.unit.symbol}".strip()

    def typed(self, text: str) -> float | None:
        """The value that a person typed, inside the range: "6,5 dB", "4k"; None for "auto". ValueError when it is no number."""
        text = text.replace("\u2212", "-").replace(",", ".").strip().lower()
        if self.optional and text in ("", "auto", tr("auto").lower()):
            return None
        value = self._read(text)
        if not math.isfinite(value):
            raise ValueError(text)
        return min(max(round(value) if self.whole else value, self.low), self.high)

    def _read(self, text: str) -> float:
        if self.unit is Unit.SHARE:
            return float(text.removesuffix("%").strip()) / 100.0
        plain = text.removesuffix(self.unit.symbol.lower()).strip()
        if self.unit is Unit.HZ and plain.endswith("k"):
            return 1000.0 * float(plain.removesuffix("k").strip())
        return float(plain)

    def check(self, name: str, value: object) -> str | None:
        """A sentence about what is wrong with the value, or None."""
        if value is None and self.optional:
            return None
        if isinstance(value, bool) or not isinstance(value, int | float):
            return tr("{name} must be a number, not {value!r}", name=name, value=value)
        if self.whole and value != int(value):
            return tr("{name} must be a whole number, not {value}", name=name, value=value)
        if not (math.isfinite(value) and self.low <= value <= self.high):
            unit = f" {self.unit.symbol}" if self.unit.symbol else ""
            return tr(
                "{name} is {value:g}{unit}, must be between {low:g} and {high:g}{unit}",
                name=name,
                value=value,
                unit=unit,
                low=self.low,
                high=self.high,
            )
        return None


@dataclass(frozen=True, slots=True, kw_only=True)
class Choice:
    """One of a few words; ``options`` maps each word to what people read."""

    options: tuple[tuple[str, str], ...]
    label: str
    help: str
    more: bool

    def text(self, value: str) -> str:
        """What people read for the word."""
        return translated(dict(self.options)[value])

    def check(self, name: str, value: object) -> str | None:
        """A sentence about what is wrong with the value, or None."""
        words = [word for word, _ in self.options]
        if value not in words:
            return tr("{name} is {value!r}, must be one of {words}", name=name, value=value, words=", ".join(words))
        return None


@dataclass(frozen=True, slots=True, kw_only=True)
class Switch:
    """On or off."""

    label: str
    help: str
    more: bool

    def text(self, value: bool) -> str:  # noqa: FBT001 - the value shown
        """On or off in words."""
        return in_context("switch", "on") if value else in_context("switch", "off")

    def check(self, name: str, value: object) -> str | None:
        """A sentence about what is wrong with the value, or None."""
        return (
            None
            if isinstance(value, bool)
            else tr("{name} must be true or false, not {value!r}", name=name, value=value)
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class Places:
    """Stretches of the recording in seconds: those that the tool learns from, or leaves alone."""

    label: str
    help: str
    learned: bool = True
    more: bool = False

    def text(self, value: Stretches) -> str:
        """How many stretches and how long."""
        total = sum(b - a for a, b in value)
        return tr("none") if not value else tr("{count} selected, {total:.2f} s", count=len(value), total=total)

    def check(self, name: str, value: object) -> str | None:
        """A sentence about what is wrong with the value, or None."""
        if not isinstance(value, tuple):
            return tr("{name} must be a list of [start, stop] in seconds, not {value!r}", name=name, value=value)
        for pair in value:
            good = isinstance(pair, tuple) and len(pair) == 2
            if not good or not all(_is_finite_number(x) for x in pair):
                return tr("{name} must hold pairs [start, stop] in seconds, not {start!r}", name=name, start=pair)
            if not 0 <= pair[0] < pair[1]:
                return tr(
                    "{name} has a section from {start:g} s to {end:g} s; it must run forward",
                    name=name,
                    start=pair[0],
                    end=pair[1],
                )
        return None


@dataclass(frozen=True, slots=True, kw_only=True)
class Levels:
    """A learned curve: ((frequency in Hz, level in dB), ...) or none."""

    label: str
    help: str
    more: bool = False

    def text(self, value: Stretches) -> str:
        """Whether a curve is carried."""
        return plural("1 point", "{n} points", len(value)) if value else tr("none")

    def check(self, name: str, value: object) -> str | None:
        """A sentence about what is wrong with the value, or None."""
        if not isinstance(value, tuple):
            return tr("{name} must be a list of [frequency in Hz, level in dB], not {value!r}", name=name, value=value)
        last = -1.0
        for pair in value:
            good = isinstance(pair, tuple) and len(pair) == 2
            if not good or not all(_is_finite_number(x) for x in pair):
                return tr("{name} must hold pairs [frequency in Hz, level in dB], not {start!r}", name=name, start=pair)
            if pair[0] <= last:
                return tr(
                    "{name} must list rising frequencies, but {start:g} Hz follows {last:g} Hz",
                    name=name,
                    start=pair[0],
                    last=last,
                )
            last = pair[0]
        return None


@dataclass(frozen=True, slots=True, kw_only=True)
class Word:
    """A short word that names something, set by the program."""

    label: str
    help: str
    more: bool = False

    def text(self, value: str) -> str:
        """The word."""
        return value or tr("none")

    def check(self, name: str, value: object) -> str | None:
        """A sentence about what is wrong with the value, or None."""
        good = isinstance(value, str) and len(value) <= LONGEST_WORD and value.isprintable()
        return (
            None
            if good
            else tr("{name} must be a word of at most {longest_word} letters", name=name, longest_word=LONGEST_WORD)
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class Kept:
    """Text that is carried along and shown nowhere."""

    label: str = ""
    help: str = ""
    more: bool = False

    def text(self, value: str) -> str:
        """The text."""
        return value

    def check(self, name: str, value: object) -> str | None:
        """A sentence about what is wrong with the value, or None."""
        return None if isinstance(value, str) else tr("{name} must be a text", name=name)


Declaration = Number | Choice | Switch | Places | Levels | Bands | Areas | Word | Kept


def _is_finite_number(value: object) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and math.isfinite(value)


def number(
    default: float | None,
    *,
    unit: Unit,
    low: float,
    high: float,
    label: str,
    help: str,  # noqa: A002 - the word of the declaration
    step: float = 1.0,
    scale: Scale = "linear",
    whole: bool = False,
    optional: bool = False,
    more: bool = False,
) -> Any:  # noqa: ANN401 - a dataclass field, as dataclasses.field returns it
    """Declare a numeric setting. ``more`` hides it behind "More" in the sheet."""
    declared = Number(
        unit=unit, low=low, high=high, step=step, scale=scale, whole=whole, optional=optional,
        label=label, help=help, more=more,
    )  # fmt: skip
    return field(default=default, metadata={"declared": declared})


def choice(
    default: str,
    *,
    options: dict[str, str],
    label: str,
    help: str,  # noqa: A002
    more: bool = False,
) -> Any:  # noqa: ANN401
    """Declare a choice between words."""
    declared = Choice(options=tuple(options.items()), label=label, help=help, more=more)
    return field(default=default, metadata={"declared": declared})


def switch(default: bool, *, label: str, help: str, more: bool = False) -> Any:  # noqa: A002, ANN401, FBT001
    """Declare an on/off setting."""
    return field(default=default, metadata={"declared": Switch(label=label, help=help, more=more)})


def places(*, label: str, help: str, learned: bool = True) -> Any:  # noqa: A002, ANN401
    """Declare stretches to learn from, or to leave alone."""
    return field(default=(), metadata={"declared": Places(label=label, help=help, learned=learned)})


def bands(*, label: str, help: str) -> Any:  # noqa: A002, ANN401
    """Declare a list of equaliser bands."""
    return field(default=(), metadata={"declared": Bands(label=label, help=help)})


def areas(*, label: str, help: str) -> Any:  # noqa: A002, ANN401
    """Declare outlines in the sonogram."""
    return field(default=(), metadata={"declared": Areas(label=label, help=help)})


def word(*, label: str, help: str) -> Any:  # noqa: A002, ANN401
    """Declare a word that the program sets; empty by default."""
    return field(default="", metadata={"declared": Word(label=label, help=help)})


def levels(*, label: str, help: str) -> Any:  # noqa: A002, ANN401
    """Declare a learned curve that travels with the settings."""
    return field(default=(), metadata={"declared": Levels(label=label, help=help)})


@dataclass(frozen=True, slots=True, kw_only=True)
class Settings:
    """Base of every tool's settings: immutable, hashable, checked when made.

    Raises
    ------
    SettingsError
        Listing every field that is out of range, when an instance is made.
    """

    __hash__: ClassVar[Any]

    def __post_init__(self) -> None:
        problems = [
            problem
            for name, declaration in declared(type(self)).items()
            if (problem := declaration.check(name, getattr(self, name)))
        ]
        if problems:
            raise SettingsError("; ".join(problems))

    @classmethod
    def of_older(cls, values: dict[str, Any]) -> dict[str, Any]:
        """What settings that an earlier version wrote mean now; for tools whose defaults or fields have changed."""
        return values


@cache
def declared(settings: type[Settings]) -> dict[str, Declaration]:
    """The declarations of a settings class by field name, in order."""
    found: dict[str, Declaration] = {}
    for entry in fields(settings):
        declaration = entry.metadata.get("declared")
        if declaration is None:
            message = f"{settings.__name__}.{entry.name} is not declared"
            raise TypeError(message)
        found[entry.name] = declaration
    return found


def default_of(settings: type[Settings], name: str) -> Any:  # noqa: ANN401 - any setting's value
    """The default of one field."""
    entry: Field[Any] = settings.__dataclass_fields__[name]
    if entry.default is MISSING:
        message = tr("{name} has no default", name=name)
        raise TypeError(message)
    return entry.default
