# SPDX-License-Identifier: GPL-3.0-or-later
"""Finds the files of a list in folders that were given: by path, name, scene and take, reel and timecode.

Nothing outside these folders is opened, whatever paths a list names.
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path

from pulizia.errors import MediaError
from pulizia.interchange.edit_list import Event, MediaName
from pulizia.media import suffixes
from pulizia.media.facts import MediaFacts, media_facts
from pulizia.words import N_

MOST_FILES = 200_000
HOWS = {
    "path": N_("by path"), "name": N_("by name"), "take": N_("by scene and take"), "reel": N_("by reel and timecode"),
    "timecode": N_("by timecode"), "field": N_("field recording of the same moment"),
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Found:
    """A file and how it was found; ``rivals`` are others of the same name."""

    facts: MediaFacts
    how: str
    rivals: tuple[Path, ...] = ()


@dataclass(slots=True)
class MediaFolders:
    """Sound files in folders and below; their heads are looked at when that is needed, once."""

    folders: tuple[Path, ...]
    files: list[Path] = field(default_factory=list)
    _by_name: dict[str, list[Path]] = field(default_factory=dict)
    _by_stem: dict[str, list[Path]] = field(default_factory=dict)
    _facts: dict[Path, MediaFacts | None] = field(default_factory=dict)

    @classmethod
    def of(cls, folders: Iterable[Path]) -> MediaFolders:
        """Walk the folders; files are taken as folders of one."""
        made = cls(tuple(Path(os.path.abspath(folder)) for folder in folders))
        for folder in made.folders:
            found = [folder] if folder.is_file() else _walk(folder)
            made.files += found[: max(0, MOST_FILES - len(made.files))]
        for path in made.files:
            made._by_name.setdefault(path.name.lower(), []).append(path)
            made._by_stem.setdefault(path.stem.lower(), []).append(path)
        return made

    def facts(self, path: Path) -> MediaFacts | None:
        """The head of a file; None for one that cannot be read."""
        if path not in self._facts:
            try:
                self._facts[path] = media_facts(path)
            except MediaError:
                self._facts[path] = None
        return self._facts[path]

    def find(self, media: MediaName, events: Iterable[Event], *, prefer_field: bool = False) -> Found | None:
        """The file of a medium that these events play; None when there is none."""
        rows = list(events)
        needed = _needed(rows)
        for look in (self._by_path, self._named, self._by_take, self._by_reel, self._by_timecode):
            found = look(media, needed)
            if found is not None:
                return self._field_recording(found, needed) or found if prefer_field else found
        return None

    def field_recording(self, found: Found, events: Iterable[Event]) -> Path | None:
        """A sound recorder's file of the moment that these events play of a camera's file; None when there is none."""
        field = self._field_recording(found, _needed(list(events)))
        return None if field is None else field.facts.path

    # -- ways to find

    def _by_path(self, media: MediaName, _needed: tuple[Fraction, Fraction] | None) -> Found | None:
        if not media.path:
            return None
        path = Path(os.path.normpath(media.path))
        candidates = [path] if path.is_absolute() else [folder / path for folder in self.folders]
        for candidate in candidates:
            inside = any(candidate.is_relative_to(folder) for folder in self.folders)
            if inside and candidate in set(self._by_name.get(candidate.name.lower(), ())):
                return self._checked([candidate], media, None, "path")
        # the same file further up or down in another tree: the longest common end of both paths
        rivals = self._by_name.get(path.name.lower(), [])
        if len(rivals) > 1:
            ends = {p: _common_end(p, path) for p in rivals}
            best = max(ends.values())
            nearest = [p for p in rivals if ends[p] == best]
            if best > 1 and len(nearest) == 1:
                return self._checked(nearest, media, None, "path")
        return None

    def _named(self, media: MediaName, needed: tuple[Fraction, Fraction] | None) -> Found | None:
        for name in dict.fromkeys((Path(media.path).name, media.name, media.reel)):
            plain = name.strip().lower()
            if not plain:
                continue
            paths = self._by_name.get(plain) or self._by_stem.get(plain) or self._by_stem.get(Path(plain).stem)
            if not paths and (cut := re.sub(r"[ ._-](?:new|copy|sync|sub)?[ ._-]?\d{1,3}$", "", Path(plain).stem)):
                paths = self._by_stem.get(cut)
            if paths and (found := self._checked(paths, media, needed, "name")) is not None:
                return found
        return None

    def _checked(
        self, paths: list[Path], media: MediaName, needed: tuple[Fraction, Fraction] | None, how: str
    ) -> Found | None:
        """The one of several files that fits best: its timecode, its length, its rate."""
        known = [facts for path in paths if (facts := self.facts(path)) is not None]
        if not known:
            return None

        def fit(facts: MediaFacts) -> tuple[int, int, int, int]:
            covers = needed is not None and _covers(facts, needed)
            near = media.seconds is not None and abs(facts.seconds - media.seconds) < Fraction(1, 10)
            return (
                int(covers), int(near), int(bool(media.rate_hz) and facts.rate_hz == media.rate_hz),
                int(facts.path.suffix.lower() not in suffixes.VIDEO),
            )  # fmt: skip

        best = max(known, key=fit)
        return Found(best, how, tuple(f.path for f in known if f.path != best.path))

    def _by_take(self, media: MediaName, needed: tuple[Fraction, Fraction] | None) -> Found | None:
        if not (media.scene and media.take):
            return None
        wanted = (media.scene.lower(), media.take.lower())
        same = [p for p in self.files if (f := self.facts(p)) and (f.scene.lower(), f.take.lower()) == wanted]
        return self._checked(same, media, needed, "take") if same else None

    def _by_reel(self, media: MediaName, needed: tuple[Fraction, Fraction] | None) -> Found | None:
        if not media.reel or needed is None:
            return None
        reel = media.reel.lower()
        same = [
            p
            for p in self.files
            if (f := self.facts(p)) and _covers(f, needed) and (f.reel.lower() == reel or reel in p.stem.lower())
        ]
        return self._checked(same, media, needed, "reel") if same else None

    def _by_timecode(self, media: MediaName, needed: tuple[Fraction, Fraction] | None) -> Found | None:
        if needed is None or needed[0] < 60:  # a time code that begins at nothing says nothing
            return None
        same = [p for p in self.files if (f := self.facts(p)) and _covers(f, needed)]
        return self._checked(same, media, needed, "timecode") if len(same) == 1 else None

    def _field_recording(self, found: Found, needed: tuple[Fraction, Fraction] | None) -> Found | None:
        """A sound recorder's file of the same moment in the place of a camera's sound."""
        if found.facts.path.suffix.lower() not in suffixes.VIDEO:
            return None
        moment = needed
        if moment is None and found.facts.start is not None:
            moment = (found.facts.start, found.facts.start + found.facts.seconds)
        if moment is None:
            return None
        others = [
            f
            for p in self.files
            if p.suffix.lower() not in suffixes.VIDEO and (f := self.facts(p)) is not None and _covers(f, moment)
        ]
        best = max(others, key=lambda f: (f.scene == found.facts.scene != "", f.channels), default=None)
        return None if best is None else Found(best, "field", (found.facts.path,))


def _walk(folder: Path) -> list[Path]:
    found: list[Path] = []
    for root, folders, names in os.walk(folder):
        folders[:] = sorted(f for f in folders if not f.startswith("."))
        found += [
            Path(root, n) for n in sorted(names) if Path(n).suffix.lower() in suffixes.ALL and not n.startswith(".")
        ]
        if len(found) > MOST_FILES:
            break
    return found


def _common_end(a: Path, b: Path) -> int:
    count = 0
    for x, y in zip(reversed(a.parts), reversed(b.parts), strict=False):
        if x.lower() != y.lower():
            break
        count += 1
    return count


def _needed(events: list[Event]) -> tuple[Fraction, Fraction] | None:
    """What of the medium's timecode is played; None where the list does not count in timecode."""
    coded = [e for e in events if e.by_timecode]
    if not coded:
        return None
    return min(e.source for e in coded), max(e.source + e.seconds for e in coded)


def _covers(facts: MediaFacts, needed: tuple[Fraction, Fraction]) -> bool:
    if facts.start is None:
        return False
    return facts.start <= needed[0] + Fraction(1, 10) and needed[1] <= facts.start + facts.seconds + Fraction(1, 10)


Progress = Callable[[float], None]
