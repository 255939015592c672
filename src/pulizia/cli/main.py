# SPDX-License-Identifier: GPL-3.0-or-later
"""The command line: one module per command; without a command, the window."""

from __future__ import annotations

import argparse
import io
import os
import sys
from collections.abc import Sequence
from difflib import get_close_matches
from pathlib import Path

from pulizia import __version__
from pulizia.batch.runner import sentence_of
from pulizia.cli.parsing import Parser
from pulizia.errors import Cancelled, PuliziaError, UnknownNameError

COMMANDS = (
    "measure",
    "inspect",
    "suggest",
    "repair",
    "deliver",
    "watch",
    "render",
    "find",
    "assemble",
    "export-list",
    "conform",
    "line-up",
    "notes",
    "templates",
    "from-template",
    "targets",
    "recipes",
    "tools",
    "install-desktop",
    "uninstall-desktop",
)


def parser() -> argparse.ArgumentParser:
    """All commands with their help."""
    from pulizia.cli import (
        deliver,
        desktop_entry,
        edit_lists,
        find,
        inspect,
        line_up,
        lists,
        measure,
        notes,
        render,
        repair,
        suggest,
        templates,
        watch,
    )

    top = Parser(
        prog="pulizia",
        description="Repair, measure and deliver voice recordings. "
        "Without a command, opens the window on the given files.",
        epilog="pulizia [PROJECT | FILES ...] opens the window; pulizia --demo opens it on the demo recordings.",
    )
    top.add_argument("--version", action="version", version=f"Pulizia {__version__}")
    commands = top.add_subparsers(dest="command", required=True, metavar="COMMAND")
    for module in (
        measure,
        inspect,
        suggest,
        repair,
        deliver,
        watch,
        render,
        find,
        edit_lists,
        line_up,
        templates,
        notes,
        lists,
        desktop_entry,
    ):
        module.add_to(commands)
    return top


def run(arguments: Sequence[str] | None = None) -> None:
    """Entry point: ends the process with 0 done, 1 the input or the disk is at fault, 2 wrong usage."""
    # the program's own threads share the work; threads inside matrix products only get in their way
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    for stream in (sys.stdout, sys.stderr):  # names of files may hold bytes that are no text
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")
    given = list(sys.argv[1:] if arguments is None else arguments)
    sys.exit(main(given))


def main(given: Sequence[str]) -> int:
    """Run one command and return its exit code."""
    first = given[0] if given else ""
    wants_window = not given or (first not in COMMANDS and first not in ("-h", "--help", "--version"))
    try:
        return _open_window(given) if wants_window else _run_command(given)
    except SystemExit as end:  # argparse has said what is wrong
        return int(end.code or 0)
    except UnknownNameError as error:
        print(f"pulizia: {error}", file=sys.stderr)
        return 2
    except PuliziaError as error:
        print(f"pulizia: {sentence_of(error)}", file=sys.stderr)
    except (KeyboardInterrupt, Cancelled):
        print("pulizia: stopped; nothing was left half-written", file=sys.stderr)
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    except MemoryError:
        print("pulizia: there is not enough memory for this. Close other programs.", file=sys.stderr)
    except Exception as error:  # noqa: BLE001 - the last catch: no person ever sees a traceback
        from pulizia.media.faults import note_fault

        print(f"pulizia: {note_fault(error, first if first in COMMANDS else 'Opening the window')}", file=sys.stderr)
    return 1


def _run_command(given: Sequence[str]) -> int:
    options, unknown = parser().parse_known_args(given)
    if unknown:  # told by the command, whose options they are not
        Parser(prog=f"pulizia {options.command}").error(f"Unknown here: {' '.join(unknown)[:200]}")
    code: int = options.run(options)
    sys.stdout.flush()
    return code


def _is_there(name: str) -> bool:
    try:
        return Path(name).exists()
    except (OSError, ValueError):  # a name that no disk can hold
        return False


def _open_window(given: Sequence[str]) -> int:
    window = Parser(prog="pulizia", usage="pulizia [--demo] [PROJECT | FILES ...]")
    window.add_argument("--demo", action="store_true", help="open the demo recordings")
    window.add_argument("--simulated-output", action="store_true", help=argparse.SUPPRESS)
    window.add_argument("--picture", metavar="PNG", help=argparse.SUPPRESS)
    window.add_argument("files", nargs="*", help="a project or sound files")
    options = window.parse_args(given)
    for name in options.files:
        if not _is_there(name):
            near = get_close_matches(name, COMMANDS, n=1)
            hint = (
                f"Did you mean the command {near[0]}?"
                if near
                else "Check the name, or see pulizia --help for the commands."
            )
            window.exit(2, f"pulizia: {name[:200]} is neither a file nor a command. {hint}\n")
    if not any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")):
        message = (
            "There is no screen here to open a window on. Use the commands that need none: pulizia --help lists them."
        )
        raise PuliziaError(message)
    from importlib import import_module

    # the desktop sits beside this layer, not below it; it is only ever started here
    return int(import_module("pulizia.desktop.start").start(options))
