"""Stacks described in JSON: images named by their paths, as seen from the file that describes them."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

from ...core.errors import Trouble
from ...core.geometry.marks import Marks
from ...core.image import Image
from ...core.labels import LabelMap
from ...formats.format import Format, register
from ...formats.label_files import read_label_map
from ...formats.mark_files import read_marks
from ...formats.opening import open_image
from ...scene.laid import LaidStack, laid

MOST = 1 << 20
READERS: dict[str, Callable[[Path], LabelMap | Marks]] = {"labels": read_label_map, "marks": read_marks}
"""What reads a layer that is called so; all others are images."""


def read_stack(path: Path) -> LaidStack:
    """The stack that a file describes: {"layers": [{"thing": "head.nii"}, {"thing": "map.nii", "opacity": 0.8}]},
    the lowest first; labels as {"thing": "labels.nii.gz", "kind": "labels"}, marks as {"thing": "marks.geojson",
    "kind": "marks"}.

    Raises
    ------
    Trouble
        When the file is no such description, or an image is not there.
    """
    if path.stat().st_size > MOST:
        raise Trouble("This file is too long to describe a stack", "choose another file", path)
    try:
        facts = json.loads(path.read_text(encoding="utf-8"))
    except ValueError as error:
        raise Trouble("This file does not describe a stack: it is no JSON", "choose another file", path) from error
    rows = facts.get("layers", []) if isinstance(facts, dict) else []
    kinds = {str(row.get("thing")): row.get("kind") for row in rows if isinstance(row, dict)}

    def find(thing: Any) -> Image | LabelMap | Marks:
        if not isinstance(thing, str):
            raise Trouble(f"“{thing}” is no file", "name each layer by the path of its file", path)
        file = path.parent / thing
        read = READERS.get(str(kinds[thing]))
        return open_image(file).frame() if read is None else read(file)

    return laid(facts, find, path.stem)


register(Format("stack description", (".json",), read_stack, holds=("stack",), listed=False))
