# SPDX-License-Identifier: GPL-3.0-or-later
"""Playing a minute with three steps beside two processes that burn both cores: gaps, counted in what the sink played.

python -m benchmarks.playing [SECONDS]
"""

from __future__ import annotations

import multiprocessing
import os
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # as the program does

import numpy as np
import pytest
import soundfile
from tests.conftest import voice_in_noise
from tests.session.test_sound_server import burn
from tests.sound_server import RATE, Recorder, running_server

from pulizia.media.open import open_media
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.score.steps import make_step
from pulizia.session.heard import Heard
from pulizia.session.sound_out import SERVER, output_of
from pulizia.session.transport import Transport


def gaps(recorder: Recorder, expected: np.ndarray) -> tuple[int, float]:
    """How often, and for how many seconds in all, silence stands in what was recorded where the sound has none."""
    sound = recorder.heard()[0]
    silent = np.flatnonzero(sound == 0.0)
    pieces = np.split(silent, np.flatnonzero(np.diff(silent) > 1) + 1)
    found = [len(p) for p in pieces if len(p) > 4]
    assert not (np.abs(expected[0]) == 0.0).any()
    return len(found), sum(found) / RATE


def main() -> None:
    """Measure."""
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 60.0
    with tempfile.TemporaryDirectory() as name, pytest.MonkeyPatch.context() as patch:
        patch.setenv("PULIZIA_HOME", name)
        path = Path(name) / "take.wav"
        soundfile.write(path, voice_in_noise(seconds, channels=2).T, RATE, subtype="PCM_24")
        steps = tuple(make_step(tool) for tool in ("hum", "clicks", "noise"))
        chain = Chain(open_media(path).source, steps, ChunkCache(), AnalysisStore())
        chain.prepare()
        with running_server(patch) as server:
            hogs = [multiprocessing.Process(target=burn, args=(time.monotonic() + seconds + 5,)) for _ in range(2)]
            for hog in hogs:
                hog.start()
            transport = Transport(output_of(SERVER + "desk"))
            transport.set_material(Heard(chain.after))
            cpu = time.process_time()
            with server.recording() as recorder:
                transport.play(0)
                while transport.is_playing:
                    time.sleep(0.02)
            cpu = time.process_time() - cpu
            transport.close()
            for hog in hogs:
                hog.kill()
        count, lost_s = gaps(recorder, chain.after.read(0, chain.after.frames))
        expected = chain.after.read(0, chain.after.frames)
        sound = recorder.sound()
        first = int(np.argmax(np.abs(sound[0]) > 0)) - int(np.argmax(np.abs(expected[0]) > 0))
        same = np.array_equal(sound[:, first : first + expected.shape[1]], expected)
        print(
            f"{seconds:g} s beside two busy processes: {count} gaps ({lost_s:.2f} s), {transport.output.underruns} times dry, "
            f"sample for sample the same: {same}; {100 * cpu / seconds:.0f} % of a core with the steps"
        )


if __name__ == "__main__":
    main()
