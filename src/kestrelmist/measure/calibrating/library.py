"""A person's own calibrations: a folder beside all studies, a file each."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import replace
from pathlib import Path

from ...core.calibration import Calibration
from ...core.errors import Trouble
from ...core.home import home
from ...core.names import file_name
from ...formats.calibration_files import read_calibration, write_calibration


def library() -> Path:
    """The folder."""
    return home() / "calibrations"


def in_library() -> list[Calibration]:
    """All that can be read, by name and version."""
    found = []
    with suppress(OSError):
        for path in sorted(library().glob("*.json")):
            with suppress(Trouble, OSError):
                found.append(read_calibration(path))
    return sorted(found, key=lambda one: (one.name.casefold(), one.version))


def named_in_library(name: str, version: int = 0) -> Calibration:
    """The one of a name: of the version, or the last. Raises Trouble when there is none."""
    same = [one for one in in_library() if one.name.casefold() == name.strip().casefold()]
    found = next((one for one in same if one.version == version), None) if version else same[-1] if same else None
    if found is None:
        have = ", ".join(sorted({one.name for one in in_library()})) or "nothing yet"
        what = f"version {version} of “{name}”" if version and same else f"“{name}”"
        raise Trouble(f"Your library has no {what}", f"it holds {have}")
    return found


def keep_in_library(calibration: Calibration) -> Calibration:
    """Put one there, beside others of its name as the next version; returns it as it is kept. Raises Trouble when the
    same one is there."""
    same = [one for one in in_library() if one.name.casefold() == calibration.name.casefold()]
    for one in same:
        if one.content_hash() == calibration.content_hash():
            raise Trouble(f"Calibration {one.called} is in your library already", "there is nothing to do")
    kept = calibration
    if same:
        kept = replace(calibration, version=same[-1].version + 1, before=same[-1].content_hash())
    library().mkdir(parents=True, exist_ok=True)
    number = kept.version
    while (path := library() / f"{file_name(kept.name)} {number}.json").exists():
        number += 1
    write_calibration(path, kept)
    return kept
