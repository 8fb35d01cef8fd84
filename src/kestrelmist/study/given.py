"""What is given to an operation: a thing of the study, or a file."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from .items import Record
from .journal.logbook import NONE_ON, Thing


@dataclass(frozen=True)
class Given:
    """One input: a thing of the study by its id, or a file.

    `thing` is what the logbook says of it. For what is still to be made of an image, `item` is None and `of` the image.
    """

    thing: Thing
    item: int | None = None
    of: int | None = None
    file: Path | None = None
    part: str | None = None
    value: Any = field(default=None, compare=False, repr=False)
    """The thing itself, when Python handed it over."""
    blank: Any = field(default=None, compare=False, repr=False)
    """The label map, or the marks, that are still to be made: this one, whatever has become of it by the time it is
    worked on."""
    whence: str = field(default="", compare=False)
    """How it was found, when nobody named it: "leads", "the only one"."""

    def __getstate__(self) -> dict[str, Any]:
        """Without the values of what is blank: another process makes its own."""
        return self.__dict__ | {"blank": None}


def still_to_be_made(owner: Record, kind: str, blank: Any) -> Given:
    """A thing of a kind that edits change, blank as yet, of an image."""
    thing = Thing(kind, blank.name, owner.subject, owner.name, hash=f"{NONE_ON}{owner.id}")
    return Given(thing, None, owner.id, blank=blank)
