"""The Shelf as a file of its own beside the catalogue: a lost catalogue does not take names and places along."""

from __future__ import annotations

import json
from contextlib import suppress
from functools import lru_cache
from pathlib import Path

from ..core.errors import Trouble
from ..core.safe_write import written_whole
from ..core.space import Space
from .items import Items, Record

NAME = "shelf.json"
FIELDS = ("id", "kind", "subject", "name", "of", "hash", "removed", "added")


def write_shelf_copy(folder: Path, items: Items) -> None:
    """Write every row without its picture, when something has changed since. A copy that cannot be written is left:
    the catalogue has it all."""
    text = "[\n" + ",\n".join(map(_row, items.everything().values())) + "\n]"
    path = folder / NAME
    with suppress(OSError, Trouble, ValueError):
        if path.exists() and path.read_text() == text:
            return
    with suppress(OSError, Trouble), written_whole(path, "w") as stream:
        stream.write(text)


def _row(record: Record) -> str:
    """A row as JSON; its body as the catalogue has it, which need not be taken apart for this."""
    told = {name: getattr(record, name) for name in FIELDS}
    grid = "null" if record.space is None else _grid(record.space)
    return f'{json.dumps(told, default=str)[:-1]}, "space": {grid}, "body": {record.body_text}}}'


@lru_cache(4096)
def _grid(space: Space) -> str:
    return json.dumps(space.as_dict())


def read_shelf_copy(folder: Path) -> list[dict]:
    """The rows of the copy; none when there is none that can be read."""
    with suppress(OSError, ValueError):
        rows = json.loads((folder / NAME).read_text())
        if isinstance(rows, list):
            return [row for row in rows if isinstance(row, dict) and isinstance(row.get("id"), int)]
    return []
