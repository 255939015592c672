# SPDX-License-Identifier: GPL-3.0-or-later
"""What a tool finds wrong with a recording: the kinds of problem, with their thresholds, and single findings."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from pulizia.audio.source import Source
from pulizia.words import N_

A_MINUTE = N_("a minute")
COUNTS = ("samples", "places")  # units of measures that are whole


@dataclass(frozen=True, slots=True)
class Mark:
    """A moment that a tool found: shown as a tick that can be visited."""

    start: int
    stop: int
    words: str
    on: bool = True  # False where the person has said that it shall stay
    value: float = 0.0  # what sorts the moments: a level or an excess in dB


@dataclass(frozen=True, slots=True)
class Finding:
    """One problem, in a sentence with its measure, and the step that treats it ("" for none).

    Attributes
    ----------
    severity
        0 (hardly a problem) to 1 (grave), by the thresholds of its kind.
    certainty
        0..1, how likely a finding of its kind is right.
    channels, microphone
        Of a recording whose channels are microphones of their own: the one that it is about, by number and name.
    """

    kind: str
    sentence: str
    measure: float
    unit: str
    severity: float
    certainty: float
    tool_id: str = ""
    settings: dict[str, Any] = field(default_factory=dict)
    marks: tuple[Mark, ...] = ()
    channels: tuple[int, ...] | None = None
    microphone: str = ""

    @property
    def decimals(self) -> int:
        """Digits after the point that the measure is worth."""
        return 0 if self.unit in COUNTS or abs(self.measure) >= 20 else 1

    @property
    def id(self) -> str:
        """Its kind, and the microphone by number: no other finding of a recording has the same."""
        return self.kind if self.channels is None else f"{self.kind}:{'+'.join(str(c + 1) for c in self.channels)}"

    def of_microphone(self, channel: int, name: str) -> Finding:
        """The same about one microphone of several."""
        return replace(self, channels=(channel,), microphone=name, sentence=f"{name}: {self.sentence}")


@dataclass(frozen=True, slots=True, kw_only=True)
class Problem:
    """A kind of problem, and what is common to all findings of it.

    Attributes
    ----------
    kind
        Word in reports and on the command line; never changes.
    mild, grave
        The measure from which on it is a problem at all, and from which on a grave one.
    unit
        Of the measure.
    certainty
        0..1 at the mild and at the grave measure: the share of findings of this kind that were right. Measured on a
        practice corpus of recorded people (docs/repairs.md), or of common practice.
    source
        Where the thresholds come from.
    """

    kind: str
    mild: float
    grave: float
    unit: str
    certainty: tuple[float, float]
    source: str = "common practice"

    def severity(self, measure: float) -> float:
        """0 (hardly a problem) to 1 (grave)."""
        return min(max(self.reach(measure), 0.0), 1.0)

    def reach(self, measure: float) -> float:
        """How far a measure lies on the way from mild (0) to grave (1) and beyond: what is graver than grave can still get better."""
        return (measure - self.mild) / (self.grave - self.mild)

    def found(
        self,
        tool_id: str,
        sentence: str,
        measure: float,
        settings: Mapping[str, Any] | None = None,
        marks: Sequence[Mark] = (),
    ) -> Finding:
        """A finding of this kind, which a step of that tool with these settings treats."""
        severity = self.severity(measure)
        certainty = round(self.certainty[0] + severity * (self.certainty[1] - self.certainty[0]), 2)
        return Finding(
            self.kind, sentence, measure, self.unit, severity, certainty, tool_id, dict(settings or {}), tuple(marks)
        )  # fmt: skip


def a_minute(count: int, source: Source) -> float:
    """How many in a minute; of a recording under a second as if it lasted one."""
    return count / max(source.frames / source.rate / 60.0, 1.0 / 60.0)
