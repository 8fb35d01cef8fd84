"""Recipes: steps in YAML that can be done again."""

from __future__ import annotations

from pathlib import Path

import yaml

from ..core.errors import Trouble
from ..core.progress import Progress, silent
from ..operations import find_operation
from .run import run
from .study import Study


def read_recipe(path: str | Path) -> list[dict]:
    """The steps of a recipe file; raises Trouble when it is none or names an unknown operation."""
    try:
        content = yaml.safe_load(Path(path).read_text(encoding="utf-8"))
    except FileNotFoundError:
        raise Trouble("This recipe does not exist", "check the name", path) from None
    except (yaml.YAMLError, UnicodeDecodeError, OSError) as error:
        raise Trouble("This recipe cannot be read", "copy it from the logbook again", path) from error
    if not isinstance(content, dict) or content.get("recipe") != 1 or not isinstance(content.get("steps"), list):
        raise Trouble("This file is not a recipe", "copy one from the logbook", path)
    for step in content["steps"]:
        find_operation(str(step.get("operation")))
    return content["steps"]


def run_recipe(study: Study, steps: list[dict], image: str | int | None = None, progress: Progress | None = None) -> list:
    """Do the steps one after another, on the images they name or all on `image`. Returns what each made."""
    made = []
    for step in (progress or silent()).over(steps, what="Recipe"):
        wanted = image if image is not None else step.get("inputs", {}).get("image")
        inputs = {"image": wanted} if wanted is not None and find_operation(step["operation"]).inputs else {}
        made.append(run(study, step["operation"], {**step.get("settings", {}), **inputs}))
    return made
