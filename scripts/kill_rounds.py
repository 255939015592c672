# SPDX-License-Identifier: GPL-3.0-or-later
"""Kill the program at random moments of editing, saving, rendering, delivering and assembling, and look at what is left.

Usage: kill_rounds.py [ROUNDS]. After each round the project must open with its programme, the source must be as it was,
and no half file or edit list may lie under a final name. Ends with 1 when anything was lost.
"""

from __future__ import annotations

import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import soundfile

WORKER = """
import random, sys
from pathlib import Path
from pulizia.delivery.deliver import deliver, write_source
from pulizia.delivery.deliverable import Deliverable
from pulizia.delivery.targets import target_of
from pulizia.interchange.export import list_of, write_list
from pulizia.media.open import open_media
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.programme_edits import split
from pulizia.session.document import Document
folder, seed = Path(sys.argv[1]), int(sys.argv[2])
rng = random.Random(seed)
document = Document()
media = open_media(folder / "voice.wav")
name = document.add_media(media)
clip = Clip(recording_id=name, start=0, inner=0, frames=media.source.frames)
programme = Programme(name="Reel", rate=48_000, lanes=(Lane(name="Voice", clips=(clip,)),))
document.edit_programme(programme, "New programme")
document.save(folder / "job.pulizia")
print("ready", flush=True)
while True:
    step = document.add_step(name, rng.choice(["level", "equaliser", "fade", "limiter", "polarity"]), {})
    document.write_journal()
    document.save()
    if rng.random() < 0.4:
        document.remove_step(name, step.id)
    if rng.random() < 0.3:
        write_source(document.chain(name).after, folder / "print.wav", Deliverable(), lambda _share: None)
    cut = split(document.project.programmes[0], rng.randrange(48_000, 4 * 48_000 - 1), None)
    document.edit_programme(cut, "Split")
    document.write_journal()
    document.save()
    if rng.random() < 0.5:
        document.undo()
    recordings = {r.id: r for r in document.project.recordings}
    write_list(list_of(document.project.programmes[0], recordings, lambda _r: None), folder / f"cut.{rng.choice(['otio', 'edl', 'csv', 'xml'])}")
    kind = rng.choice(["wav", "flac", "mp3", "m4a"])
    deliver(document.chain(name).after, target_of("ebu-r128"), folder / f"out.{kind}", wanted=Deliverable(kind=kind))
"""


def one_round(folder: Path, seed: int, seconds: float) -> list[str]:
    """Run, kill, and look; returns what was wrong."""
    source = folder / "voice.wav"
    before = source.read_bytes()
    environment = os.environ | {"PULIZIA_HOME": str(folder / "home")}
    worker = subprocess.Popen(
        [sys.executable, "-c", WORKER, str(folder), str(seed)], stdout=subprocess.PIPE, env=environment
    )
    assert worker.stdout is not None
    worker.stdout.readline()
    time.sleep(seconds)
    worker.send_signal(signal.SIGKILL)
    worker.wait()
    worker.stdout.close()
    wrong = []
    if source.read_bytes() != before:
        wrong.append("the source was changed")
    os.environ["PULIZIA_HOME"] = str(folder / "home")
    from pulizia.interchange.read import read_edit_list
    from pulizia.media.open import open_media
    from pulizia.project.file import load_project
    from pulizia.project.journal import left_behind

    try:
        if not load_project(folder / "job.pulizia").programmes[0].frames:
            wrong.append("the programme is empty")
    except Exception as error:  # noqa: BLE001 - whatever it is, it is what we look for
        wrong.append(f"the project does not open: {error}")
    journals = left_behind(folder / "home" / "state" / "journal")  # what was not saved is whole, or not there
    wrong += [f"{found.journal.name} lost its recordings" for found in journals if not found.project.recordings]
    for path in folder.glob("cut.*"):
        try:
            if not read_edit_list(path)[0].count:
                wrong.append(f"{path.name} is empty")
        except Exception as error:  # noqa: BLE001
            wrong.append(f"{path.name} does not open: {error}")
    for path in [*folder.glob("out.*"), *folder.glob("print.*")]:
        try:
            media = open_media(path)
            if abs(media.source.frames / media.source.rate - len(before) / (2 * 48_000)) > 0.1:
                wrong.append(f"{path.name} is half a file")
        except Exception as error:  # noqa: BLE001
            wrong.append(f"{path.name} does not open: {error}")
    return wrong


def rounds(count: int, folder: Path, seed: int = 0) -> list[str]:
    """Several rounds in one folder; all that was wrong."""
    rng = random.Random(seed)
    t = np.arange(4 * 48_000) / 48_000
    soundfile.write(
        folder / "voice.wav", 0.1 * np.sin(2 * np.pi * 220 * t) * np.abs(np.sin(3 * t)), 48_000, subtype="PCM_16"
    )
    found = []
    for number in range(count):
        found += [f"round {number}: {words}" for words in one_round(folder, seed + number, rng.uniform(0.0, 1.2))]
    return found


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as name:
        wanted = int(sys.argv[1]) if len(sys.argv) > 1 else 50
        wrong = rounds(wanted, Path(name))
    print("\n".join(wrong) or f"{wanted} rounds: nothing was lost")
    sys.exit(1 if wrong else 0)
