# SPDX-License-Identifier: GPL-3.0-or-later
"""Undo and redo: a list of earlier projects with the words of the edits between them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field

from pulizia.project.model import Project

MOST_ENTRIES = 1000
MOST_CLIPS = 2_000_000  # that earlier projects may hold, each of about 200 bytes: an edit at the start of a programme moves all of its clips
BETWEEN_COUNTS = 16  # edits


@dataclass(slots=True)
class History:
    """Earlier and later projects around the present one."""

    present: Project
    _past: list[tuple[str, Project]] = field(default_factory=list)
    _future: list[tuple[str, Project]] = field(default_factory=list)
    _merge_key: str | None = None

    def edit(self, project: Project, label: str, merge_key: str | None = None) -> None:
        """Make ``project`` the present. Edits in a row with one ``merge_key`` become one entry."""
        if project == self.present:
            return
        if merge_key is None or merge_key != self._merge_key or not self._past:
            self._past.append((label, self.present))
            del self._past[:-MOST_ENTRIES]
            if len(self._past) % BETWEEN_COUNTS == 0:
                self._forget_oldest()
        self._future.clear()
        self._merge_key = merge_key
        self.present = project

    def _forget_oldest(self) -> None:
        """Let go of the earliest projects where all together would hold too many clips; lanes that they share count once."""
        seen: set[int] = set()
        held = 0
        for n, (_, project) in reversed(list(enumerate(self._past))):
            for lane in (la for programme in project.programmes for la in programme.lanes if id(la) not in seen):
                seen.add(id(lane))
                held += len(lane.clips)
            if held > MOST_CLIPS:
                del self._past[: min(n + 1, len(self._past) - 1)]
                return

    @contextmanager
    def one_deed(self, label: str) -> Iterator[None]:
        """Let all edits inside be one entry called ``label``; also when one of them raises."""
        before = self.present
        try:
            yield
        finally:
            if self.present is not before:
                while self._past and self._past[-1][1] is not before:
                    self._past.pop()
                if self._past:
                    self._past[-1] = (label, before)
                self._merge_key = None

    def amend(self, change: Callable[[Project], Project]) -> None:
        """Change how the project looks, now, before and later: no edit that undo would take back."""
        self.present = change(self.present)
        for row in (self._past, self._future):
            row[:] = [(label, change(project)) for label, project in row]

    @property
    def is_in_a_row(self) -> bool:
        """Whether edits that become one entry are under way: a slider is being moved."""
        return self._merge_key is not None

    def settle(self) -> None:
        """End a row of merged edits: the slider was let go."""
        self._merge_key = None

    @property
    def undo_label(self) -> str | None:
        """Words of the edit that undo takes back."""
        return self._past[-1][0] if self._past else None

    @property
    def before_last(self) -> Project | None:
        """The project before the last edit."""
        return self._past[-1][1] if self._past else None

    @property
    def redo_label(self) -> str | None:
        """Words of the edit that redo makes again."""
        return self._future[-1][0] if self._future else None

    @property
    def past(self) -> list[tuple[str, Project]]:
        """Earlier projects, the oldest first, each with the words of the edit that followed it."""
        return list(self._past)

    @property
    def labels(self) -> tuple[tuple[str, ...], tuple[str, ...]]:
        """Words of the edits that were made, and of those that were taken back, both in the order in which they act."""
        return tuple(label for label, _ in self._past), tuple(label for label, _ in reversed(self._future))

    def take_past(self, past: Sequence[tuple[str, Project]]) -> None:
        """Begin with these earlier projects."""
        self._past = list(past)[-MOST_ENTRIES:]

    def go_to(self, count: int) -> bool:
        """Undo or redo until ``count`` edits are in force; False when they are."""
        moved = False
        while len(self._past) > max(count, 0) and self.undo():
            moved = True
        while len(self._past) < count and self.redo():
            moved = True
        return moved

    def undo(self) -> bool:
        """Go back one edit."""
        if not self._past:
            return False
        label, project = self._past.pop()
        self._future.append((label, self.present))
        self.present, self._merge_key = project, None
        return True

    def redo(self) -> bool:
        """Go forward one edit."""
        if not self._future:
            return False
        label, project = self._future.pop()
        self._past.append((label, self.present))
        self.present, self._merge_key = project, None
        return True
