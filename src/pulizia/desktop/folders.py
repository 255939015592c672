# SPDX-License-Identifier: GPL-3.0-or-later
"""The folder that a dialog proposes for something that is written, and the one in which a file lies."""

from __future__ import annotations

import os
from importlib.resources import files
from pathlib import Path

from PySide6.QtCore import QUrl
from PySide6.QtGui import QDesktopServices

from pulizia.project.model import Recording
from pulizia.session.session import Session
from pulizia.words import tr

OWN = Path(str(files("pulizia"))).resolve()


def proposed_folder(session: Session, recording: Recording | None = None) -> Path:
    """Where the work lies: beside the project, or else ``recording``, the current one or the first; at worst the home folder.

    A folder that cannot be written to is not proposed, nor that of the program itself, in which its demo recordings lie.
    """
    near = (recording, session.recording, *session.document.project.recordings[:1])
    for path in (session.document.path, *(r.path for r in near if r is not None)):
        if path is not None and _takes_files(path.parent):
            return path.parent
    return Path.home()


def _takes_files(folder: Path) -> bool:
    return folder.is_dir() and os.access(folder, os.W_OK) and not folder.resolve().is_relative_to(OWN)


def show_folder(session: Session, path: Path) -> None:
    """Open the folder of a file in the desktop's file manager; where there is none, say which folder it is."""
    folder = path.parent
    if not folder.is_dir():
        session.say(tr("{folder} is not there any more.", folder=folder), bad=True)
    elif not QDesktopServices.openUrl(QUrl.fromLocalFile(str(folder))):
        session.say(tr("No file manager opened. The folder is {folder}.", folder=folder), bad=True)
