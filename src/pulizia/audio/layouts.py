# SPDX-License-Identifier: GPL-3.0-or-later
"""Channels by name: loudspeakers, the microphones of a recorder, and how either is heard from two loudspeakers."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

STANDARD_NAMES: dict[int, tuple[str, ...]] = {
    1: ("M",),
    2: ("L", "R"),
    3: ("L", "R", "C"),
    4: ("L", "R", "Ls", "Rs"),
    5: ("L", "R", "C", "Ls", "Rs"),
    6: ("L", "R", "C", "LFE", "Ls", "Rs"),
}
"""What a file that says nothing most probably holds. Seven channels and more are the tracks of a recorder."""

MOST_LOUDSPEAKERS = max(STANDARD_NAMES)

_MASK_NAMES = (
    "L", "R", "C", "LFE", "Lb", "Rb", "Lc", "Rc", "Cs", "Ls", "Rs", "Ts", "Ltf", "Ctf", "Rtf", "Ltb", "Ctb", "Rtb",
)  # fmt: skip
"""Loudspeakers in the order of the mask's bits (WAVE_FORMAT_EXTENSIBLE, ksmedia.h: SPEAKER_FRONT_LEFT is bit 0)."""

MINUS_3_DB = 10.0 ** (-3.0 / 20.0)
IN_TWO: dict[str, tuple[float, float]] = {
    "L": (1.0, 0.0),
    "R": (0.0, 1.0),
    "C": (MINUS_3_DB, MINUS_3_DB),
    "LFE": (0.0, 0.0),
    "Ls": (MINUS_3_DB, 0.0),
    "Rs": (0.0, MINUS_3_DB),
    "Lb": (MINUS_3_DB, 0.0),
    "Rb": (0.0, MINUS_3_DB),
    "Lc": (1.0, 0.0),
    "Rc": (0.0, 1.0),
    "Cs": (0.5, 0.5),
}
"""Weights into left and right: ITU-R BS.775-4, annex 4 (centre and surrounds 3 dB down, LFE left out); a single
rear loudspeaker goes to both sides, each 6 dB down."""


def names_of_mask(mask: int, channels: int) -> tuple[str, ...]:
    """Loudspeakers of a mask, in the order of the channels; () when the mask does not name each of them.

    Rear loudspeakers without side ones are the surrounds of a 4.0, 5.0 or 5.1 layout.
    """
    named = [name for bit, name in enumerate(_MASK_NAMES) if mask >> bit & 1]
    if len(named) != channels or mask >> len(_MASK_NAMES):
        return ()
    if mask == 0x4:
        return ("M",)
    if "Ls" not in named and "Rs" not in named:
        named = [{"Lb": "Ls", "Rb": "Rs"}.get(name, name) for name in named]
    return tuple(named)


def mask_of(names: Sequence[str]) -> int:
    """The mask that says where channels of these names are heard; 0 when one is no loudspeaker or they stand in another order."""
    if tuple(names) == ("M",):
        return 0x4
    without_sides = "Lb" not in names and "Rb" not in names
    wanted = [{"Ls": "Lb", "Rs": "Rb"}.get(n, n) if without_sides else n for n in names]
    bits = [_MASK_NAMES.index(name) if name in _MASK_NAMES else -1 for name in wanted]
    if -1 in bits or bits != sorted(set(bits)):
        return 0
    return sum(1 << bit for bit in bits)


def channel_names(channels: int, given: Sequence[str] = ()) -> tuple[str, ...]:
    """The file's own names where it has one for every channel, else the usual ones; beyond six channels numbers."""
    if len(given) == channels and all(given):
        return tuple(given)
    return STANDARD_NAMES.get(channels, tuple(str(n + 1) for n in range(channels)))


def shown_names(names: Sequence[str]) -> tuple[str, ...]:
    """Names as people read them beside meters, where M is momentary loudness."""
    return tuple("Mono" if name == "M" else name for name in names)


def are_loudspeakers(names: Sequence[str]) -> bool:
    """Whether each name is that of a loudspeaker, each once: else the channels are microphones beside one another."""
    known = set(_MASK_NAMES) | {"M"}
    return all(name in known for name in names) and len(set(names)) == len(names)


def are_microphones(names: Sequence[str]) -> bool:
    """Whether channels of these names are microphones of their own by what the file calls them.

    Numbers alone say so only where there are more of them than loudspeakers.
    """
    if len(names) < 2 or are_loudspeakers(names):
        return False
    return len(names) > MOST_LOUDSPEAKERS or not all(name.isdigit() for name in names)


def into_two(names: Sequence[str]) -> NDArray[np.float64]:
    """(2, channels) weights of channels of these names into left and right.

    Loudspeakers go by :data:`IN_TWO`, brought down so far that full scale everywhere is full scale;
    one channel goes to both sides as it is; the tracks of a recorder are mixed to both sides with equal
    power (each by 1 / sqrt(n)).
    """
    count = len(names)
    if count == 1:
        return np.ones((2, 1))
    if not are_loudspeakers(names):
        return np.full((2, count), count**-0.5)
    weights = np.array([IN_TWO.get(name, (0.5, 0.5)) for name in names]).T
    most = float(weights.sum(axis=1).max())
    return weights / most if most > 1.0 else weights


def into_one(names: Sequence[str]) -> NDArray[np.float64]:
    """(1, channels) weights into one channel: the mean of what goes left and right."""
    return np.asarray(into_two(names).mean(axis=0, keepdims=True))


def alone_in_two(channel: int, channels: int) -> NDArray[np.float64]:
    """(2, channels) weights that give one channel to both sides."""
    weights = np.zeros((2, channels))
    weights[:, channel] = 1.0
    return weights
