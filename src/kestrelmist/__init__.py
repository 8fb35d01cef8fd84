"""Kestrelmist: turns scans and micrographs into numbers for a study.

    import kestrelmist as km
    with km.Study("Overwintering") as study:
        study.run("grow", image="Head CT", label="Skull", point=(0, 2, 5), low=600, high=3000)
        print(study.run("measure labels", image="Head CT").to_csv())
"""

from __future__ import annotations

VERSION = "0.1.0"

_PLACES = {"Study": "study.study", "Image": "core.image", "Space": "core.space", "LabelMap": "core.labels",
           "Quantity": "core.quantity", "Trouble": "core.errors", "Progress": "core.progress",
           "open_image": "formats.opening", "all_operations": "operations", "run_recipe": "study.recipe",
           "read_recipe": "study.recipe"}


def __getattr__(name: str):
    # fetched when first asked for, so that `import kestrelmist` costs nothing
    if name not in _PLACES:
        raise AttributeError(name)
    import importlib

    return getattr(importlib.import_module(f"{__name__}.{_PLACES[name]}"), name)


__all__ = ["VERSION", *_PLACES]
