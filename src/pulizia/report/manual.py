"""The manual: pages of the places, and a page of every tool made from its declarations."""

from __future__ import annotations

import inspect
import sys
from importlib.resources import files

from pulizia.settings.as_dict import schema
from pulizia.tools.base import FAMILIES, AnyTool
from pulizia.tools.registry import ALL, tool_of

PLACES = {
    "bench": "The Bench",
    "delivery": "Delivery",
    "recipes": "Recipes, printing, and the way back",
    "command-line": "Without a window",
}


def sections(name: str) -> list[str]:
    """The headings of a place's page."""
    return [line.removeprefix("## ") for line in place_page(name).splitlines() if line.startswith("## ")]


def place_page(name: str) -> str:
    """A page of a place, as Markdown."""
    return files("pulizia.data").joinpath("manual", f"{name}.md").read_text(encoding="utf-8")


def tool_page(tool_id: str) -> str:
    """A tool's page, as Markdown: what it does, its settings, how it works."""
    tool = tool_of(tool_id)
    lines = [f"# {tool.title}", "", tool.summary, "", "| setting | range | usually | |", "|---|---|---|---|"]
    lines += [_row(row) for row in schema(tool.settings)]
    if len(lines) == 6:
        lines = [*lines[:4], "Nothing to set: mark the stretch in which it shall act."]
    lines += [
        "",
        *_can(tool),
        "",
        "## How it works",
        "",
        _method(tool),
        "",
        f"In recipes and on the command line: `{tool.id}`.",
        "",
    ]
    return "\n".join(lines)


def _row(row: dict[str, object]) -> str:
    allowed, usual = "", row["default"]
    if row["kind"] == "number":
        allowed = f"{row['low']:g} to {row['high']:g} {row['unit']}".strip()
    elif row["kind"] == "choice":
        allowed = ", ".join(str(word) for word in row["options"])  # type: ignore[attr-defined]
    elif row["kind"] == "switch":
        allowed, usual = "on or off", "on" if usual else "off"
    shown = "found by itself" if usual is None else "none" if usual == [] else usual
    return f"| **{row['label']}** `{row['name']}` | {allowed} | {shown} | {row['help']} |"


def _can(tool: AnyTool) -> list[str]:
    told = []
    if tool.suggest is not None:
        told.append("*Suggest* (U) finds settings that fit the sound.")
    if tool.survey is not None:
        told.append("The sheet says what it found" + ("; X leaves single moments alone." if tool.skip_field else "."))
    if tool.handle_field:
        told.append("Drag the dots over the waveform to set single phrases by hand.")
    return [" ".join(told)] if told else []


def _method(tool: AnyTool) -> str:
    words = inspect.getdoc(sys.modules[tool.process.__module__]) or ""
    return " ".join(line.strip() for line in words.splitlines()).replace("  ", "\n\n")


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
