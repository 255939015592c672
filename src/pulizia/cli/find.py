"""`pulizia find`: from which raw recordings a worked file was made."""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import Any

from pulizia.cli.progress import TerminalProgress
from pulizia.errors import MediaError
from pulizia.measure.same_sound import find_same
from pulizia.media.open import open_media
from pulizia.session.sources import sound_files
from pulizia.units import format_number, format_time


def add_to(commands: Any) -> None:  # noqa: ANN401 - argparse keeps the type private
    """Declare the command."""
    command = commands.add_parser("find", help="find the raw recording that a worked file was made from")
    command.add_argument("file", type=Path, help="the worked file")
    command.add_argument("--among", type=Path, nargs="+", required=True, metavar="PATH", help="raw recordings, or folders of them")
    command.add_argument("--json", action="store_true", help="print as JSON")
    command.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Look through all candidates, likeliest first."""
    progress = TerminalProgress(options.file.name)
    worked = open_media(options.file, progress).source
    candidates = [p for p in sound_files(options.among) if not p.samefile(options.file)]
    if not candidates:
        message = "There is no sound file to look through. Name raw recordings, or a folder that holds them."
        raise MediaError(message)
    rows = []
    for n, path in enumerate(candidates):
        progress(n / len(candidates), path.name)
        try:
            found = find_same(worked, open_media(path).source)
        except MediaError:
            continue  # a file of another kind among the recordings
        if found is not None:
            rows.append((path, found))
    progress.done()
    rows.sort(key=lambda row: -row[1].likeness)
    if options.json:
        print(json.dumps([{"file": str(p), "offset_s": f.offset_s, "drift_ppm": f.drift_ppm, "gain_db": f.gain_db, "likeness": f.likeness} for p, f in rows], indent=1))
        return 0 if rows else 1
    if not rows:
        message = f"{options.file.name} was not found in any of {len(candidates)} recordings."
        raise MediaError(message)
    for path, found in rows:
        drift = f", drift {format_number(found.drift_ppm, 0, plus=True)} ppm" if abs(found.drift_ppm) >= 1 else ""
        sign = "" if found.offset_s >= 0 else "\u2212"
        print(f"{path}: from {sign}{format_time(abs(found.offset_s), 3)}, {format_number(found.gain_db, plus=True)} dB{drift}, likeness {100 * found.likeness:.0f} %")
    return 0
