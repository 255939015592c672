# SPDX-License-Identifier: GPL-3.0-or-later
"""`pulizia targets`, `pulizia recipes` and `pulizia tools`: what there is to choose from."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path
from typing import Any

from pulizia.delivery.targets import all_targets, as_table
from pulizia.media.folders import config_folder
from pulizia.score.recipe_library import keep_recipe, own_recipes, shipped_recipes
from pulizia.settings.as_dict import schema
from pulizia.tools.base import AnyTool
from pulizia.tools.registry import ALL, PROBLEMS, tool_named
from pulizia.units import format_number


def add_to(commands: Any) -> None:  # noqa: ANN401 - argparse keeps the type private
    """Declare the commands."""
    targets = commands.add_parser("targets", help="the loudness targets")
    targets.add_argument("--json", action="store_true", help="print as JSON")
    targets.set_defaults(run=run_targets)
    recipes = commands.add_parser("recipes", help="recipes that come with the program, and your own")
    recipes.add_argument("--json", action="store_true", help="print as JSON")
    recipes.add_argument(
        "--keep", type=Path, nargs="+", metavar="FILE", help="import recipe files into your own folder"
    )
    recipes.set_defaults(run=run_recipes)
    tools = commands.add_parser("tools", help="the tools and their settings")
    tools.add_argument("name", nargs="?", help="one tool, with its settings")
    tools.add_argument("--json", action="store_true", help="print as JSON")
    tools.set_defaults(run=run_tools)


def run_targets(options: argparse.Namespace) -> int:
    """List the targets."""
    targets = all_targets(config_folder("targets")).values()
    if options.json:
        print(json.dumps([as_table(t) for t in targets], indent=1))
        return 0
    for t in targets:
        level = f"{format_number(t.integrated_lufs)} \u00b1{t.tolerance_lu:g} {t.scale}"
        print(f"{t.id:<20}{t.title:<34}{level:<20}true peak at most {format_number(t.true_peak_dbtp)} dBTP")
        print(f"{'':<20}{t.purpose} ({t.source})")
    return 0


def run_recipes(options: argparse.Namespace) -> int:
    """List the recipes, after taking in files that were given."""
    for path in options.keep or ():
        print(f"{keep_recipe(path).name} is kept as {path.stem}.")
    found = [(name, recipe, "own") for name, recipe in own_recipes().items()]
    found += [(name, recipe, "shipped") for name, recipe in shipped_recipes().items()]
    if options.json:
        rows = [
            {"id": n, "name": r.name, "description": r.description, "from": w, "tools": [s.tool_id for s in r.steps]}
            for n, r, w in found
        ]
        print(json.dumps(rows, indent=1))
        return 0
    for name, recipe, where in found:
        print(f"{name:<24}{recipe.name} ({where}): {', '.join(step.tool_id for step in recipe.steps)}")
        if recipe.description:
            print(f"{'':<24}{recipe.description}")
    return 0


def run_tools(options: argparse.Namespace) -> int:
    """List all tools, or one with its settings."""
    for sentence in PROBLEMS:
        print(f"pulizia: {sentence}", file=sys.stderr)
    if options.name is None:
        if options.json:
            print(json.dumps([_row(tool) for tool in ALL], indent=1))
            return 0
        for tool in ALL:
            print(f"{tool.id:<18}{tool.summary}")
        return 0
    tool = tool_named(options.name)
    if options.json:
        print(json.dumps(_row(tool), indent=1))
        return 0
    print(f"{tool.title}: {tool.summary}")
    for row in schema(tool.settings):
        allowed = ""
        if row["kind"] == "number":
            allowed = f"{row['low']:g} to {row['high']:g} {row['unit']}".rstrip()
        elif row["kind"] == "choice":
            allowed = " | ".join(row["options"])
        print(f"  {row['name']:<18}{allowed or row['kind']:<36} default {row['default']}")
        print(f"  {'':<18}{row['help']}")
    return 0


def _row(tool: AnyTool) -> dict[str, Any]:
    return {
        "id": tool.id, "title": tool.title, "summary": tool.summary,
        "version": tool.version, "settings": schema(tool.settings),
    }  # fmt: skip
