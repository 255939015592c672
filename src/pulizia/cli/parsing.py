# SPDX-License-Identifier: GPL-3.0-or-later
"""A parser of command lines that answers a wrong one with a sentence instead of a page."""

from __future__ import annotations

import argparse
from typing import NoReturn


class Parser(argparse.ArgumentParser):
    """Says what is wrong and where the options are listed; its commands do the same."""

    def error(self, message: str) -> NoReturn:
        """End with 2 and one line."""
        sentence = f"{message[:1].upper()}{message[1:].rstrip('.')}"
        self.exit(2, f"{self.prog}: {sentence}. {self.prog} --help lists what can be given.\n")
