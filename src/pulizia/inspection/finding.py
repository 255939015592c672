# SPDX-License-Identifier: GPL-3.0-or-later
"""A finding: one trouble of a recording, how grave it is, and which step treats it."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from pulizia.tools.base import Mark

TROUBLING: dict[str, tuple[float, float]] = {
    "overload": (1.0, 2000.0), "clicks": (2.0, 20.0), "plosives": (2.0, 12.0), "hum": (-75.0, -45.0),
    "breaths": (3.0, 20.0), "noise": (36.0, 15.0), "ringing": (3.0, 10.0), "sibilance": (7.0, 15.0),
    "offset": (-50.0, -25.0), "lopsided": (5.0, 10.0), "level": (5.5, 14.0), "silence": (1.0, 10.0),
    "channel missing": (30.0, 60.0), "polarity": (-0.3, -0.8), "delay": (0.0, 1.0),
    "room": (0.4, 1.2), "sound": (-45.0, -10.0), "dull": (7.0, 3.0),
}  # fmt: skip
"""From which measure on each kind is a trouble at all, and from which on a grave one (common practice)."""


@dataclass(frozen=True, slots=True)
class Finding:
    """One trouble, in a sentence with its measure, and the step that treats it ("" for none)."""

    kind: str
    sentence: str
    measure: float
    unit: str
    certainty: float  # 0..1
    tool_id: str = ""
    settings: dict[str, Any] = field(default_factory=dict)
    marks: tuple[Mark, ...] = ()

    @property
    def severity(self) -> float:
        """0 (hardly a trouble) to 1 (grave), by common practice for each kind; see TROUBLING."""
        mild, grave = TROUBLING[self.kind]
        measure = abs(self.measure) if self.kind == "lopsided" else self.measure
        return min(max((measure - mild) / (grave - mild), 0.0), 1.0)
