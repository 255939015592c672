# SPDX-License-Identifier: GPL-3.0-or-later
"""The days whose diaries are kept.

python -m tests.golden.days        write tests/golden/diaries.json anew, after a change that was meant
"""

from __future__ import annotations

import os
import tempfile
from pathlib import Path
from typing import Any

from tests.golden.assembly_day import assembly
from tests.golden.bench_day import bench
from tests.golden.diary import counted_identities
from tests.golden.figures import as_text
from tests.golden.other_day import elsewhere

FILE = Path(__file__).with_name("diaries.json")
DAYS = {"bench": bench, "assembly": assembly, "elsewhere": elsewhere}


def day(name: str, folder: Path) -> dict[str, Any]:
    """What a day has written."""
    with counted_identities():
        return DAYS[name](folder)


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as home:
        os.environ["PULIZIA_HOME"] = home
        made = {}
        for name in DAYS:
            (Path(home) / name).mkdir()
            made[name] = day(name, Path(home) / name)
    FILE.write_text(as_text(made))
    print(f"{FILE}: {FILE.stat().st_size} bytes")  # noqa: T201 - what was written
