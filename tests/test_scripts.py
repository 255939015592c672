# SPDX-License-Identifier: GPL-3.0-or-later
"""Scripts and benchmarks are seldom run: what they import of the program has to be there."""

from __future__ import annotations

import ast
import importlib
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
FILES = sorted([*ROOT.glob("scripts/*.py"), *ROOT.glob("benchmarks/**/*.py")])


@pytest.mark.parametrize("file", FILES, ids=lambda file: file.stem)
def test_what_a_script_imports_of_the_program_is_there(file: Path) -> None:
    missing = []
    for node in ast.walk(ast.parse(file.read_text())):
        if isinstance(node, ast.ImportFrom) and (node.module or "").partition(".")[0] == "pulizia":
            module = importlib.import_module(node.module or "")
            for name in (alias.name for alias in node.names):
                try:
                    _ = getattr(module, name, None) or importlib.import_module(f"{node.module}.{name}")
                except ImportError:
                    missing.append(f"{node.module}.{name}")
    assert missing == []
