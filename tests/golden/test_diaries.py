# SPDX-License-Identifier: GPL-3.0-or-later
"""What a session makes of a day's deeds: project, history, what is heard and what is said, against kept diaries.

After a change that was meant: python -m tests.golden.days, and read what differs before it is kept.
"""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from tests.golden.days import DAYS, FILE, day
from tests.golden.figures import differences


@pytest.mark.slow
@pytest.mark.parametrize("name", DAYS)
def test_each_deed_changes_what_it_changed(tmp_path: Path, name: str) -> None:
    kept, now = json.loads(FILE.read_text())[name], day(name, tmp_path)
    assert [*now] == [*kept]
    changed = [text for words, row in now.items() for text in differences(kept[words], row, words)]
    assert not changed, "\n".join(changed[:20])
