"""How the sonogram is made and coloured."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(slots=True)
class SonogramLook:
    """How the sonogram is made and coloured."""

    size: int = 0  # one transform length, or 0 for blended lengths
    window: str = "hann"
    axis: str = "log"
    ramp: str = "theme"
    channel: str = ""  # a mixture of two channels, see PICKS; "" for all, their power averaged
    sharpened: bool = False
