# SPDX-License-Identifier: GPL-3.0-or-later
"""A selection, and what may be heard in the place of the recording on the bench. No Qt."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from pulizia.audio.source import Source
from pulizia.audio.spans import Span
from pulizia.project.step_owner import StepOwner
from pulizia.score.chain import Chain
from pulizia.settings.areas import Area


@dataclass(frozen=True, slots=True)
class Selection:
    """A marked stretch, and a band when it was marked in the sonogram."""

    span: Span
    band_hz: tuple[float, float] | None = None
    outline: Area = ()  # where it was drawn by hand


class OtherSubject(Protocol):
    """What is heard and measured in the place of the recording on the bench."""

    span: Span | None

    @property
    def subject_id(self) -> str | None:
        """Its identity."""
        ...

    @property
    def source(self) -> Source | None:
        """Its sound now."""
        ...

    @property
    def names(self) -> tuple[str, ...]:
        """Names of its channels."""
        ...

    @property
    def owner(self) -> StepOwner | None:
        """Whose steps are shown."""
        ...

    @property
    def owner_chain(self) -> Chain | None:
        """The sound of that before and after its steps."""
        ...

    @property
    def owner_selection(self) -> Selection | None:
        """The selection on the clock of that."""
        ...

    def to_owner(self, frame: int) -> int:
        """A frame of what is heard on the clock of that."""
        ...

    def from_owner(self, frame: int) -> int:
        """A frame of that on the clock of what is heard."""
        ...

    def select_span(self, start: int, stop: int) -> None:
        """Select a section of what is heard."""
        ...
