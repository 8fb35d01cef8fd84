"""What is given to an operation: a thing of the study, or a file."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from ..core.labels import LabelMap
from .logbook import Thing


@dataclass(frozen=True)
class Given:
    """One input: a thing of the study by its id, or a file.

    `thing` is what the logbook says of it. For a label map that is still to be made, `item` is None and `of` the image.
    """

    thing: Thing
    item: int | None = None
    of: int | None = None
    file: Path | None = None
    part: str | None = None
    value: Any = field(default=None, compare=False, repr=False)
    """The thing itself, when Python handed it over."""
    blank: LabelMap | None = field(default=None, compare=False, repr=False)
    """The label map that is still to be made: this one, whatever has become of it by the time it is worked on."""
