"""Names of channels by count, for files that do not say."""

from __future__ import annotations

STANDARD_NAMES: dict[int, tuple[str, ...]] = {
    1: ("M",),
    2: ("L", "R"),
    3: ("L", "R", "C"),
    4: ("L", "R", "Ls", "Rs"),
    5: ("L", "R", "C", "Ls", "Rs"),
    6: ("L", "R", "C", "LFE", "Ls", "Rs"),
    8: ("L", "R", "C", "LFE", "Ls", "Rs", "Lb", "Rb"),
}
"""Orders of WAVE_FORMAT_EXTENSIBLE's mask for the usual loudspeaker layouts."""


def channel_names(channels: int, given: tuple[str, ...] = ()) -> tuple[str, ...]:
    """The file's own names where it has one for every channel, else the usual ones."""
    if len(given) == channels and all(given):
        return given
    return STANDARD_NAMES.get(channels, tuple(str(n + 1) for n in range(channels)))
