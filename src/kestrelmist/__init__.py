"""Kestrelmist: turns scans and micrographs into numbers for a study.

import kestrelmist as km
with km.Study("Overwintering") as study:
    study.run("grow", image="Head CT", label="Skull", point=(0, 2, 5), low=600, high=3000)
    print(study.run("measure-labels", image="Head CT").to_csv())
"""

from __future__ import annotations

VERSION = "0.2.0"

__all__ = [
    "VERSION",
    "Image",
    "LabelMap",
    "Progress",
    "Quantity",
    "Reference",
    "Space",
    "Study",
    "Table",
    "Transform",
    "Trouble",
    "World",
    "all_operations",
    "open_image",
    "read_recipe",
    "recipe_of",
    "run_recipe",
    "save_thing",
]

_PLACES = {
    "Study": "study.study",
    "Image": "core.image",
    "Space": "core.space",
    "World": "core.world",
    "LabelMap": "core.labels",
    "Transform": "core.transform",
    "Table": "core.table",
    "Quantity": "core.quantity",
    "Reference": "core.reference",
    "Trouble": "core.errors",
    "Progress": "core.progress",
    "open_image": "formats.opening",
    "save_thing": "formats.saving",
    "all_operations": "core.operation",
    "run_recipe": "study.recipes.one_subject",
    "read_recipe": "study.recipes.text",
    "recipe_of": "study.recipes.of_logbook",
}


def __getattr__(name: str):
    # fetched when first asked for, so that `import kestrelmist` costs nothing
    if name not in _PLACES:
        raise AttributeError(name)
    import importlib

    return getattr(importlib.import_module(f"{__name__}.{_PLACES[name]}"), name)


def __dir__() -> list[str]:
    return sorted([*globals(), *_PLACES])
