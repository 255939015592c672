# SPDX-License-Identifier: GPL-3.0-or-later
"""`pulizia install-desktop` and `uninstall-desktop`: entry, icon, file type, metainfo and command of the user's own desktop.

Everything goes below ~/.local (or XDG_DATA_HOME).
"""

from __future__ import annotations

import argparse
import os
import shutil
import subprocess
import sys
from importlib.resources import files
from pathlib import Path
from typing import Any

from pulizia.media.write import disk_words, write_text

ID = "org.pulizia.Pulizia"


def add_to(commands: Any) -> None:  # noqa: ANN401 - argparse keeps the type private
    """Declare the commands."""
    put = commands.add_parser("install-desktop", help="put the program into your desktop: entry, icon, file type")
    put.set_defaults(run=install)
    take = commands.add_parser("uninstall-desktop", help="take it out of your desktop; settings and projects stay")
    take.set_defaults(run=uninstall)


def data_folder() -> Path:
    """Where a user's desktop looks."""
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")


def places() -> dict[str, Path]:
    """Each shipped file with where it goes."""
    data = data_folder()
    return {
        f"{ID}.desktop": data / "applications" / f"{ID}.desktop",
        f"{ID}.svg": data / "icons" / "hicolor" / "scalable" / "apps" / f"{ID}.svg",
        f"{ID}-mime.xml": data / "mime" / "packages" / f"{ID}.xml",
        f"{ID}.metainfo.xml": data / "metainfo" / f"{ID}.metainfo.xml",
    }


def earlier_places() -> list[Path]:
    """Where versions before 0.1 put them."""
    data = data_folder()
    return [
        data / "applications" / "pulizia.desktop",
        data / "icons" / "hicolor" / "scalable" / "apps" / "pulizia.svg",
        data / "mime" / "packages" / "pulizia.xml",
        data / "metainfo" / "pulizia.metainfo.xml",
    ]


def command() -> Path:
    """The command of this installation."""
    return Path(sys.executable).parent / "pulizia"


def link() -> Path:
    """Where the command is found by its name."""
    return Path.home() / ".local" / "bin" / "pulizia"


def install(_options: argparse.Namespace) -> int:
    """Write every file, and link the command; DiskError where that is refused."""
    for place in earlier_places():
        place.unlink(missing_ok=True)
    for name, place in places().items():
        text = files("pulizia.data").joinpath("desktop", name).read_text(encoding="utf-8")
        with disk_words(place):
            place.parent.mkdir(parents=True, exist_ok=True)
        write_text(place, text.replace("@EXEC@", f'"{command()}"'))
        print(f"wrote {place}")
    with disk_words(link()):
        link().parent.mkdir(parents=True, exist_ok=True)
        if link().is_symlink() or not link().exists():
            link().unlink(missing_ok=True)
            link().symlink_to(command())
            print(f"linked {link()}")
    refresh()
    return 0


def uninstall(_options: argparse.Namespace) -> int:
    """Remove every file that install wrote; settings and projects stay."""
    for place in (*places().values(), *earlier_places()):
        if place.exists():
            place.unlink()
            print(f"removed {place}")
    if link().is_symlink() and link().resolve() == command().resolve():
        link().unlink()
        print(f"removed {link()}")
    refresh()
    return 0


def refresh() -> None:
    """Tell the desktop, where its own commands are there."""
    for program, folder in (
        ("update-desktop-database", data_folder() / "applications"),
        ("update-mime-database", data_folder() / "mime"),
    ):
        if shutil.which(program) and folder.is_dir():
            subprocess.run([program, str(folder)], check=False, capture_output=True)  # noqa: S603 - the desktop's own two
