"""Recipes: the texts of their versions in their row."""

from __future__ import annotations

from ...core.kept_recipe import KeptRecipe
from ...core.progress import Progress
from ..items import Record
from ..open_study import OpenStudy
from ..store import STORES, Prepared, Store, hash_of


class RecipeStore(Store):
    """Keeps recipes."""

    kind, folder = "recipe", "recipes"

    def prepare(self, study: OpenStudy, thing: KeptRecipe, progress: Progress) -> Prepared:
        return Prepared(self.kind, thing.name, thing.subject, None, thing.content_hash(), thing.as_dict())

    def open(self, study: OpenStudy, record: Record) -> KeptRecipe:
        return KeptRecipe.from_dict(record.body, record.name, record.subject)

    def identity(self, study: OpenStudy, record: Record) -> str:
        return hash_of(record.body_text) if record.body else record.hash


RECIPES = STORES.add("recipe", RecipeStore())
