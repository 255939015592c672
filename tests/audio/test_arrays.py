# SPDX-License-Identifier: GPL-3.0-or-later
"""Arrays in files: what was written comes back, damage is told, many threads may read at once."""

from __future__ import annotations

import gc
import sys
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from io import BytesIO
from pathlib import Path

import numpy as np
import pytest

from pulizia.audio.arrays import read_archive, read_array, write_array
from pulizia.score.disk_chunks import DiskChunks


@pytest.mark.parametrize("shape", [(0,), (7,), (2, 1000), (2, 0), (3, 2, 5)])
@pytest.mark.parametrize("dtype", [np.float16, np.float32])
def test_what_was_written_comes_back(tmp_path: Path, shape: tuple[int, ...], dtype: type[np.floating]) -> None:
    values = np.random.default_rng(1).standard_normal(shape).astype(dtype)
    turned = values[..., ::-1]  # not in one piece
    with (tmp_path / "a").open("w+b") as file:
        write_array(file, turned)
        file.seek(0)
        again = read_array(file)
    assert again.dtype == dtype
    assert again.shape == shape
    assert np.array_equal(again, turned)


def test_a_damaged_file_is_told(tmp_path: Path) -> None:
    path = tmp_path / "a"
    with path.open("wb") as file:
        write_array(file, np.ones((2, 100), np.float32))
    whole = path.read_bytes()
    for damaged in (b"", whole[:20], whole[:-4], whole + b"more", b"X" + whole[1:], whole.replace(b"<f4", b"<f8")):
        path.write_bytes(damaged)
        with path.open("rb") as file, pytest.raises(ValueError):  # noqa: PT011
            read_array(file)
    with path.open("wb") as file, pytest.raises(ValueError, match="int16"):
        write_array(file, np.ones(3, np.int16))  # type: ignore[arg-type]


class _Garbage:
    """What the collector finds, and what runs code of its own when it is found."""

    def __init__(self) -> None:
        self.itself = self

    def __del__(self) -> None:
        for _ in range(50):
            pass


@pytest.fixture
def threads_change_often() -> Iterator[None]:
    interval, threshold = sys.getswitchinterval(), gc.get_threshold()
    sys.setswitchinterval(1e-6)
    gc.set_threshold(5, 1, 1)
    yield
    sys.setswitchinterval(interval)
    gc.set_threshold(*threshold)


@pytest.mark.usefixtures("threads_change_often")
@pytest.mark.parametrize("kept", ["chunk", "archive"])
def test_many_threads_read_at_once(tmp_path: Path, kept: str) -> None:
    chunks = DiskChunks(tmp_path, 1 << 20)
    values = np.arange(200, dtype=np.float32).reshape(2, 100)
    chunks.store("key", values)
    chunks.flush()
    file = BytesIO()
    np.savez(file, w=values)
    packed = file.getvalue()

    def read(depth: int) -> int:
        if depth:  # what goes wrong shows between threads that are not equally deep
            return read(depth - 1)
        good = 0
        for _ in range(150):
            _Garbage()
            found = chunks.load("key") if kept == "chunk" else read_archive(packed)["w"]
            good += found is not None and np.array_equal(found, values)
        return good

    with ThreadPoolExecutor(8) as pool:
        assert list(pool.map(read, range(0, 24, 3))) == [150] * 8
