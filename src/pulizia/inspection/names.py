# SPDX-License-Identifier: GPL-3.0-or-later
"""What kinds of problems are called, in the window and on the command line alike."""

from __future__ import annotations

from pulizia.words import N_

NAMES = {
    "overload": N_("Clipping"),
    "noise": N_("Noise"), "hum": N_("Mains hum"), "channel missing": N_("One channel missing"), "polarity": N_("Opposite polarity"),
    "delay": N_("One channel late"), "offset": N_("DC offset"), "level": N_("Uneven level"), "silence": N_("Digital silence"), "room": N_("Room tail"),
    "dull": N_("Dull voice"), "sound": N_("Isolated sound"), "lopsided": N_("Asymmetric waveform"),
}  # fmt: skip
LOOKED_FOR = {
    "overload": N_("clipping"), "clicks": N_("clicks"), "plosives": N_("plosives"), "hum": N_("hum"), "breaths": N_("breaths"),
    "noise": N_("noise"), "ringing": N_("ringing"), "room": N_("room tail"), "room_tail": N_("room tail"), "areas": N_("isolated sounds"), "sound": N_("isolated sounds"), "sibilance": N_("hard S sounds"),
    "dull": N_("missing treble"), "dull_voice": N_("missing treble"), "leveller": N_("uneven levels"), "level": N_("uneven level"),
    "silence": N_("digital silence"), "room_tone": N_("drop-outs"), "channels": N_("channel faults"), "polarity": N_("polarity"),
    "channel missing": N_("missing channel"), "delay": N_("late channel"), "offset": N_("DC offset"), "lopsided": N_("asymmetric waveform"),
}  # fmt: skip
"""By the kind of a problem, and by the tool that looks for several."""


def name_of(kind: str) -> str:
    """A kind of problem."""
    return NAMES.get(kind, kind.capitalize())


def looked_for(finder: str) -> str:
    """What a finder looks for, inside a sentence."""
    return LOOKED_FOR.get(finder, finder)
