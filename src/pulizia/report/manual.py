# SPDX-License-Identifier: GPL-3.0-or-later
"""The manual: pages of the places, and a page of every tool made from its declarations."""

from __future__ import annotations

import inspect
import re
import sys
from importlib.resources import files
from typing import Any

from pulizia.settings.as_dict import schema
from pulizia.tools.base import FAMILIES, AnyTool
from pulizia.tools.registry import ALL, tool_of
from pulizia.words import N_

CODE = re.compile(r":\w+:`|``|\w+/\w+\.py")  # a sentence for those who read the code
PLACES = {
    "bench": N_("The Bench"),
    "delivery": N_("Delivery"),
    "recipes": N_("Recipes and rendering"),
    "command-line": N_("Command line"),
}


def sections(name: str) -> list[str]:
    """The headings of a place's page."""
    return [line.removeprefix("## ") for line in place_page(name).splitlines() if line.startswith("## ")]


def place_page(name: str) -> str:
    """A page of a place, as Markdown."""
    return files("pulizia.data").joinpath("manual", f"{name}.md").read_text(encoding="utf-8")


def how_to(tool_id: str) -> str:
    """The steps in which a tool is used, as Markdown; "" where it explains itself."""
    _, _, rest = place_page("how-to").partition(f"## {tool_id}\n")
    return rest.partition("\n## ")[0].strip()


def tool_page(tool_id: str) -> str:
    """A tool's page, as Markdown: what it is for, how it is used, its settings, how it works."""
    tool = tool_of(tool_id)
    lines = [f"# {tool.title}", "", tool.summary, ""]
    if steps := how_to(tool_id):
        lines += [steps, ""]
    rows = [_row(row) for row in schema(tool.settings)]
    if rows:
        lines += ["## Settings", "", "| setting | range | default | |", "|---|---|---|---|", *rows]
    else:
        lines += ["Nothing to set: select where it should apply."]
    lines += ["", *_can(tool), "", "## How it works", "", _method(tool), ""]
    lines += [f"In recipes and on the command line: `{tool.id}`; `pulizia tools {tool.id}` lists its settings.", ""]
    return "\n".join(lines)


def _row(row: dict[str, Any]) -> str:
    allowed, usual = "", row["default"]
    if row["kind"] == "number":
        allowed = f"{row['low']:g} to {row['high']:g} {row['unit']}".strip()
        usual = usual if usual is None else f"{usual:g}"
    elif row["kind"] == "choice":
        allowed, usual = ", ".join(row["labels"].values()), row["labels"][usual]
    elif row["kind"] == "switch":
        allowed, usual = "on or off", "on" if usual else "off"
    shown = "automatic" if usual is None else "none" if usual in ([], ()) else usual
    return f"| **{row['label']}** | {allowed} | {shown} | {row['help']} |"


def _can(tool: AnyTool) -> list[str]:
    told = []
    if tool.suggest is not None:
        told.append("*Find settings* (U) sets it from this recording.")
    if tool.survey is not None:
        told.append("The step's panel lists what it found" + ("; X skips single places." if tool.skip_field else "."))
    if tool.handle_field:
        told.append("Drag the dots over the waveform to set single phrases by hand.")
    return [" ".join(told)] if told else []


def _method(tool: AnyTool) -> str:
    """What the module says of its method, without the first line, names of modules and marks of code."""
    words = inspect.getdoc(sys.modules[tool.process.__module__]) or ""
    paragraphs = [" ".join(part.split()) for part in words.split("\n\n")[1:]]
    told = [" ".join(s for s in re.split(r"(?<=[.!?]) ", part) if not CODE.search(s)) for part in paragraphs]
    return "\n\n".join(part for part in told if part) or tool.summary


def pages() -> dict[str, str]:
    """All pages by file name."""
    made = {f"{name}.md": place_page(name) for name in PLACES}
    made |= {f"tool-{tool.id.replace('_', '-')}.md": tool_page(tool.id) for tool in ALL}
    index = ["# Manual", "", "## Places", ""] + [f"- [{title}]({name}.md)" for name, title in PLACES.items()]
    index += ["", "## Tools", ""]
    for family, head in FAMILIES.items():
        index += [f"{head}:", ""]
        index += [
            f"- [{tool.title}](tool-{tool.id.replace('_', '-')}.md): {tool.summary}"
            for tool in sorted(ALL, key=lambda t: t.order)
            if tool.family == family
        ]
        index.append("")
    return made | {"README.md": "\n".join(index).rstrip() + "\n"}
