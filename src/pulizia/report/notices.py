# SPDX-License-Identifier: GPL-3.0-or-later
"""Version, licence and third-party notices, made from what is installed."""

from __future__ import annotations

import platform
import re
import sys
from dataclasses import dataclass
from importlib import metadata
from importlib.resources import files
from typing import Any

from pulizia import __version__
from pulizia.words import N_

COPYRIGHT = "Copyright 2026 The Pulizia developers"
LICENCE = "GPL-3.0-or-later"
NO_WARRANTY = N_(
    "This program is free software: you can redistribute it and modify it under the terms of the GNU General Public License "
    "as published by the Free Software Foundation, version 3 or any later version. It comes with ABSOLUTELY NO WARRANTY, to "
    "the extent permitted by law."
)


@dataclass(frozen=True, slots=True)
class Part:
    """A package that the program uses, with its licence."""

    name: str
    version: str
    licence: str


def parts() -> tuple[Part, ...]:
    """Every package that Pulizia and its packages ask for and that is installed here, by name."""
    found: dict[str, Part] = {}
    waiting = ["pulizia"]
    while waiting:
        name = waiting.pop()
        try:
            package = metadata.distribution(name)
        except metadata.PackageNotFoundError:
            continue
        for requirement in package.requires or []:
            extra = re.search(r"extra\s*==\s*['\"]([\w-]+)", requirement)
            if extra is not None and (name != "pulizia" or extra.group(1) == "test"):
                continue
            wanted = re.split(r"[^\w.-]", requirement, maxsplit=1)[0].lower().replace("_", "-")
            if wanted and wanted not in found and wanted != "pulizia":
                part = _part(wanted)
                if part is not None:
                    found[wanted] = part
                    waiting.append(wanted)
    return tuple(found[name] for name in sorted(found))


def _part(name: str) -> Part | None:
    try:
        told: Any = metadata.metadata(name)
    except metadata.PackageNotFoundError:
        return None
    licence = told.get("License-Expression") or ""
    if not licence:
        classes = [
            c.rsplit("::", 1)[-1].strip() for c in told.get_all("Classifier") or [] if c.startswith("License ::")
        ]
        words = (told.get("License") or "").strip().splitlines()
        licence = ", ".join(classes) or (words[0][:80] if words else "see the package")
    return Part(told["Name"], told["Version"], licence)


def licence_text() -> str:
    """The GNU General Public License as it was installed with the program; where to find it, if it was not."""
    try:
        for path in metadata.files("pulizia") or []:
            if path.name == "LICENSE":
                return path.read_text(encoding="utf-8")
    except (metadata.PackageNotFoundError, OSError):
        pass
    return f"{NO_WARRANTY}\n\nThe full text is in the file LICENSE of the source, and at the Free Software Foundation."


def notices() -> str:
    """Typeface, voices, learned data and packages with their licences, as plain text."""
    own = files("pulizia.data").joinpath("notices.txt").read_text(encoding="utf-8").strip()
    rows = [f"{part.name} {part.version}: {part.licence}" for part in parts()]
    return own + "\n\nPackages installed here\n\n" + "\n".join(rows) + "\n"


def details() -> str:
    """What a report of a fault should say of the machine, as plain text."""
    lines = [f"Pulizia {__version__}", f"Python {sys.version.split()[0]}", platform.platform()]
    wanted = {"numpy", "scipy", "pyside6-essentials", "av", "soundfile", "soxr", "sounddevice", "pulsectl"}
    lines += [f"{part.name} {part.version}" for part in parts() if part.name.lower().replace("_", "-") in wanted]
    return "\n".join(lines) + "\n"
