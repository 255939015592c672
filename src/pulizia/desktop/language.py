# SPDX-License-Identifier: GPL-3.0-or-later
"""The language of the window: which catalogues there are, and which one is in use.

Catalogues are gettext's (``LANGUAGE/LC_MESSAGES/pulizia.mo``), in the program's data and, before those, in the
folder ``locale`` of the user's settings. The language is that of the preferences, of PULIZIA_LANGUAGE, or of the
system. Nothing that is wrong with a catalogue keeps the window from opening: it is English then, and says so.
"""

from __future__ import annotations

import gettext
import os
from datetime import datetime
from importlib.resources import as_file, files
from pathlib import Path

from PySide6.QtCore import QCoreApplication, QDateTime, QLibraryInfo, QLocale, QTranslator

from pulizia.media.folders import config_folder
from pulizia.words import ENGLISH_DECIMAL, N_, tr, translated, use_catalogue

DOMAIN = "pulizia"
ENGLISH = "en"
LARGEST_BYTES = 8 << 20
NAMES = {ENGLISH: "English", "de": "Deutsch", "it": "Italiano"}
"""Languages that are shipped, each by its own name."""
NONE_LIKE_IT = N_("There is no catalogue for the language {name}. The window is in English.")
UNREADABLE = N_("The catalogue {path} cannot be read ({error}). Replace or remove it. The window is in English.")


def system_language() -> str:
    """What PULIZIA_LANGUAGE says, or the first language of the system that there are words in; else "en".

    The system's are read as gettext does: LC_ALL, LC_MESSAGES or LANG, and before them LANGUAGE, a list, unless the
    others say C.
    """
    told = os.environ.get("PULIZIA_LANGUAGE", "")
    if told:
        return _name_of(told)
    system = next(filter(None, (os.environ.get(name) for name in ("LC_ALL", "LC_MESSAGES", "LANG"))), "C")
    if _name_of(system) == ENGLISH:
        return ENGLISH
    for name in map(_name_of, (*os.environ.get("LANGUAGE", "").split(":"), system)):
        if name.split("_", maxsplit=1)[0] == ENGLISH or catalogue_of(name) is not None:
            return name
    return ENGLISH


def _name_of(told: str) -> str:
    """The language and country of a name such as "de_AT.UTF-8@euro"; English of C."""
    name = told.partition("@")[0].partition(".")[0]
    return ENGLISH if name in ("C", "POSIX") else name


def catalogue_of(language: str) -> Path | None:
    """The catalogue file of a language such as "de" or "de_AT"; the user's own comes first."""
    with as_file(files("pulizia.data") / "locale") as shipped:
        for name in (language, language.split("_", maxsplit=1)[0]):
            for folder in (config_folder("locale"), shipped):
                path = folder / name / "LC_MESSAGES" / f"{DOMAIN}.mo"
                if name and os.sep not in name and path.is_file():
                    return path
    return None


def own_languages() -> list[str]:
    """Languages whose catalogue lies in the user's folder and that are not shipped."""
    found = sorted(path.parent.parent.name for path in config_folder("locale").glob(f"*/LC_MESSAGES/{DOMAIN}.mo"))
    return [name for name in found if name not in NAMES]


def chosen_language(preference: str) -> str:
    """What the preferences ask for; "system" and what is empty mean the system's."""
    return system_language() if preference in ("", "system") else preference


def use_language(language: str) -> str:
    """Show this language from now on, with its figures and dates; returns what is wrong with it, or nothing.

    The window that is already open keeps its words until it is made anew.
    """
    use_catalogue(None)
    _use_toolkit_words(None)
    QLocale.setDefault(QLocale(QLocale.Language.English, QLocale.Country.UnitedStates))
    if language.split("_", maxsplit=1)[0] == ENGLISH:
        return ""
    path = catalogue_of(language)
    if path is None:
        return tr(NONE_LIKE_IT, name=language)
    try:
        if path.stat().st_size > LARGEST_BYTES:
            message = "too large"
            raise ValueError(message)  # noqa: TRY301 - told in one sentence below
        with path.open("rb") as file:
            catalogue = gettext.GNUTranslations(file)
    except Exception as error:  # noqa: BLE001 - gettext raises struct.error and others for damaged files
        return tr(UNREADABLE, path=path, error=error)
    known = QLocale(language)
    QLocale.setDefault(known)
    use_catalogue(catalogue, known.decimalPoint() or ENGLISH_DECIMAL, moment=lambda at: _moment(known, at))
    _use_toolkit_words(known)
    return ""


def _moment(known: QLocale, at: datetime) -> str:
    shown = QDateTime.fromSecsSinceEpoch(int(at.timestamp()))
    return known.toString(shown, QLocale.FormatType.ShortFormat)


TOOLKIT_GAPS = frozenset({N_("&Look in:"), N_("Files of &type:")})
"""Words of the toolkit's dialog for files that its catalogues lack in some languages; they are in ours."""


class _GapWords(QTranslator):
    """Words of our catalogue where that of the toolkit has none; asked after it."""

    def isEmpty(self) -> bool:
        return False

    def translate(self, _context: str, text: str, *_more: object) -> str | None:
        return translated(text) if text in TOOLKIT_GAPS else None


_toolkit: list[QTranslator] = []


def _use_toolkit_words(known: QLocale | None) -> None:
    """The words of the toolkit's own dialogs and of keys ("Strg"), from the catalogues that come with it."""
    while _toolkit:
        QCoreApplication.removeTranslator(_toolkit.pop())
    if known is None or QCoreApplication.instance() is None:
        return
    gaps = _GapWords(QCoreApplication.instance())
    QCoreApplication.installTranslator(gaps)  # before the toolkit's: the last one is asked first
    _toolkit.append(gaps)
    words = QTranslator(QCoreApplication.instance())
    if words.load(known, "qtbase", "_", QLibraryInfo.path(QLibraryInfo.LibraryPath.TranslationsPath)):
        QCoreApplication.installTranslator(words)
        _toolkit.append(words)
