# SPDX-License-Identifier: GPL-3.0-or-later
"""Write docs/manual from the program's own pages and declarations."""

from pathlib import Path

from pulizia.report.manual import pages

folder = Path(__file__).parent.parent / "docs" / "manual"
folder.mkdir(exist_ok=True)
for old in folder.glob("*.md"):
    old.unlink()
for name, text in pages().items():
    (folder / name).write_text(text, encoding="utf-8")
