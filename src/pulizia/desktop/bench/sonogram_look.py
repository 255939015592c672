# SPDX-License-Identifier: GPL-3.0-or-later
"""How the sonogram is made and coloured."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol


@dataclass(slots=True)
class SonogramLook:
    """How the sonogram is made and coloured."""

    size: int = 0  # one transform length, or 0 for blended lengths
    window: str = "hann"
    axis: str = "log"
    ramp: str = "theme"
    channel: str = ""  # a mixture of two channels, see PICKS; "" for all, their power averaged
    sharpened: bool = False


class Looked(Protocol):
    """What can be looked at in many ways."""

    look: SonogramLook

    def choose(self, **changes: object) -> None:
        """Change the look by name."""

    def set_levels(self, low_db: float, high_db: float) -> None:
        """Levels at the ends of the ramp."""

    def set_band(self, low_hz: float, high_hz: float) -> None:
        """Frequencies at the ends of the axis."""
