# SPDX-License-Identifier: GPL-3.0-or-later
"""Run all benchmarks: `make bench`. Prints x real time and ratios; the machine's speed cancels in ratios.

Processor time of the process where not said otherwise. Sections: measuring tools window hours delivery.

    python benchmarks/run.py [SECTION ...]
"""

from __future__ import annotations

import os

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import json
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import libebur128
import numpy as np
from material import RATE, long_wav, narration
from scipy.signal import butter, sosfilt

from pulizia.audio.source import ArraySource
from pulizia.measure.loudness import measure
from pulizia.measure.sonogram import sonogram
from pulizia.measure.sonogram_scale import SonogramScale
from pulizia.media.open import open_media
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.score.runs import CHUNK_FRAMES
from pulizia.score.steps import make_step
from pulizia.tools.registry import ALL

ROUNDS = 3


def fastest(work: Callable[[], object]) -> float:
    """Seconds of processor time of the fastest of a few rounds."""
    times = []
    for _ in range(ROUNDS):
        began = time.process_time()
        work()
        times.append(time.process_time() - began)
    return min(times)


def measuring() -> None:
    """Loudness and true peak of an hour beside the C reference library, both from memory."""
    samples = np.tile(narration(1), (1, -(-3600 * RATE // narration(1).shape[1])))[:, : 3600 * RATE]
    source = ArraySource(samples, RATE)
    ours = fastest(lambda: measure(source, workers=1))
    figures = measure(source)
    print(f"loudness, range, true peak of 1 h mono: {3600 / ours:.0f} x real time")
    lib = libebur128.library()
    if lib is None:
        print("  libebur128 is not installed (apt-get install libebur128-dev): no ratio")
        return
    theirs = fastest(lambda: libebur128.measure(lib, samples, RATE))
    integrated, spread, peak = libebur128.measure(lib, samples, RATE)
    print(f"  libebur128: {3600 / theirs:.0f} x real time; ratio {theirs / ours:.1f}")
    print(f"  integrated {figures.integrated_lufs:.3f} / {integrated:.3f} LUFS, range {figures.loudness_range_lu:.2f} / {spread:.2f} LU, "
          f"true peak {figures.true_peak_dbtp:.2f} / {peak:.2f} dBTP")  # fmt: skip


QUICK = {"silence", "reverse", "fade", "channels", "polarity"}  # that hardly compute


def tools() -> None:
    """Each tool over five minutes of mono, in chunks, one thread."""
    samples = np.tile(narration(1), (1, 11))[:, : 300 * RATE]
    source = ArraySource(samples, RATE)
    settings: dict[str, dict] = {tool.id: {} for tool in ALL if tool.id not in QUICK}
    settings["noise"] = {"profile_spans_s": [[0.2, 1.1]]}
    settings["areas"] = {
        "way": "time",
        "areas": [[[10.0 * n + 3.0, 800.0], [10.0 * n + 3.5, 1800.0]] for n in range(29)],
    }
    settings["split_compressor"] = {"threshold_db": -30.0, "high_threshold_db": -40.0}
    settings["limiter"] = {"gain_db": 10.0}
    settings["level"] = {"way": "gain", "gain_db": -3.0}
    settings["equaliser"] = {
        "bands": [["high-pass", 80, 0, 18], ["bell", 300, -3, 2], ["bell", 2500, 2, 1], ["high shelf", 8000, -2, 0.7]]
    }
    dull = sosfilt(butter(8, 3400.0, fs=RATE, output="sos"), samples).astype(np.float32)
    for tool_id, values in settings.items():
        seconds = 30 if tool_id == "voice_sieve" else 300
        part = ArraySource((dull if tool_id == "dull_voice" else samples)[:, : seconds * RATE], RATE)

        def work(tool_id: str = tool_id, values: dict = values, part: ArraySource = part) -> None:
            chain = Chain(part, [make_step(tool_id, values)], ChunkCache(), AnalysisStore())
            for start in range(0, part.frames, CHUNK_FRAMES):
                chain.after.read(start, min(start + CHUNK_FRAMES, part.frames))

        print(f"{tool_id}: {seconds / fastest(work):.0f} x real time on one core, 48 kHz mono, listening included")
    for seconds in (10, 60, 300):
        scale = SonogramScale()
        step = seconds * RATE / 680
        took = fastest(lambda step=step, scale=scale: sonogram(source, 0.0, step, 680, scale))
        print(f"sonogram of {seconds} s in 680 columns, blended lengths: {1000 * took:.0f} ms")


def window() -> None:
    """Start, and scrolling the Bench with a Noise step, on whatever screen there is."""
    os.environ.setdefault("QT_QPA_PLATFORM", "" if os.environ.get("DISPLAY") else "offscreen")
    began = time.process_time()
    from pulizia.desktop.demo import demo_files
    from pulizia.desktop.start import make_application, make_window

    application = make_application()
    made, poster = make_window(simulated=True)
    made.files.asks = False
    made.resize(1280, 800)
    made.show()
    application.processEvents()
    print(
        f"window usable after {time.process_time() - began:.2f} s of processor time (interpreter and NumPy were loaded)"
    )
    made.files.open_paths(demo_files()[:1])
    settle(application, made)
    session, axis = made.session, made.bench.axis
    session.document.add_step(session.current_id, "noise", {"profile_spans_s": [[0.2, 1.1]]})
    axis.show_span(3 * RATE, 12 * RATE)
    for direction in (1, -1):
        for _ in range(12):
            axis.scroll(60 * direction)
            settle(application, made)
    frames = []
    for n in range(120):
        began = time.thread_time()
        axis.scroll(12 if n < 60 else -12)
        application.processEvents()
        frames.append(time.thread_time() - began)
    frames.sort()
    print(
        f"scrolling at 1280x800: median {1000 * frames[60]:.1f} ms, longest {1000 * frames[-1]:.1f} ms of the window's thread a frame"
    )
    latency(application, made)
    live(application, made)
    made.close()
    poster.close()


def live(application: object, made: object) -> None:
    """Processor time while playing: nothing but the Bench, then with all gauges and the spectrum at 50 Hz."""
    made.session.document.remove_step(made.session.current_id, made.session.recording.score[0].id)
    made.bench.axis.show_whole()
    settle(application, made)
    shares = []
    for gauges in (False, True):
        if gauges:
            made.bench.toggle_levels()
            made.bench.toggle_spectrum()
        else:
            made.bench.spectrum.hide()
        made.session.transport.play(round(2 * RATE))
        made.session.events.playing.emit()
        began, cpu = time.time(), time.process_time()
        while time.time() < began + 6.0:
            application.processEvents()
            time.sleep(0.004)
        shares.append((time.process_time() - cpu) / (time.time() - began))
        made.session.transport.stop()
        made.session.events.playing.emit()
    print(
        f"playing uses {100 * shares[0]:.0f} % of a core; with all gauges and the spectrum at 50 Hz {100 * shares[1]:.0f} %"
    )


def latency(application: object, made: object) -> None:
    """From a setting changed while playing to the first changed sample that is heard."""
    session = made.session
    session.set_matched(False)
    session.toggle_loop()
    session.transport.play(round(0.3 * RATE))
    waits = []
    step = session.recording.score[0]
    for value in (40.0, 0.0, 40.0, 0.0, 40.0):
        until = time.time() + 0.5
        while time.time() < until:
            application.processEvents()
            time.sleep(0.002)
        began = time.time()
        session.document.change_settings(session.current_id, step.id, reduction_db=value)
        fed = session.transport._run.fed + round(0.02 * RATE)  # one block may have been read already
        while session.transport.output.heard() < fed:
            application.processEvents()
            time.sleep(0.001)
        waits.append(time.time() - began)
    print(
        f"a setting changed while playing is heard after {1000 * np.median(waits):.0f} ms (longest {1000 * max(waits):.0f} ms)"
    )
    session.transport.stop()


def settle(application: object, made: object, limit: float = 30.0) -> None:
    """Let background work finish."""
    end = time.time() + limit
    application.processEvents()
    while made.session.pool.busy and time.time() < end:
        application.processEvents()
        time.sleep(0.002)
    application.processEvents()


def hours() -> None:
    """Two hours of stereo: first picture, second opening, memory while playing with a Noise step."""
    os.environ.setdefault("QT_QPA_PLATFORM", "" if os.environ.get("DISPLAY") else "offscreen")
    from pulizia.desktop.start import make_application, make_window

    application = make_application()
    with tempfile.TemporaryDirectory() as name:
        path = long_wav(Path(name), 7200.0, 2)
        open_media(path).source.read(0, 48_000)
        for what in ("first time", "again"):
            made, poster = make_window(simulated=True)
            made.files.asks = False
            made.resize(1280, 800)
            made.show()
            application.processEvents()
            began = time.time()
            made.files.open_paths([path])
            first, exact, heard = follow(application, made, began)
            print(
                f"2 h stereo 24-bit, {what}: heard after {heard:.2f} s, first whole waveform {first:.2f} s, exact {exact:.1f} s"
            )
            session = made.session
            if what == "again":
                made.close()
                poster.close()
                continue
            session.document.add_step(session.current_id, "noise", {"profile_spans_s": [[0.2, 1.1]]})
            session.transport.play(3600 * RATE)
            most = 0
            until = time.time() + 15
            while time.time() < until:
                application.processEvents()
                time.sleep(0.005)
                most = max(most, own_memory_mb())
            print(
                f"  memory while playing with a Noise step: {most} MB (mapped files not counted), underruns {session.transport.output.underruns}"
            )
            made.close()
            poster.close()


FOUR_STEPS = ("hum", "clicks", "noise", "sibilance")


def delivery() -> None:
    """An hour through four steps to a target on both cores, inspecting it, and a batch beside one process (clock)."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        os.environ["PULIZIA_HOME"] = str(folder / "home")
        hour = long_wav(folder, 3600.0, 1)
        recipe = folder / "four.json"
        steps = [
            {"tool": tool, "settings": {"profile_spans_s": [[0.2, 1.1]]} if tool == "noise" else {}}
            for tool in FOUR_STEPS
        ]
        recipe.write_text(json.dumps({"format": "pulizia-recipe", "version": 1, "name": "Four", "steps": steps}))
        took = command("deliver", hour, "--recipe", recipe, "--target", "ebu-r128", "-o", folder / "out.wav")
        print(f"1 h of mono through {', '.join(FOUR_STEPS)} to a target: {3600 / took:.0f} x real time (two cores)")
        took = command("inspect", hour)
        print(f"inspecting 1 h of mono: {took:.0f} s (two cores)")
        parts = [long_wav(folder, 600.0 + n) for n in range(4)]
        times = []
        for jobs in (1, 2):
            (folder / str(jobs)).mkdir()
            times.append(command("repair", *parts, "--recipe", recipe, "--jobs", jobs, "-o", folder / str(jobs)))
        print(f"batch of four on two processes: {times[0] / times[1]:.2f} x one process")


def command(*arguments: object) -> float:
    """Seconds by the clock of one command in a process of its own."""
    began = time.monotonic()
    subprocess.run(
        [sys.executable, "-c", "from pulizia.cli.main import run; run()", *map(str, arguments)],
        check=True,
        stdout=subprocess.DEVNULL,
    )
    return time.monotonic() - began


def follow(application: object, made: object, began: float) -> tuple[float, float, float]:
    """Seconds to the first whole waveform, to the exact one, and to the first sound."""
    first = exact = heard = 0.0
    while not (first and exact and heard):
        application.processEvents()
        time.sleep(0.002)
        if made.session.chain is None:
            continue
        if not made.session.transport.is_playing and not heard:
            made.session.transport.play(0)
        if not heard and made.session.transport.output.heard() > 0:
            heard = time.time() - began
        picture = made.bench.pictures.of(made.session.chain.before)
        if not first and np.isfinite(picture.columns(0, made.session.recording.frames / 680, 679).power).all():
            first = time.time() - began
        if picture.is_complete:
            exact = time.time() - began
    return first, exact, heard


def own_memory_mb() -> int:
    """Memory of this process that is its own."""
    lines = Path("/proc/self/status").read_text().splitlines()
    return int(next(line for line in lines if line.startswith("RssAnon")).split()[1]) // 1024


def main() -> None:
    """Run the sections that were asked for, with a home of their own."""
    sections = {"measuring": measuring, "tools": tools, "window": window, "hours": hours, "delivery": delivery}
    with tempfile.TemporaryDirectory() as home:
        os.environ["PULIZIA_HOME"] = home
        for name in sys.argv[1:] or sections:
            sections[name]()


if __name__ == "__main__":
    main()
