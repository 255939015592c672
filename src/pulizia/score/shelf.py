# SPDX-License-Identifier: GPL-3.0-or-later
"""Recipes by name: those that come with the program, and the user's own."""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path

from pulizia.errors import RecipeError, UnknownNameError
from pulizia.media.folders import config_folder
from pulizia.media.write import shortened, write_text
from pulizia.score.recipes import Recipe, parse_recipe, read_recipe
from pulizia.words import tr

SHIPPED = "recipes"


def shipped_recipes() -> dict[str, Recipe]:
    """Starters by purpose, by short name."""
    folder = files("pulizia.data").joinpath(SHIPPED)
    found = {entry.name.removesuffix(".json"): entry for entry in folder.iterdir() if entry.name.endswith(".json")}
    return {name: parse_recipe(found[name].read_text(encoding="utf-8"), found[name].name) for name in sorted(found)}


def own_recipes() -> dict[str, Recipe]:
    """The user's recipes by file name without its ending; damaged ones are left out."""
    found = {}
    for path in sorted(config_folder("recipes").glob("*.json")):
        try:
            found[path.stem] = read_recipe(path)
        except RecipeError:
            continue  # told when it is asked for by name
    return found


def find_recipe(name: str) -> Recipe:
    """A recipe by path or name; own ones go before shipped ones.

    Raises
    ------
    RecipeError
        When there is none, or what is wrong with it.
    """
    path = Path(name)
    try:
        is_file = path.suffix == ".json" or path.exists()
    except OSError:  # a name that no disk can hold
        is_file = False
    if is_file:
        return read_recipe(path)
    own = {file.stem: file for file in config_folder("recipes").glob("*.json")}
    if name in own:
        return read_recipe(own[name])
    shipped = shipped_recipes()
    if name in shipped:
        return shipped[name]
    known = ", ".join([*own_recipes(), *shipped])
    message = tr(
        "There is no recipe {shortened}. Known are {known}; or give the path of a recipe's file.",
        shortened=shortened(name),
        known=known,
    )
    raise UnknownRecipeError(message)


class UnknownRecipeError(RecipeError, UnknownNameError):
    """There is no recipe of this name."""


def keep_recipe(path: Path) -> Recipe:
    """Take a recipe file into the user's folder under its name; RecipeError when it is none."""
    recipe = read_recipe(path)
    write_text(config_folder("recipes") / f"{path.stem}.json", path.read_text(encoding="utf-8"))
    return recipe
