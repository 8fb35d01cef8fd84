"""What files of ITK transforms hold, as text, HDF5 and packed numbers: for each transform its kind and its numbers.

The numbers are read here and not by the library, which ends the whole program over some damaged files.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ..core.errors import Trouble
from ..core.memory import require_room

COMPOSITE = "CompositeTransform"
"""A kind that has no numbers: those that follow belong to it."""
MARK = r"^Transform:"


@dataclass(frozen=True)
class Entry:
    """One transform of a file: its kind, such as Euler3DTransform, its parameters and its fixed parameters."""

    kind: str
    parameters: np.ndarray
    fixed: np.ndarray


def entries_of_text(path: Path) -> list[Entry]:
    """The transforms of an ITK text; raises Trouble when one has not got its numbers."""
    text = path.read_text(encoding="latin-1")
    found = []
    for part in re.split(MARK, text, flags=re.M)[1:]:
        kind, _, rest = part.strip().partition("\n")
        lines = dict(re.findall(r"^(Parameters|FixedParameters):(.*)$", rest, re.M))
        if not kind.startswith(COMPOSITE) and len(lines) < 2:
            raise _damaged(path)
        try:
            numbers = [np.array(lines.get(n, "").split(), float) for n in ("Parameters", "FixedParameters")]
        except ValueError as error:
            raise _damaged(path) from error
        found.append(_entry(kind, numbers[0], numbers[1], path))
    return _some(found, path)


def entries_of_hdf5(path: Path) -> list[Entry]:
    """The transforms of an HDF5 file; older ones spell the names of the numbers in another way."""
    import h5py

    found = []
    try:
        with h5py.File(path, "r") as file:
            groups = file["TransformGroup"]
            for name in sorted(groups, key=int):
                group = groups[name]
                kind = group["TransformType"][0]
                numbers = [
                    _numbers(group, (f"Transform{which}", f"Tranform{which}"), path)
                    for which in ("Parameters", "FixedParameters")
                ]
                named = kind.decode() if isinstance(kind, bytes) else str(kind)
                found.append(_entry(named, numbers[0], numbers[1], path))
    except (OSError, KeyError, ValueError, TypeError, RuntimeError, AttributeError, IndexError) as error:
        raise Trouble("This HDF5 file holds no transform, or is damaged", "write it again", path) from error
    return _some(found, path)


def _numbers(group, names: tuple[str, ...], path: Path) -> np.ndarray:
    data = next((group[name] for name in names if name in group), None)
    if data is None:
        return np.empty(0)
    require_room(8 * data.size, "This transform", path)
    return np.asarray(data[()], float).ravel()


def entries_of_packed(path: Path) -> list[Entry]:
    """The transform of a file of packed numbers (MATLAB's Level 4), whose names are the kind and "fixed"."""
    from scipy import io

    try:
        held = {name: value for name, value in io.loadmat(path).items() if not name.startswith("__")}
        fixed = np.asarray(held.pop("fixed"), float).ravel()
        found = [_entry(kind, np.asarray(value, float).ravel(), fixed, path) for kind, value in held.items()]
    except Trouble:
        raise
    except Exception as error:  # a file of anything, which the library takes apart in many ways
        raise Trouble(
            "This file holds numbers that are packed, and no transform that ITK could have written",
            "write it as text, four rows of four numbers or ITK's",
            path,
        ) from error
    return _some(found, path)


def _entry(name: str, parameters: np.ndarray, fixed: np.ndarray, path: Path) -> Entry:
    parts = re.fullmatch(r"\s*([A-Za-z0-9]+?)(?:_(?:double|float)_(\d+)_(\d+))?\s*", name)
    if parts is None:
        raise _damaged(path)
    if {parts[2] or "3", parts[3] or "3"} != {"3"}:
        raise Trouble(
            f"This transform ({name.strip()}) is not one of three dimensions", "choose a transform of volumes", path
        )
    if not (np.isfinite(parameters).all() and np.isfinite(fixed).all()):
        raise Trouble("Some numbers of this transform are none (NaN or infinite)", "write it without them", path)
    return Entry(parts[1], parameters, fixed)


def _some(found: list[Entry], path: Path) -> list[Entry]:
    if not found:
        raise _damaged(path)
    entries = [entry for entry in found if entry.kind != COMPOSITE]
    if not entries:
        raise Trouble("This transform file holds no transform", "write it again", path)
    return entries


def _damaged(path: Path) -> Trouble:
    return Trouble("This transform file is damaged", "write it again", path)
