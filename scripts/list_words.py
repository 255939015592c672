# SPDX-License-Identifier: GPL-3.0-or-later
"""Prints an empty catalogue of all words of the program: list_words.py > LANGUAGE.json.

Keys are sentences as they stand in the program, with {} for figures and names; fill in what they become, with
as many {}. What stays empty is shown in English. See pulizia/desktop/words.py for where it belongs.
"""

from __future__ import annotations

import ast
import json
import sys
from collections.abc import Iterator
from pathlib import Path

SOURCE = Path(__file__).resolve().parent.parent / "src" / "pulizia"
SPEECHLESS = {
    "colour",
    "setProperty",
    "property",
    "content_key",
    "emit",
    "on",
    "getattr",
    "hasattr",
    "einsum",
    "compile",
    "suppress",
    "setattr",
    "joinpath",
    "cache_folder",
    "config_folder",
    "state_folder",
    "encode",
    "decode",
    "set",
    "text_of",
}


def templates(tree: ast.Module) -> Iterator[str]:
    """Every text of a module that a person may read."""
    silent: set[int] = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef) and ast.get_docstring(node) is not None:
            silent.add(id(node.body[0].value))  # type: ignore[attr-defined]
        if isinstance(node, ast.Expr):
            silent.add(id(node.value))
        if isinstance(node, ast.Call) and getattr(node.func, "attr", getattr(node.func, "id", "")) in SPEECHLESS:
            silent |= {id(child) for argument in node.args for child in ast.walk(argument)}
        if isinstance(node, ast.JoinedStr):
            silent |= {id(value) for value in node.values if isinstance(value, ast.Constant)}
            silent |= {
                id(child)
                for value in node.values
                if isinstance(value, ast.FormattedValue) and value.format_spec
                for child in ast.walk(value.format_spec)
            }
    for node in ast.walk(tree):
        if id(node) in silent:
            continue
        if isinstance(node, ast.Constant) and isinstance(node.value, str):
            yield node.value
        elif isinstance(node, ast.JoinedStr):
            yield "".join(str(part.value) if isinstance(part, ast.Constant) else "{}" for part in node.values)


def is_spoken(text: str) -> bool:
    """Whether this looks like words for people: a sentence, a phrase, or a name that begins with a capital."""
    plain = text.replace("{}", "").strip()
    letters = sum(c.isalpha() for c in plain)
    if (
        letters < 2
        or plain.startswith(("#", "_", ".", "<"))
        or (plain[:1] == "Q" and plain[1:2].isupper())
        or "://" in plain
        or plain.isupper()
    ):
        return False
    return " " in plain or plain[:1].isupper() or (plain.isalpha() and plain.islower())


def catalogue() -> dict[str, str]:
    """All sentences, each with nothing yet."""
    found: dict[str, str] = {}
    for path in sorted(SOURCE.rglob("*.py")):
        if "cli" in path.parts:
            continue  # the command line speaks to scripts: its words stay
        for text in templates(ast.parse(path.read_text(encoding="utf-8"))):
            if is_spoken(text):
                found[text] = ""
    for target in json.loads((SOURCE / "data" / "targets.json").read_text(encoding="utf-8"))["targets"]:
        found |= {target[name]: "" for name in ("title", "purpose", "source")}
    for path in (SOURCE / "data" / "recipes").glob("*.json"):
        recipe = json.loads(path.read_text(encoding="utf-8"))
        found |= {recipe[name]: "" for name in ("name", "description")}
    return dict(sorted(found.items()))


if __name__ == "__main__":
    json.dump(catalogue(), sys.stdout, indent=1, ensure_ascii=False)
    print()
