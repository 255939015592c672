# SPDX-License-Identifier: GPL-3.0-or-later
"""What a command costs against the length of its recording: python -m benchmarks.lengths [FOLDER] [HOURS ...].

Mono, 24 bits, 48 kHz; 10 hours are 5.2 GB and so an RF64 file. Seconds of processor time of the whole process, and the
most memory that was its own at a time (mapped files not counted). Lengths are 5 minutes, 1 hour and 10 hours by default.
"""

from __future__ import annotations

import json
import os
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from benchmarks.material import long_wav

EQUALISER = {"bands": [["high-pass", 80, 0, 18], ["bell", 300, -3, 2], ["high shelf", 8000, -2, 0.7]]}
LENGTHS_H = (1 / 12, 1.0, 10.0)
LOOK_S = 0.05


def cost(*arguments: object) -> tuple[float, int]:
    """Seconds of processor time of a command, and the most of its own memory in MB."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    process = subprocess.Popen(
        [sys.executable, "-m", "pulizia", *map(str, arguments)], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE
    )
    most = 0
    while process.poll() is None:
        most = max(most, own_mb(process.pid))
        time.sleep(LOOK_S)
    if process.returncode:
        raise SystemExit(process.communicate()[1].decode())
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime, most


def own_mb(pid: int) -> int:
    """Memory of a process that is its own."""
    try:
        lines = Path(f"/proc/{pid}/status").read_text().splitlines()
    except OSError:
        return 0
    return next((int(line.split()[1]) // 1024 for line in lines if line.startswith("RssAnon")), 0)


def main() -> None:
    """Print one line for each length and command."""
    given = sys.argv[1:]
    hours = [float(h) for h in given[1:]] or list(LENGTHS_H)
    with tempfile.TemporaryDirectory(dir=given[0] if given else None) as name:
        folder = Path(name)
        os.environ["PULIZIA_HOME"] = str(folder / "home")
        recipe = folder / "recipe.json"
        recipe.write_text(
            json.dumps({"format": "pulizia-recipe", "version": 1, "name": "Lows", "steps": [{"tool": "equaliser", "settings": EQUALISER}]})
        )  # fmt: skip
        for length in hours:
            recording, out = long_wav(folder, 3600.0 * length), folder / "out.wav"
            for what, arguments in (
                ("measure", ("measure", recording)),
                ("repair, equaliser", ("repair", recording, "--recipe", recipe, "-o", out, "--overwrite")),
                ("deliver", ("deliver", recording, "--target", "ebu-r128", "-o", out, "--overwrite")),
            ):
                seconds, most = cost(*arguments)
                print(
                    f"{length:.2f} h, {what}: {seconds:.1f} s, {3600 * length / seconds:.0f} x real time, {most} MB",
                    flush=True,
                )
                out.unlink(missing_ok=True)
            recording.unlink()


if __name__ == "__main__":
    main()
