"""File names as the BIDS standard has them: `sub-01_ses-pre_task-tap_run-2_bold` (bids-specification, "Filenames")."""

from __future__ import annotations

import csv
import re
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from ..core.subject import NONE, PARTICIPANT
from .participants import rows_of

WHOLE = re.compile(r"sub-([0-9A-Za-z+]+)((?:_[A-Za-z]+-[0-9A-Za-z+]+)*)_([0-9A-Za-z]+)")
REST = re.compile(r"((?:[A-Za-z]+-[0-9A-Za-z+]+_)*)([0-9A-Za-z]+)")
ORDER = ("ses", "sample", "task", "tracksys", "acq", "nuc", "voi", "ce", "trc", "stain", "rec", "dir", "run", "mod",
         "echo", "flip", "inv", "mt", "part", "proc", "hemi", "space", "split", "recording", "chunk")  # fmt: skip
"""Entities in the order in which the standard has them; others follow."""
PARTICIPANTS = "participants.tsv"
FACT = "Participant "
"""How the names of facts begin that a table of participants says."""


@dataclass(frozen=True)
class BidsName:
    """The parts of a name: whose it is, entities by their short names, and the suffix that says what it is."""

    subject: str
    entities: dict[str, str]
    suffix: str

    @property
    def rest(self) -> str:
        """The name without the subject, by which images of several subjects are called alike."""
        return "_".join([f"{key}-{value}" for key, value in in_order(self.entities).items()] + [self.suffix])


def in_order(entities: dict[str, str]) -> dict[str, str]:
    """Entities in the order of the standard."""
    known = {key: entities[key] for key in ORDER if key in entities}
    return known | {key: value for key, value in entities.items() if key not in known}


def parsed(name: str) -> BidsName | None:
    """The parts of a file's name without its ending; None when it is none of these."""
    found = WHOLE.fullmatch(name)
    if found is None:
        return None
    entities = dict(part.split("-", 1) for part in found[2].split("_") if part)
    return BidsName(found[1], entities, found[3])


def parsed_rest(name: str) -> BidsName | None:
    """As `parsed`, of a name without the subject. A single word is none: it may be anything."""
    found = REST.fullmatch(name)
    if found is None:
        return None
    return BidsName("", dict(part.split("-", 1) for part in found[1].split("_") if part), found[2])


def participant_of(path: Path, subject: str) -> dict[str, str]:
    """What the table of participants above a file says of a subject, by its columns; empty when there is none."""
    for folder in list(path.parents)[:6]:
        if (folder / PARTICIPANTS).is_file():
            return _participants(folder / PARTICIPANTS).get(f"sub-{subject}", {})
    return {}


@lru_cache(maxsize=8)
def _participants(path: Path) -> dict[str, dict[str, str]]:
    try:
        rows = rows_of(path)
    except (OSError, UnicodeDecodeError, csv.Error):
        return {}
    if not rows or rows[0][0] != PARTICIPANT:
        return {}
    return {row[0]: {k: v for k, v in zip(rows[0][1:], row[1:]) if v and v != NONE} for row in rows[1:]}
