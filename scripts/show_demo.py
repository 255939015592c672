# SPDX-License-Identifier: GPL-3.0-or-later
"""Show the demo: a window where there is a screen; else a virtual one, a picture and the figures."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
BIN = Path(sys.executable).parent
DEMO = ROOT / "src" / "pulizia" / "data" / "demo" / "hall-of-pendulums.flac"
BUILD = ROOT / "build"
RECIPE = {
    "format": "pulizia-recipe", "version": 1, "name": "Demo",
    "steps": [{"tool": "noise", "settings": {"profile_spans_s": [[0.2, 1.1]], "reduction_db": 12}}],
}  # fmt: skip


def main() -> int:
    """Open the window, or do without a screen what it would show."""
    if os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"):
        return subprocess.call([str(BIN / "pulizia"), "--demo"])
    print("There is no screen here: the window opens on a virtual one.")
    if shutil.which("Xvfb") is None:
        print("Xvfb is missing. Install it with: sudo apt-get install -y xvfb", file=sys.stderr)
        return 1
    BUILD.mkdir(exist_ok=True)
    display, server = start_virtual_screen()
    try:
        picture = BUILD / "demo.png"
        picture.unlink(missing_ok=True)
        environment = os.environ | {"DISPLAY": display}
        command = [str(BIN / "pulizia"), "--demo", "--simulated-output", "--picture", str(picture)]
        code = subprocess.call(command, env=environment, timeout=120)
        if code or not picture.exists():
            print("The window could not be shown.", file=sys.stderr)
            return 1
        print(f"Picture of the window: {picture.relative_to(ROOT)}")
        print_figures()
        if sys.stdin.isatty() and sys.stdout.isatty():
            print(f"The window stays open on the virtual screen {display} until you press Ctrl+C.")
            try:
                subprocess.call([str(BIN / "pulizia"), "--demo", "--simulated-output"], env=environment)
            except KeyboardInterrupt:
                print()
        return 0
    finally:
        server.terminate()
        server.wait(timeout=10)


def start_virtual_screen() -> tuple[str, subprocess.Popen[bytes]]:
    """An X server in memory; waits until it answers."""
    for number in range(90, 120):
        if Path(f"/tmp/.X{number}-lock").exists():
            continue
        display = f":{number}"
        server = subprocess.Popen(
            ["Xvfb", display, "-screen", "0", "1280x800x24", "-nolisten", "tcp"],
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        for _ in range(100):
            if Path(f"/tmp/.X11-unix/X{number}").exists():
                return display, server
            if server.poll() is not None:
                break
            time.sleep(0.05)
        server.kill()
    message = "No virtual screen could be started."
    raise SystemExit(message)


def print_figures() -> None:
    """Repair and deliver the demo recording; print what was measured before and after."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        recipe = folder / "recipe.json"
        recipe.write_text(json.dumps(RECIPE), encoding="utf-8")
        worked = folder / "worked.wav"
        delivered = BUILD / "hall-of-pendulums-ebu-r128.wav"
        pulizia("repair", DEMO, "--recipe", recipe, "-o", worked)
        report = BUILD / "hall-of-pendulums-ebu-r128.html"
        pulizia("deliver", worked, "--target", "ebu-r128", "-o", delivered, "--report", report, "--overwrite")
        rows = [("as recorded", DEMO), ("after Noise, -12 dB", worked), ("delivered, EBU R 128", delivered)]
        print(f"{'':<24}{'LUFS':>8}{'LRA':>7}{'dBTP':>8}{'RMS':>8}")
        for title, path in rows:
            figures = json.loads(pulizia("measure", path, "--json"))
            columns = ("integrated_lufs", "loudness_range_lu", "true_peak_dbtp", "rms_dbfs")
            print(f"{title:<24}" + "".join(f"{figures[c]:>{w}.1f}" for c, w in zip(columns, (8, 7, 8, 8), strict=True)))
        print(f"Delivered file and report: {delivered.relative_to(ROOT)}, {report.name}")


def pulizia(*arguments: object) -> str:
    """Run a command of the program and return what it printed."""
    command = [str(BIN / "pulizia"), *map(str, arguments)]
    return subprocess.run(command, check=True, capture_output=True, text=True).stdout


if __name__ == "__main__":
    sys.exit(main())
