# SPDX-License-Identifier: GPL-3.0-or-later
"""Where caches and journals live: the user's XDG folders, or PULIZIA_HOME for everything."""

from __future__ import annotations

import contextlib
import os
from pathlib import Path

import platformdirs

from pulizia.errors import DiskError
from pulizia.words import tr


def cache_folder(name: str) -> Path:
    """A folder below the cache, made when missing."""
    return _made(_root("cache", platformdirs.user_cache_path("pulizia")) / name)


def state_folder(name: str) -> Path:
    """A folder below the state (journals, window places), made when missing."""
    return _made(_root("state", platformdirs.user_state_path("pulizia")) / name)


def config_folder(name: str) -> Path:
    """A folder below the configuration (own targets, recipes), made when missing."""
    return _made(_root("config", platformdirs.user_config_path("pulizia")) / name)


def prune(folder: Path, most_bytes: int) -> None:
    """Remove the files of a cache folder that were not used longest, until the rest fits."""
    with contextlib.suppress(OSError):
        files = [(f.stat().st_mtime, f.stat().st_size, f) for f in folder.iterdir() if f.is_file()]
        held = sum(size for _, size, _ in files)
        for _, size, file in sorted(files, key=lambda entry: entry[0]):
            if held <= most_bytes:
                return
            file.unlink(missing_ok=True)
            held -= size


def _root(word: str, usual: Path) -> Path:
    home = os.environ.get("PULIZIA_HOME")
    return Path(home) / word if home else usual


def _made(folder: Path) -> Path:
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        message = tr(
            "The folder {folder} cannot be made ({strerror}). Free it or set PULIZIA_HOME.",
            folder=folder,
            strerror=error.strerror,
        )
        raise DiskError(message) from error
    return folder
