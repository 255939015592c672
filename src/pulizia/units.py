# SPDX-License-Identifier: GPL-3.0-or-later
"""Units of settings and figures, and the conversions between them."""

from __future__ import annotations

import math
import re
from enum import Enum

import numpy as np
from numpy.typing import NDArray

from pulizia.words import decimal_sign, tr

MINUS = "\u2212"
SILENCE_DB = -200.0


class Unit(Enum):
    """A unit: its symbol for people and the suffix that a setting's name carries."""

    DB = ("dB", "_db")
    DBFS = ("dBFS", "_dbfs")
    DBTP = ("dBTP", "_dbtp")
    LUFS = ("LUFS", "_lufs")
    LU = ("LU", "_lu")
    HZ = ("Hz", "_hz")
    MS = ("ms", "_ms")
    SECONDS = ("s", "_s")
    PERCENT = ("%", "_percent")
    COUNT = ("", "_count")
    FRAMES = ("frames", "_frames")
    SHARE = (" ", "")  # 0..1, shown in percent
    NONE = ("", "")

    @property
    def symbol(self) -> str:
        """The symbol as people read it."""
        return self.value[0].strip()

    @property
    def suffix(self) -> str:
        """The ending of names that carry this unit."""
        return self.value[1]


def db_to_gain(level_db: float) -> float:
    """Amplitude factor of a level in dB."""
    return float(10.0 ** (level_db / 20.0))


def gain_to_db(gain: float) -> float:
    """Level in dB of an amplitude factor; -inf for 0."""
    return 20.0 * math.log10(gain) if gain > 0.0 else -math.inf


def power_to_db(power: float) -> float:
    """Level in dB of a power; -inf for 0."""
    return 10.0 * math.log10(power) if power > 0.0 else -math.inf


def powers_to_db(power: NDArray[np.floating]) -> NDArray[np.float64]:
    """Levels in dB of powers of any shape; zero power becomes SILENCE_DB."""
    floor = 10.0 ** (SILENCE_DB / 10.0)
    return np.asarray(10.0 * np.log10(np.maximum(power, floor)), dtype=np.float64)


def ms_to_frames(duration_ms: float, rate_hz: int) -> int:
    """Nearest whole number of frames."""
    return round(duration_ms * rate_hz / 1000.0)


def seconds_to_frames(seconds: float, rate_hz: int) -> int:
    """Nearest whole number of frames."""
    return round(seconds * rate_hz)


def with_minus(text: str) -> str:
    """Figures with the sign for minus in place of the hyphen, as :func:`format_number` writes them."""
    return re.sub(r"-(?=\d)", MINUS, text)


def format_number(value: float | None, decimals: int = 1, *, plus: bool = False) -> str:
    """A figure with a true minus sign; a dash where there is no reading."""
    if value is None or not math.isfinite(value):
        return "\u2013"
    rounded = round(value, decimals) + 0.0
    text = f"{abs(rounded):.{decimals}f}".replace(".", decimal_sign())
    if rounded < 0.0:
        return MINUS + text
    return "+" + text if plus and rounded > 0.0 else text


def plain_figure(text: str) -> str:
    """A figure of :func:`format_number` as programs read it, with a point and a hyphen; other texts stay."""
    plain = text.replace(MINUS, "-").replace(decimal_sign(), ".")
    try:
        float(plain)
    except ValueError:
        return text
    return plain


def format_time(seconds: float, decimals: int = 0) -> str:
    """Time as m:ss or h:mm:ss, with decimals where asked, behind the decimal sign of the language shown."""
    scale = 10**decimals
    ticks = round(max(seconds, 0.0) * scale)
    whole, fraction = divmod(ticks, scale)
    minutes, second = divmod(whole, 60)
    hours, minute = divmod(minutes, 60)
    head = f"{hours}:{minute:02d}:{second:02d}" if hours else f"{minute}:{second:02d}"
    return f"{head}{decimal_sign()}{fraction:0{decimals}d}" if decimals else head


NOTES = ("C", "C#", "D", "D#", "E", "F", "F#", "G", "G#", "A", "A#", "B")


def note_name(hz: float) -> str:
    """Nearest note of equal temperament (A4 = 440 Hz, ISO 16) with the distance in cents."""
    steps = 69.0 + 12.0 * math.log2(max(hz, 1e-3) / 440.0)
    nearest = round(steps)
    cents = round(100.0 * (steps - nearest))
    return tr(
        "{note}{nearest} {cents} cents",
        note=NOTES[nearest % 12],
        nearest=nearest // 12 - 1,
        cents=format_number(cents, 0, plus=True),
    )


def format_clock(seconds: float) -> str:
    """Time as hh:mm:ss.mmm, which never changes its width."""
    ms = round(max(seconds, 0.0) * 1000.0)
    whole, ms = divmod(ms, 1000)
    minutes, second = divmod(whole, 60)
    hours, minute = divmod(minutes, 60)
    return f"{hours:02d}:{minute:02d}:{second:02d}{decimal_sign()}{ms:03d}"
