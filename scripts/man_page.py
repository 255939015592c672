# SPDX-License-Identifier: GPL-3.0-or-later
"""Print the page pulizia(1) for man, made from the commands' own declarations."""

from __future__ import annotations

import argparse
import os
from datetime import UTC, datetime

from pulizia import __version__
from pulizia.cli.main import parser


def escaped(text: str) -> str:
    """Text as roff takes it."""
    return text.replace("\\", "\\e").replace("-", "\\-").replace("'", "\\(aq").replace("%%", "%")


def page() -> str:
    """The whole page."""
    top = parser()
    moment = datetime.fromtimestamp(int(os.environ.get("SOURCE_DATE_EPOCH", "1767225600")), UTC)
    lines = [f'.TH PULIZIA 1 "{moment:%Y-%m-%d}" "Pulizia {__version__}"', ".SH NAME",
             "pulizia \\- repair, measure and deliver voice recordings", ".SH SYNOPSIS",
             ".B pulizia", "[\\fIPROJECT\\fR | \\fIFILE\\fR ...]", ".br", ".B pulizia", "\\fICOMMAND\\fR ...",
             ".SH DESCRIPTION", escaped(top.description or ""), ".SH COMMANDS"]  # fmt: skip
    for action in top._actions:  # noqa: SLF001 - argparse has no public way to its commands
        if not isinstance(action, argparse._SubParsersAction):  # noqa: SLF001
            continue
        helps = {choice.dest: choice.help or "" for choice in action._choices_actions}  # noqa: SLF001
        for name, command in action.choices.items():
            lines += [".SS " + escaped(name), escaped(helps.get(name, ""))]
            for option in command._actions:  # noqa: SLF001
                if option.help in (None, argparse.SUPPRESS) or option.dest == "help":
                    continue
                shown = ", ".join(option.option_strings) or str(option.metavar or option.dest)
                lines += [".TP", f"\\fB{escaped(shown)}\\fR", escaped(option.help or "")]
    lines += [".SH EXIT STATUS", "0: done; 1: the input or the disk is at fault; 2: wrong usage.", ".SH FILES"]
    lines += ["\\fI~/.config/pulizia\\fR, \\fI~/.cache/pulizia\\fR, \\fI~/.local/state/pulizia\\fR;"]
    lines += ["\\fBPULIZIA_HOME\\fR moves all of them."]
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    print(page(), end="")
