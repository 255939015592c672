# SPDX-License-Identifier: GPL-3.0-or-later
"""Damaged files for every reader: projects, recipes, targets, words, profiles, WAV files and coded files.

Usage: fuzz.py [MINUTES]. Each is a good one with bytes changed, taken out, doubled or cut off. A reader has to
read it or refuse it in one sentence, within seconds and a bounded memory. Ends with 1 when one did neither.
"""

from __future__ import annotations

import json
import os
import random
import resource
import sys
import tempfile
import time
import traceback
from collections.abc import Callable
from pathlib import Path

import numpy as np

from pulizia.audio.source import ArraySource
from pulizia.delivery.deliver import write_source
from pulizia.delivery.deliverable import Deliverable, Kind
from pulizia.delivery.targets import read_targets, shipped_targets
from pulizia.errors import PuliziaError
from pulizia.media.open import open_media
from pulizia.project.file import load_project, project_text
from pulizia.score.recipes import read_recipe, recipe_text
from pulizia.score.steps import make_step
from pulizia.session.document import Document
from pulizia.tools.registry import ALL

LONGEST_S = 5.0
MOST_MB = 1500
RATE = 8000


def good_files(folder: Path) -> list[tuple[Path, Callable[[Path], object]]]:
    """One of each kind, with its reader."""
    rng = np.random.default_rng(1)
    sound = ArraySource((0.1 * rng.standard_normal((1, RATE))).astype(np.float32), RATE)
    made: list[tuple[Path, Callable[[Path], object]]] = []
    kinds: tuple[tuple[Kind, str], ...] = (
        ("wav", "wav"),
        ("flac", "flac"),
        ("mp3", "mp3"),
        ("opus", "opus"),
        ("m4a", "m4a"),
    )
    for kind, suffix in kinds:
        path = folder / f"good.{suffix}"
        write_source(sound, path, Deliverable(kind=kind), lambda _share: None)
        made.append((path, heard))
    steps = tuple(make_step(tool.id) for tool in ALL)
    document = Document()
    name = document.add_media(open_media(folder / "good.wav"))
    for tool in ALL:
        document.add_step(name, tool.id)
    texts: tuple[tuple[str, str, Callable[[Path], object]], ...] = (
        ("good.pulizia", project_text(document.project, folder), load_project),
        ("good.json", recipe_text("r", steps, RATE), read_recipe),
        (
            "targets.json",
            json.dumps(
                {
                    "targets": [
                        t.__class__
                        and {
                            "id": t.id,
                            "title": t.title,
                            "integrated_lufs": t.integrated_lufs,
                            "tolerance_lu": 1,
                            "true_peak_dbtp": -1,
                        }
                        for t in shipped_targets()
                    ]
                }
            ),
            lambda p: read_targets(p.read_text(errors="replace"), p.name),
        ),
    )
    for file, text, reader in texts:
        (folder / file).write_text(text, encoding="utf-8")
        made.append((folder / file, reader))
    return made


def heard(path: Path) -> object:
    """Open a sound file and read all of it."""
    source = open_media(path).source
    return source.read(0, min(source.frames, 1 << 22))


def damaged(content: bytes, rng: random.Random) -> bytes:
    """The content with some harm done to it."""
    made = bytearray(content)
    for _ in range(rng.randrange(1, 10)):
        at = rng.randrange(max(1, len(made)))
        how = rng.randrange(6)
        if how == 0 and made:
            made[at % len(made)] = rng.randrange(256)
        elif how == 1:
            del made[at : at + rng.randrange(1, 64)]
        elif how == 2:
            made[at:at] = made[max(0, at - 64) : at]
        elif how == 3:
            made[at : at + 4] = rng.choice([b"\xff" * 4, b"\0" * 4, b"1e99", b"-1  ", b"null"])
        elif how == 4:
            made[at:at] = rng.choice([b"[" * 200, b'{"a":' * 50, b"9" * 40, b'"\\u0000"', "\u2028".encode()])
        else:
            made = made[:at]
    return bytes(made)


def one(path: Path, reader: Callable[[Path], object], rng: random.Random) -> str:
    """Try one damaged copy; returns what was wrong, or nothing."""
    bad = path.with_name(f"bad{path.suffix}")
    bad.write_bytes(damaged(path.read_bytes(), rng))
    began = time.monotonic()
    try:
        reader(bad)
    except PuliziaError as error:
        if "\n" in str(error) or not str(error).strip():
            return f"{path.name}: {error!r} is not one sentence"
    except Exception:  # noqa: BLE001 - whatever it is, it is what we look for
        return f"{path.name}: {traceback.format_exc()}"
    if time.monotonic() - began > LONGEST_S:
        return f"{path.name}: took {time.monotonic() - began:.1f} s"
    return ""


def main(minutes: float) -> int:
    """Run, and tell what was wrong."""
    rng, wrong, count = random.Random(time.time_ns()), [], 0
    with tempfile.TemporaryDirectory() as name:
        os.environ["PULIZIA_HOME"] = f"{name}/home"
        files = good_files(Path(name))
        end = time.monotonic() + 60 * minutes
        while time.monotonic() < end:
            path, reader = rng.choice(files)
            state = rng.getrandbits(32)
            if words := one(path, reader, random.Random(state)):
                wrong.append(f"with {state}: {words}")
            count += 1
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    if memory > MOST_MB:
        wrong.append(f"memory reached {memory:.0f} MB")
    print(
        "\n".join(wrong[:20])
        or f"{count} damaged files: each was read or refused in one sentence; {memory:.0f} MB at most"
    )
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main(float(sys.argv[1]) if len(sys.argv) > 1 else 10.0))
