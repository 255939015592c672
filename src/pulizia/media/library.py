# SPDX-License-Identifier: GPL-3.0-or-later
"""Things kept as text files under short names: those that come with the program, and the user's own."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from importlib.resources import files
from pathlib import Path
from typing import Generic, TypeVar

from pulizia.errors import PuliziaError
from pulizia.media.folders import config_folder

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Library(Generic[T]):
    """Files ``*.json`` in the folder ``name`` of the program's data and of the user's configuration.

    Attributes
    ----------
    parse : makes one of a text and the name of its file
    read : makes one of a file; raises ``wrong``
    """

    name: str
    parse: Callable[[str, str], T]
    read: Callable[[Path], T]
    wrong: type[PuliziaError]

    def shipped(self) -> dict[str, T]:
        """What comes with the program, by short name."""
        folder = files("pulizia.data").joinpath(self.name)
        found = {entry.name.removesuffix(".json"): entry for entry in folder.iterdir() if entry.name.endswith(".json")}
        return {name: self.parse(found[name].read_text(encoding="utf-8"), found[name].name) for name in sorted(found)}

    def own(self) -> dict[str, T]:
        """The user's by file name without its ending; damaged ones are left out."""
        found = {}
        for path in sorted(config_folder(self.name).glob("*.json")):
            try:
                found[path.stem] = self.read(path)
            except self.wrong:
                continue  # told when it is asked for by name
        return found

    def find(self, name: str) -> T | None:
        """One by path or name; the user's own go before shipped ones. None when there is none; ``wrong`` when it is damaged."""
        path = Path(name)
        try:
            is_file = path.suffix == ".json" or path.exists()
        except OSError:  # a name that no disk can hold
            is_file = False
        if is_file:
            return self.read(path)
        own = {file.stem: file for file in config_folder(self.name).glob("*.json")}
        return self.read(own[name]) if name in own else self.shipped().get(name)

    def known(self) -> str:
        """The names of all, for people."""
        return ", ".join([*self.own(), *self.shipped()])
