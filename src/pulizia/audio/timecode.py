# SPDX-License-Identifier: GPL-3.0-or-later
"""Timecode of pictures after SMPTE ST 12-1, and times as people type them. Rates are exact fractions."""

from __future__ import annotations

import re
from fractions import Fraction

from pulizia.errors import PuliziaError
from pulizia.words import tr

DROPPING = {Fraction(30000, 1001): 2, Fraction(60000, 1001): 4}
"""Frame numbers left out at each minute that is no tenth (ST 12-1, 29.97 and 59.94 frames a second)."""
CODE = re.compile(r"(\d{1,2}):(\d{2}):(\d{2})([:;.,])(\d{1,3})")
CLOCK = re.compile(r"(?:(?:(\d+):)?(\d+):)?(\d+(?:[.,]\d*)?|[.,]\d+)")
UNITS = {"": Fraction(1), "s": Fraction(1), "ms": Fraction(1, 1000), "min": Fraction(60), "h": Fraction(3600)}


class TimecodeError(PuliziaError):
    """A timecode or time that cannot be read."""


def can_drop(rate: Fraction) -> bool:
    """Whether drop-frame counting exists for a picture rate."""
    return rate in DROPPING


def frame_of(text: str, rate: Fraction, *, drop: bool | None = None) -> int:
    """The frame that a timecode such as 01:00:00:00 names, counted from 00:00:00:00.

    Parameters
    ----------
    rate
        Frames of the picture a second, exact: 30000/1001 for 29.97.
    drop
        Drop-frame counting; None takes it from the separator before the frames, ``;`` for drop-frame.

    Raises
    ------
    TimecodeError
        When it is no timecode, has too large a part, or names a frame that drop-frame counting leaves out.
    """
    found = CODE.fullmatch(text.strip())
    if found is None:
        message = tr("{text} is no timecode. Write hours, minutes, seconds and frames: 01:00:00:00.", text=text)
        raise TimecodeError(message)
    hours, minutes, seconds, frames = (int(found[n]) for n in (1, 2, 3, 5))
    nominal = round(rate)
    if minutes > 59 or seconds > 59 or frames >= nominal:
        message = tr(
            "{text} is no timecode at {nominal} frames a second: a part is too large.", text=text, nominal=nominal
        )
        raise TimecodeError(message)
    left_out = DROPPING.get(rate, 0) if (found[4] == ";" if drop is None else drop) else 0
    if left_out and seconds == 0 and frames < left_out and minutes % 10:
        message = tr("{text} does not exist in drop-frame timecode. Use the frame after it.", text=text)
        raise TimecodeError(message)
    whole = 60 * hours + minutes
    return (60 * whole + seconds) * nominal + frames - left_out * (whole - whole // 10)


def timecode(frame: int, rate: Fraction, *, drop: bool = False) -> str:
    """The timecode of a frame counted from 00:00:00:00; 24 hours later it begins again."""
    nominal, left_out = round(rate), DROPPING.get(rate, 0) if drop else 0
    if left_out:
        per_minute, per_ten = 60 * nominal - left_out, 600 * nominal - 9 * left_out
        tens, rest = divmod(frame % (144 * per_ten), per_ten)
        minutes = 0 if rest < 60 * nominal else 1 + (rest - 60 * nominal) // per_minute
        frame = frame % (144 * per_ten) + left_out * (9 * tens + minutes)
    seconds, frames = divmod(frame % (86_400 * nominal), nominal)
    mark = ";" if left_out else ":"
    return f"{seconds // 3600:02d}:{seconds // 60 % 60:02d}:{seconds % 60:02d}{mark}{frames:02d}"


def typed_seconds(text: str, rate: Fraction = Fraction(25), start_frame: int = 0, *, drop: bool = False) -> Fraction:
    """Seconds from the start that somebody typed: 83.4, 1:23.4, 83 s, 400 ms, 1.5 min, 120 f, or a timecode 10:01:23:10.

    A timecode is counted from ``start_frame``, the frame of the start; everything else from 0. TimecodeError otherwise.
    """
    words = text.strip().lower()
    if CODE.fullmatch(words) and words.count(":") + words.count(";") == 3:
        return Fraction(frame_of(words, rate, drop=drop or None) - start_frame) / rate
    unit = next((u for u in ("ms", "min", "h", "s", "f") if words.endswith(u)), "")
    found = CLOCK.fullmatch(words.removesuffix(unit).strip())
    if found is None or (unit and (found[1] or found[2])):
        message = tr("{text} is no time. Write 83.4, 1:23.4, 400 ms, or a timecode 10:01:23:10.", text=text)
        raise TimecodeError(message)
    number = Fraction(found[3].replace(",", ".").rstrip(".") or "0")
    if unit == "f":
        return number / rate
    return (3600 * int(found[1] or 0) + 60 * int(found[2] or 0) + number) * UNITS[unit]
