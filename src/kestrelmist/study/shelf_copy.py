"""The Shelf as a file of its own beside the catalogue: a lost catalogue does not take names and places along."""

from __future__ import annotations

import json
from contextlib import suppress
from pathlib import Path

from ..core.errors import Trouble
from ..core.safe_write import written_whole
from .items import Items

NAME = "shelf.json"
FIELDS = ("id", "kind", "subject", "name", "of", "hash", "body", "removed", "added")


def write_shelf_copy(folder: Path, items: Items) -> None:
    """Write every row without its picture, when something has changed since. A copy that cannot be written is left:
    the catalogue has it all."""
    rows = [
        {name: getattr(record, name) for name in FIELDS}
        | {"space": None if record.space is None else record.space.as_dict()}
        for record in items.everything().values()
    ]
    text = json.dumps(rows, indent=1, default=str)
    path = folder / NAME
    with suppress(OSError, Trouble, ValueError):
        if path.exists() and path.read_text() == text:
            return
    with suppress(OSError, Trouble), written_whole(path, "w") as stream:
        stream.write(text)


def read_shelf_copy(folder: Path) -> list[dict]:
    """The rows of the copy; none when there is none that can be read."""
    with suppress(OSError, ValueError):
        rows = json.loads((folder / NAME).read_text())
        if isinstance(rows, list):
            return [row for row in rows if isinstance(row, dict) and isinstance(row.get("id"), int)]
    return []
