# SPDX-License-Identifier: GPL-3.0-or-later
"""Recipes by name: those that come with the program, and the user's own."""

from __future__ import annotations

from pathlib import Path

from pulizia.errors import RecipeError, UnknownNameError
from pulizia.media.folders import config_folder
from pulizia.media.library import Library
from pulizia.media.write import shortened, write_text
from pulizia.score.recipes import Recipe, parse_recipe, read_recipe
from pulizia.words import tr

LIBRARY = Library("recipes", parse_recipe, read_recipe, RecipeError)


def shipped_recipes() -> dict[str, Recipe]:
    """Starters by purpose, by short name."""
    return LIBRARY.shipped()


def own_recipes() -> dict[str, Recipe]:
    """The user's recipes by file name without its ending; damaged ones are left out."""
    return LIBRARY.own()


def find_recipe(name: str) -> Recipe:
    """A recipe by path or name; own ones go before shipped ones.

    Raises
    ------
    RecipeError
        When there is none, or what is wrong with it.
    """
    if (found := LIBRARY.find(name)) is not None:
        return found
    message = tr(
        "There is no recipe {shortened}. Known are {known}; or give the path of a recipe's file.",
        shortened=shortened(name),
        known=LIBRARY.known(),
    )
    raise UnknownRecipeError(message)


class UnknownRecipeError(RecipeError, UnknownNameError):
    """There is no recipe of this name."""


def keep_recipe(path: Path) -> Recipe:
    """Take a recipe file into the user's folder under its name; RecipeError when it is none."""
    recipe = read_recipe(path)
    write_text(config_folder("recipes") / f"{path.stem}.json", path.read_text(encoding="utf-8"))
    return recipe
