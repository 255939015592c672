# SPDX-License-Identifier: GPL-3.0-or-later
"""Words for people, in the language that the window shows.

Sentences stand in the program in English and are looked up in a gettext catalogue where one is in use; the command
line uses none. ``tr`` looks a sentence up and fills in its named fields, ``plural`` chooses the form for a number,
``in_context`` tells short words apart that other languages translate in two ways, and ``N_`` only marks a text that
is looked up later by ``translated``. ``scripts/translate.py`` collects all of them.
"""

from __future__ import annotations

import gettext
from collections.abc import Callable
from datetime import datetime
from string import Formatter
from typing import Any

ENGLISH_DECIMAL = "."


class _Fields(Formatter):
    """Fields as str.format fills them; fractions carry the language's decimal sign."""

    def format_field(self, value: Any, format_spec: str) -> str:  # noqa: ANN401 - as the base class
        text = str(super().format_field(value, format_spec))
        return text.replace(ENGLISH_DECIMAL, _decimal) if isinstance(value, float) else text


_fields = _Fields()
_catalogue: gettext.NullTranslations | None = None
_decimal = ENGLISH_DECIMAL
_moment: Callable[[datetime], str] | None = None


def use_catalogue(
    catalogue: gettext.NullTranslations | None,
    decimal: str = ENGLISH_DECIMAL,
    moment: Callable[[datetime], str] | None = None,
) -> None:
    """Show these words, this decimal sign and this form of dates from now on; None shows the program's own."""
    global _catalogue, _decimal, _moment
    _catalogue, _decimal, _moment = catalogue, decimal, moment


def moment_shown(moment: datetime) -> str:
    """Date and time for people, as the language in use writes them; ISO 8601 without one."""
    return moment.isoformat(sep=" ", timespec="minutes") if _moment is None else _moment(moment)


def language_shown() -> str:
    """The code of the language in use, such as "de", for pages that name it."""
    return "en" if _catalogue is None else str(_catalogue.info().get("language") or "en")


def decimal_sign() -> str:
    """The sign between whole and fraction in figures that people read."""
    return _decimal


def tr(sentence: str, /, **fields: object) -> str:
    """A sentence in the language in use, with its named fields filled in."""
    return _filled(translated(sentence), sentence, fields)


def N_(text: str) -> str:  # noqa: N802 - the usual name of the mark in gettext
    """Mark a text for the catalogue; ``translated`` looks it up where it is shown."""
    return text


def N_plural(one: str, many: str) -> tuple[str, str]:  # noqa: N802 - as N_
    """Mark two forms for the catalogue; ``plural(*forms, n)`` chooses between them where they are shown."""
    return one, many


def translated(text: str) -> str:
    """A marked text in the language in use; itself where the catalogue does not hold it."""
    if _catalogue is None or not text:
        return text
    return _catalogue.gettext(text)


def plural(one: str, many: str, n: int, /, **fields: object) -> str:
    """The form of a sentence for a number, which is also its field n."""
    form = one if n == 1 else many
    chosen = form if _catalogue is None else _catalogue.ngettext(one, many, n)
    return _filled(chosen, form, {"n": n, **fields})


def in_context(context: str, text: str, /) -> str:
    """A short word that needs its context to be translated."""
    return text if _catalogue is None else _catalogue.pgettext(context, text)


def _filled(chosen: str, english: str, fields: dict[str, object]) -> str:
    if not fields:
        return chosen
    try:
        return _fields.vformat(chosen, (), fields)
    except (KeyError, ValueError, IndexError):  # a catalogue with a wrong field
        return _fields.vformat(english, (), fields)
