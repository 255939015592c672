# SPDX-License-Identifier: GPL-3.0-or-later
"""What is kept in circles is let go at rest, and after a while also where somebody works without a rest."""

from __future__ import annotations

import ctypes
import subprocess
import sys
import threading
import weakref
from pathlib import Path

import pytest
from tests.desktop.conftest import Person

from pulizia.desktop import start
from pulizia.session.memory import ARENAS


class Circle:
    """Something that holds itself."""

    def __init__(self) -> None:
        self.me = self


def test_circles_are_let_go_at_rest_and_after_a_while_also_at_work(
    person: Person, monkeypatch: pytest.MonkeyPatch
) -> None:
    timer = start.collect_at_rest(person.window)
    timer.stop()

    def is_kept() -> bool:
        circle = weakref.ref(Circle())
        timer.timeout.emit()
        return circle() is not None

    assert not is_kept()
    done = threading.Event()
    person.window.session.pool.submit(lambda _job: done.wait(20), title="Work")
    try:
        person.until(lambda: person.window.session.pool.busy)
        assert is_kept()
        monkeypatch.setattr(start, "LONGEST_WITHOUT_S", 0.0)
        assert not is_kept()
    finally:
        done.set()


HEAPS = """
import ctypes, re, sys, threading
from pulizia.session.memory import settle_heap
if sys.argv[1] == "settled":
    settle_heap()
gate, started = threading.Event(), []
def work():
    started.append(bytearray(100_000))
    gate.wait(20)
threads = [threading.Thread(target=work) for _ in range(16)]
for thread in threads:
    thread.start()
while len(started) < len(threads):
    pass
library = ctypes.CDLL(None)
library.fopen.restype = ctypes.c_void_p
library.malloc_info.argtypes = [ctypes.c_int, ctypes.c_void_p]
library.fclose.argtypes = [ctypes.c_void_p]
file = library.fopen(sys.argv[2].encode(), b"w")
library.malloc_info(0, file)
library.fclose(file)
gate.set()
print(len(re.findall("<heap nr", open(sys.argv[2]).read())))
"""


@pytest.mark.skipif(not hasattr(ctypes.CDLL(None), "mallopt"), reason="another C library")
def test_many_threads_share_few_heaps(tmp_path: Path) -> None:
    def heaps(how: str) -> int:
        command = [sys.executable, "-c", HEAPS, how, str(tmp_path / "heaps.xml")]
        return int(subprocess.run(command, capture_output=True, text=True, check=True, timeout=60).stdout)

    assert heaps("settled") <= ARENAS
    assert heaps("as it comes") > ARENAS
