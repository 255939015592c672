# SPDX-License-Identifier: GPL-3.0-or-later
"""A parser of command lines that answers a wrong one with a sentence instead of a page."""

from __future__ import annotations

import argparse
import math
from typing import NoReturn


class Parser(argparse.ArgumentParser):
    """Says what is wrong and where the options are listed; its commands do the same."""

    def error(self, message: str) -> NoReturn:
        """End with 2 and one line."""
        sentence = f"{message[:1].upper()}{message[1:].rstrip('.')}"
        self.exit(2, f"{self.prog}: {sentence}. {self.prog} --help lists what can be given.\n")


def seconds(text: str) -> float:
    """A time on the command line; what is no number, or none that a clock has, is refused."""
    try:
        value = float(text)
    except ValueError:
        value = math.nan
    if not math.isfinite(value):
        message = f"{text!r} is not a time in seconds"
        raise argparse.ArgumentTypeError(message)
    return value
