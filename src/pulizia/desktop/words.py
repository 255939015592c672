# SPDX-License-Identifier: GPL-3.0-or-later
"""All words that the window shows pass through here, so that they can be told in another language.

A catalogue is a JSON file of sentences as they stand in the program and what they become; figures and names in
a sentence are {} in both. ``scripts/list_words.py`` prints an empty one. It is looked for as
``words/LANGUAGE.json`` in the user's settings folder; the language is PULIZIA_LANGUAGE, or that of the system.
"""

from __future__ import annotations

import json
import locale
import os
import re
from functools import lru_cache
from pathlib import Path

from pulizia.errors import ProjectError
from pulizia.media.folders import config_folder

LARGEST_BYTES = 8 << 20


class Catalogue:
    """Sentences and what they become."""

    def __init__(self, entries: dict[str, str]) -> None:
        self._plain = {a: b for a, b in entries.items() if b and "{}" not in a}
        patterns = sorted((a for a, b in entries.items() if b and "{}" in a), key=lambda a: -len(a))
        self._patterns = [(re.compile(_pattern(a), re.DOTALL), entries[a]) for a in patterns]

    def of(self, text: str) -> str:
        """The sentence in the other language; the text itself when it is not known."""
        if (known := self._plain.get(text)) is not None:
            return known
        for pattern, made in self._patterns:
            if (found := pattern.fullmatch(text)) is not None:
                return _filled(made, [self._plain.get(part, part) for part in found.groups()])
        return text


def _pattern(template: str) -> str:
    return "(.*?)".join(re.escape(part) for part in template.split("{}"))


def _filled(template: str, parts: list[str]) -> str:
    pieces = template.split("{}")
    return pieces[0] + "".join(part + piece for part, piece in zip(parts, pieces[1:], strict=False))


def translated(text: str) -> str:
    """What is shown for a text of the program."""
    if _catalogue is None or not any(c.isalpha() for c in text):
        return text
    return _known(text)


@lru_cache(maxsize=8192)
def _known(text: str) -> str:
    return _catalogue.of(text) if _catalogue is not None else text


_catalogue: Catalogue | None = None


def use_language(entries: dict[str, str] | None) -> None:
    """Show these words from now on; None shows the program's own."""
    global _catalogue  # noqa: PLW0603 - one language at a time
    _catalogue = Catalogue(entries) if entries else None
    _known.cache_clear()


def read_catalogue(path: Path) -> dict[str, str]:
    """The entries of a catalogue file.

    Raises
    ------
    ProjectError
        One sentence about what is wrong with it.
    """
    try:
        if path.stat().st_size > LARGEST_BYTES:
            message = f"{path.name} is too large for a list of words. Remove it."
            raise ProjectError(message)
        content = json.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError, RecursionError) as error:
        message = f"The words in {path} cannot be read ({error}). Correct the file or remove it."
        raise ProjectError(message) from error
    if not isinstance(content, dict) or not all(isinstance(v, str) for v in content.values()):
        message = f"{path} is not a table of sentences and what they become. Correct it or remove it."
        raise ProjectError(message)
    wrong = next((k for k, v in content.items() if v and k.count("{}") != v.count("{}")), None)
    if wrong is not None:
        message = f'{path.name}: what "{wrong}" becomes must have as many {{}} as it has itself.'
        raise ProjectError(message)
    return content


def language() -> str:
    """Two letters or more: what PULIZIA_LANGUAGE says, or the system."""
    told = os.environ.get("PULIZIA_LANGUAGE") or locale.getlocale(locale.LC_CTYPE)[0] or ""
    return told.split(".")[0]


def use_system_language() -> str:
    """Take up the catalogue for this language where there is one; returns what is wrong with it, or nothing."""
    name = language()
    for wanted in (name, name.split("_")[0]):
        path = config_folder("words") / f"{wanted}.json"
        if wanted and path.is_file():
            try:
                use_language(read_catalogue(path))
            except ProjectError as error:
                return str(error)
            return ""
    return ""
