# SPDX-License-Identifier: GPL-3.0-or-later
"""Put Pulizia into the user's desktop, or take it out again: entry, icon, file type, metainfo, command.

Usage: desktop_entry.py install | uninstall. Everything goes below ~/.local (or XDG_DATA_HOME).
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from importlib.resources import files
from pathlib import Path

COMMAND = Path(sys.executable).parent / "pulizia"
DATA = Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")
LINK = Path.home() / ".local" / "bin" / "pulizia"
ID = "org.pulizia.Pulizia"
PLACES = {
    f"{ID}.desktop": DATA / "applications" / f"{ID}.desktop",
    f"{ID}.svg": DATA / "icons" / "hicolor" / "scalable" / "apps" / f"{ID}.svg",
    f"{ID}-mime.xml": DATA / "mime" / "packages" / f"{ID}.xml",
    f"{ID}.metainfo.xml": DATA / "metainfo" / f"{ID}.metainfo.xml",
}
EARLIER = (
    DATA / "applications" / "pulizia.desktop",
    DATA / "icons" / "hicolor" / "scalable" / "apps" / "pulizia.svg",
    DATA / "mime" / "packages" / "pulizia.xml",
    DATA / "metainfo" / "pulizia.metainfo.xml",
)
"""Where versions before 0.1 put them."""


def install() -> None:
    """Write every file, and link the command."""
    for place in EARLIER:
        place.unlink(missing_ok=True)
    for name, place in PLACES.items():
        text = files("pulizia.data").joinpath("desktop", name).read_text(encoding="utf-8")
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_text(text.replace("@EXEC@", f'"{COMMAND}"'), encoding="utf-8")
        print(f"wrote {place}")
    LINK.parent.mkdir(parents=True, exist_ok=True)
    if LINK.is_symlink() or not LINK.exists():
        LINK.unlink(missing_ok=True)
        LINK.symlink_to(COMMAND)
        print(f"linked {LINK}")
    refresh()


def uninstall() -> None:
    """Remove every file that install wrote; settings and projects stay."""
    for place in (*PLACES.values(), *EARLIER):
        if place.exists():
            place.unlink()
            print(f"removed {place}")
    if LINK.is_symlink() and LINK.resolve() == COMMAND.resolve():
        LINK.unlink()
        print(f"removed {LINK}")
    refresh()


def refresh() -> None:
    """Tell the desktop, where its own commands are there."""
    for command, folder in (
        ("update-desktop-database", DATA / "applications"),
        ("update-mime-database", DATA / "mime"),
    ):
        if shutil.which(command) and folder.is_dir():
            subprocess.run([command, str(folder)], check=False, capture_output=True)


if __name__ == "__main__":
    if sys.argv[1:] not in (["install"], ["uninstall"]):
        sys.exit(__doc__)
    install() if sys.argv[1] == "install" else uninstall()
