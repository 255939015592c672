# SPDX-License-Identifier: GPL-3.0-or-later
"""Arrays in files, safe to read from many threads at once.

NumPy describes an array in a file by a Python literal and reads it back through the syntax tree. In Python 3.11 making
syntax trees in two threads at once can raise ``SystemError`` (CPython gh-106905), so what is read while others work
has a header of fixed size here, and the archives of weights are read by one thread at a time.
"""

from __future__ import annotations

import struct
import threading
from io import BytesIO
from typing import IO, Any

import numpy as np
from numpy.typing import NDArray

MAGIC = b"PULARRAY"
_HEADER = struct.Struct("<8s4sI3Q")  # magic, type, number of dimensions, their sizes (1 where there is none)
_TYPES = (np.dtype("<f2"), np.dtype("<f4"))
_one_at_a_time = threading.Lock()


def write_array(file: IO[bytes], array: NDArray[np.floating[Any]]) -> None:
    """Write float16 or float32 values of up to three dimensions; raises OSError, and ValueError for other arrays."""
    if array.dtype not in _TYPES or array.ndim > 3:
        raise ValueError(array.dtype)
    sizes = array.shape + (1,) * (3 - array.ndim)
    file.write(_HEADER.pack(MAGIC, array.dtype.str.encode(), array.ndim, *sizes))
    file.write(np.ascontiguousarray(array).tobytes())


def read_array(file: IO[bytes]) -> NDArray[Any]:
    """The array that `write_array` wrote; raises OSError, and ValueError when the file is damaged."""
    try:
        magic, kind, dimensions, *sizes = _HEADER.unpack(file.read(_HEADER.size))
    except struct.error as error:
        raise ValueError from error
    dtype = next((t for t in _TYPES if t.str.encode() == kind.rstrip(b"\0")), None)
    if magic != MAGIC or dimensions > 3 or dtype is None:
        raise ValueError(magic)
    values = np.fromfile(file, dtype=dtype)  # whatever the header says, no more is held than the file has
    return values.reshape(sizes[:dimensions])


def read_archive(content: bytes) -> dict[str, NDArray[Any]]:
    """All arrays of an archive of NumPy's by name; raises ValueError when it is damaged."""
    with _one_at_a_time, np.load(BytesIO(content), allow_pickle=False) as parts:
        return {name: parts[name] for name in parts.files}
