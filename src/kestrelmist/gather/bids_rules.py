"""The BIDS standard's own rules, as its schema has them: which names there are, and in which folder they stand."""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import cache

from ..formats.bids_names import BidsName

VERSION = "1.10.0"
"""The version of the standard that a folder says it is of."""


@cache
def _rules() -> list[re.Pattern]:
    from bidsschematools import rules, schema

    whole = schema.load_schema()
    found = []
    for group in (whole.rules.files.common, whole.rules.files.raw):
        found += rules.regexify_filename_rules(group, whole, level=2)
    return [re.compile(rule["regex"]) for rule in found]


@cache
def _data_types() -> tuple[str, ...]:
    from bidsschematools import schema

    return tuple(kind.value for kind in schema.load_schema().objects.datatypes.values())


def has_place(path: str) -> bool:
    """Whether the standard has a file of this path below the folder of a study."""
    return any(rule.match(path) for rule in _rules())


def without_place(paths: Iterable[str]) -> list[str]:
    """Those that the standard has no place for."""
    return [path for path in paths if not has_place(path)]


def folder_of(name: BidsName) -> str:
    """The folder of the data type that a name belongs to; "" when the standard has none for it."""
    session = name.entities.get("ses", "")
    where = f"sub-x/ses-{session}/" if session else "sub-x/"
    return next((kind for kind in _data_types() if has_place(f"{where}{kind}/sub-x_{name.rest}.nii.gz")), "")
