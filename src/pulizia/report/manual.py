# SPDX-License-Identifier: GPL-3.0-or-later
"""The manual: pages of the places, and a page of every tool made from its declarations."""

from __future__ import annotations

import re
from collections.abc import Iterator
from importlib.resources import files
from typing import Any

from pulizia.settings.as_dict import schema
from pulizia.tools.base import FAMILIES, AnyTool
from pulizia.tools.registry import ALL, tool_of
from pulizia.units import with_minus
from pulizia.words import N_, tr, translated

LEAD = re.compile(r"^(#+ |- |\d+\. )?(.*)$")  # what begins a line of Markdown, and its text
PLACES = {
    "bench": N_("The Bench"),
    "assembly": N_("The Assembly"),
    "delivery": N_("Delivery"),
    "recipes": N_("Recipes and rendering"),
    "command-line": N_("Command line"),
}
TOOL_TEXTS = ("how-to", "how-it-works")
"""Pages with a section for each tool that needs one."""


def sections(name: str) -> list[str]:
    """The headings of a place's page."""
    return [line.removeprefix("## ") for line in place_page(name).splitlines() if line.startswith("## ")]


def place_page(name: str) -> str:
    """A page of a place, as Markdown, in the language in use."""
    return "\n".join(_translated(line) for line in _lines(name)) + "\n"


def texts() -> Iterator[tuple[str, str]]:
    """Every text of the pages that is looked up in a catalogue, with the page it stands on."""
    for name in (*PLACES, *TOOL_TEXTS):
        for line in _lines(name):
            lead, text = _parts(line)
            if text and not (name in TOOL_TEXTS and lead == "## "):
                yield text, f"manual: {name}"


def tool_page(tool_id: str) -> str:
    """A tool's page, as Markdown: what it is for, how it is used, its settings, how it works."""
    tool = tool_of(tool_id)
    lines = ["# " + translated(tool.title), "", translated(tool.summary), ""]
    if steps := _of_tool("how-to", tool_id):
        lines += [steps, ""]
    rows = [_row(row) for row in schema(tool.settings)]
    if rows:
        heads = " | ".join((tr("setting"), tr("range"), tr("default")))
        lines += ["## " + tr("Settings"), "", f"| {heads} | |", "|---|---|---|---|", *rows]
    else:
        lines += [tr("Nothing to set: select where it should apply.")]
    lines += ["", *_can(tool), ""]
    if told := _of_tool("how-it-works", tool_id):
        lines += ["## " + tr("How it works"), "", told, ""]
    code, command = f"`{tool.id}`", f"`pulizia tools {tool.id}`"
    lines += [
        tr("In recipes and on the command line: {id}; {command} lists its settings.", id=code, command=command),
        "",
    ]
    return "\n".join(lines)


def _lines(name: str) -> list[str]:
    return files("pulizia.data").joinpath("manual", f"{name}.md").read_text(encoding="utf-8").splitlines()


def _parts(line: str) -> tuple[str, str]:
    found = LEAD.match(line)
    return (found[1] or "", found[2]) if found else ("", line)


def _translated(line: str) -> str:
    lead, text = _parts(line)
    return lead + translated(text)


def _of_tool(name: str, tool_id: str) -> str:
    """What a page with a section for each tool says of this one; "" where it says nothing."""
    lines = _lines(name)
    if (head := f"## {tool_id}") not in lines:
        return ""
    start = lines.index(head) + 1
    end = next((n for n in range(start, len(lines)) if lines[n].startswith("## ")), len(lines))
    return "\n".join(_translated(line) for line in lines[start:end]).strip()


def _row(row: dict[str, Any]) -> str:
    allowed, usual = "", row["default"]
    if row["kind"] == "number":
        allowed = tr("{low:g} to {high:g}{unit}", low=row["low"], high=row["high"], unit=" " + row["unit"]).strip()
        usual = usual if usual is None else with_minus(tr("{value:g}", value=float(usual)))
        allowed = with_minus(allowed)
    elif row["kind"] == "choice":
        labels = {word: translated(label) for word, label in row["labels"].items()}
        allowed, usual = ", ".join(labels.values()), labels[usual]
    elif row["kind"] == "switch":
        allowed, usual = tr("on or off"), tr("on") if usual else tr("off")
    shown = tr("automatic") if usual is None else tr("none") if usual in ([], ()) else usual
    return f"| **{translated(row['label'])}** | {allowed} | {shown} | {translated(row['help'])} |"


def _can(tool: AnyTool) -> list[str]:
    told = []
    if tool.suggest is not None:
        told.append(tr("*Find settings* (U) sets it from this recording."))
    if tool.survey is not None:
        told.append(
            tr("The step's panel lists what it found; X skips single places.")
            if tool.skip_field
            else tr("The step's panel lists what it found.")
        )
    if tool.handle_field:
        told.append(tr("Drag the dots over the waveform to set single phrases by hand."))
    return [" ".join(told)] if told else []


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
