"""Recipes as things of a study."""

from __future__ import annotations

from ..kept_recipe import KeptRecipe
from ..kind import Kind, register

RECIPE = register(
    Kind(
        "recipe",
        KeptRecipe,
        "thing",
        wanted=lambda p: "name a recipe of the study",
        field="thing",
        metavar=lambda p: "RECIPE",
        on_shelf=False,
        ending=".yaml",
    )
)
