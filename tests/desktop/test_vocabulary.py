# SPDX-License-Identifier: GPL-3.0-or-later
"""One professional vocabulary: words that were given up do not come back into what users read."""

from __future__ import annotations

import ast
import json
import re
from functools import cache
from importlib.resources import files
from pathlib import Path

import pytest
from tests.test_trust import load_script

import pulizia
from pulizia.report.manual import pages

GIVEN_UP = {
    r"\bmark(ed|s)?\b": "select, selection", r"\bplay head\b": "playhead", r"\bworked\b": "processed", r"\bblots?\b": "areas",
    r"\bstretch(es)?\b": "section, selection", r"\bscores?\b": "steps", r"\btroubles?\b": "problem", r"\bmend(s|ed)?\b": "repair",
    r"\btops\b": "clipped peaks", r"\blopsided\b": "asymmetric", r"\bverdigris\b": "green", r"\bpicture files?\b": "video file",
    r"\bto and fro\b": "switch", r"\btake(n)? in\b": "import", r"\bgive(n)? (out|back)\b": "export, restore", r"\bOn line\b": "online",
    r"\*Suggest\*|^Suggest": "Find settings", r"\bOverload\b": "Clipping", r"\bSplit compressor\b": "Multiband compressor", r"\bshelf\b of": "",
    r"\bfrom memory\b": "", r"\bspare sound\b": "handles", r"\bfor ever\b": "", r"\bturned? over\b": "inverted", r"\bpaper\b": "",
    r"\bflattened\b": "clipped", r"\btalkers?\b": "speakers", r"\bby itself\b": "automatically",
}  # fmt: skip
MEANT = ("low shelf", "high shelf", "--help", "{mark}")
"""What may stand although a word of the list is in it."""
CODE = re.compile(r"`[^`]*`|\]\([^)]*\)")  # commands, ids and links of the manual stay


@cache
def texts() -> list[str]:
    """Everything that the window, the manual and the desktop show, and what the command line prints."""
    found = [
        form for m in load_script("translate").words() if m.id for form in ([m.id] if isinstance(m.id, str) else m.id)
    ]
    for path in sorted((Path(pulizia.__file__).parent / "cli").glob("*.py")):
        tree = ast.parse(path.read_text(encoding="utf-8"))
        silent = {id(n.value) for n in ast.walk(tree) if isinstance(n, ast.Expr)}  # docstrings
        texts = [n for n in ast.walk(tree) if isinstance(n, ast.Constant) and isinstance(n.value, str)]
        found += [n.value for n in texts if " " in n.value and id(n) not in silent]
    found += [CODE.sub("", line) for page in pages().values() for line in page.splitlines()]
    metainfo = files("pulizia.data").joinpath("desktop", "org.pulizia.Pulizia.metainfo.xml")
    found += metainfo.read_text(encoding="utf-8").splitlines()
    for target in json.loads(files("pulizia.data").joinpath("targets.json").read_text(encoding="utf-8"))["targets"]:
        found += [str(value) for value in target.values()]
    return found


@pytest.mark.parametrize("word", GIVEN_UP)
def test_words_that_were_given_up_do_not_come_back(word: str) -> None:
    again = [t for t in texts() if re.search(word, t, re.IGNORECASE) and not any(m in t for m in MEANT)]
    again = [t for t in again if " " in t or t[:1].isupper()]  # ids are stable
    assert not again, f"use {GIVEN_UP[word]}: {again[:20]}"
