"""Which file each name of a table means."""

from __future__ import annotations

import os
from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path

from ...core.errors import Trouble
from ...core.progress import Progress, silent

LEFT_OUT = (".csv", ".tsv", ".json", ".txt", ".xlsx", ".md", ".db", ".parquet", ".npy", ".part")
"""Endings of what is no picture, so that a table beside the pictures is not one of them."""


@dataclass
class Matched:
    """Files by the names in the table, and what went wrong.

    Parameters
    ----------
    files : dict of text to path
    missing : list of text
        Names that no file has.
    double : dict of text to paths
        Names that several files have.
    unnamed : list of path
        Files that no row names.
    """

    files: dict[str, Path] = field(default_factory=dict)
    missing: list[str] = field(default_factory=list)
    double: dict[str, list[Path]] = field(default_factory=dict)
    unnamed: list[Path] = field(default_factory=list)


def files_below(folder: Path, progress: Progress | None = None) -> list[Path]:
    """Files below a folder that may be pictures, hidden ones left out, in the order of their paths.

    Raises
    ------
    Trouble
        When the folder is not there.
    """
    progress = progress or silent()
    if not folder.is_dir():
        raise Trouble("This folder is not there", "choose the folder with the pictures", folder)
    found: list[str] = []
    for place, folders, names in os.walk(folder):
        progress.at(progress.fraction)
        folders[:] = sorted(name for name in folders if not name.startswith("."))
        found += [f"{place}/{n}" for n in names if not n.startswith(".") and not n.lower().endswith(LEFT_OUT)]
    return [Path(one) for one in sorted(found)]


def matched(names: Iterable[str], files: list[Path], folder: Path) -> Matched:
    """The file of each name: by its path below the folder, else by its file name, else by that without its ending;
    small and large letters are alike where that leaves one only."""
    by_path: dict[str, list[Path]] = defaultdict(list)
    by_name: dict[str, list[Path]] = defaultdict(list)
    by_stem: dict[str, list[Path]] = defaultdict(list)
    base = len(str(folder)) + 1
    for path in files:
        by_path[str(path)[base:].casefold()].append(path)
        by_name[path.name.casefold()].append(path)
        by_stem[stem_of(path.name).casefold()].append(path)
    made, used = Matched(), set()
    for name in dict.fromkeys(names):
        plain = name.replace("\\", "/").strip("/")
        last = plain.rpartition("/")[2]
        found = (
            by_path.get(plain.casefold())
            or by_name.get(last.casefold())
            or by_stem.get(stem_of(last).casefold())
            or by_stem.get(last.casefold())
            or []
        )
        if len(found) > 1:  # as it is written, letter by letter
            exact = [p for p in found if last in (p.name, stem_of(p.name))]
            found = exact if len(exact) == 1 else found
        if not found:
            made.missing.append(name)
        elif len(found) > 1:
            made.double[name] = found
        else:
            made.files[name] = found[0]
            used.add(found[0])
    named = used.union(*(set(paths) for paths in made.double.values())) if made.double else used
    made.unnamed = [path for path in files if path not in named]
    return made


def stem_of(name: str) -> str:
    """A file name without its ending; .ome.tif and .nii.gz are one."""
    for ending in (".ome.tif", ".ome.tiff", ".nii.gz"):
        if name.casefold().endswith(ending):
            return name[: -len(ending)]
    return name.rpartition(".")[0] or name
