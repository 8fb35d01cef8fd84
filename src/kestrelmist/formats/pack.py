"""Packs: a standard space as a folder of templates, masks, shares of tissues and atlas regions.

`pack.json` names them: `name`, `version`, `species`, `origin`, `licence`, and `templates`, `masks`, `tissues`,
`atlases`, each an object of names and files (NIfTI) beside it. The regions of an atlas stand in a TSV file of the same
name: `index`, `name`, `color`, and, where there are any, `group` (what a region is part of) and `side`.
"""

from __future__ import annotations

import csv
import io
import json
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from ..core.cells import as_written, harmless
from ..core.errors import Trouble
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.safe_write import written_whole
from ..core.world import World
from .label_files import read_label_map, table_path
from .opening import open_image

FILE = "pack.json"
STANDARD = "StandardSpace"
"""The fact of an image that says of which standard space it is."""
TEXTS = ("name", "version", "species", "origin", "licence")
PARTS = ("templates", "masks", "tissues", "atlases")


@dataclass(frozen=True)
class Region:
    """A region of an atlas: `group` is what it is part of, `side` "left", "right" or ""."""

    number: int
    name: str
    group: str = ""
    side: str = ""
    colour: str = ""


@dataclass(frozen=True)
class Pack:
    """A standard space.

    Parameters
    ----------
    folder : path
    name, version, species, origin, licence : text
    templates, masks, tissues, atlases : dict
        Files in the folder, by names such as "T1", "Brain", "white", "Regions".
    regions : dict
        Of each atlas by its name.
    """

    folder: Path
    name: str
    version: str
    species: str
    origin: str
    licence: str
    templates: dict[str, str]
    masks: dict[str, str] = field(default_factory=dict)
    tissues: dict[str, str] = field(default_factory=dict)
    atlases: dict[str, str] = field(default_factory=dict)
    regions: dict[str, tuple[Region, ...]] = field(default_factory=dict)

    @property
    def world(self) -> World:
        """The space that all of it lies in."""
        return World(f"{self.name} {self.version}".strip(), self.name)

    def image(self, name: str) -> Image:
        """A template, or a map of a tissue, by its name."""
        image = open_image(self.folder / {**self.tissues, **self.templates}[name])
        image.space = image.space.in_world(self.world)
        image.name, image.subject = name, self.name
        image.facts = image.facts | {STANDARD: self.name}
        return image

    def label_map(self, name: str) -> LabelMap:
        """A mask or an atlas by its name."""
        labels = read_label_map(self.folder / {**self.masks, **self.atlases}[name])
        labels.space = labels.space.in_world(self.world)
        labels.name, labels.subject = name, self.name
        return labels


def is_pack(folder: Path) -> bool:
    return (folder / FILE).is_file()


def read_pack(folder: str | Path) -> Pack:
    """A pack by its folder, or by its pack.json.

    Raises
    ------
    Trouble
        When there is none, it cannot be read, a file that it names is missing or lies outside the folder, or the
        regions of an atlas have no names.
    """
    folder = Path(folder)
    folder = folder.parent if folder.name == FILE else folder
    path = folder / FILE
    if not path.is_file():
        raise Trouble(f"This folder has no {FILE}, so it is no pack", "make one with “Make a pack”", folder)
    try:
        facts = json.loads(path.read_text("utf-8"))
    except (OSError, ValueError) as error:
        raise Trouble("This pack cannot be read: it is no JSON", "mend it, or get it anew", path) from error
    if not isinstance(facts, dict) or not str(facts.get("name") or "").strip():
        raise Trouble("This pack says no name of its own", "write one as “name”", path)
    parts = {part: _files(folder, part, facts.get(part), path) for part in PARTS}
    if not parts["templates"]:
        raise Trouble("This pack names no template", "name one under “templates”", path)
    texts = {name: str(facts.get(name) or "").strip() for name in TEXTS}
    regions = {name: _regions(folder / file) for name, file in parts["atlases"].items()}
    given: dict[str, Any] = texts | parts
    return Pack(folder, **given, regions=regions)


def _files(folder: Path, part: str, given: Any, path: Path) -> dict[str, str]:
    if given is None:
        return {}
    if not isinstance(given, dict) or not all(isinstance(file, str) for file in given.values()):
        raise Trouble(f"“{part}” of this pack is no list of names and files", 'write it as {"T1": "T1.nii.gz"}', path)
    for name, file in given.items():
        there = (folder / file).resolve()
        if not there.is_relative_to(folder.resolve()):
            raise Trouble(f"“{name}” of this pack lies outside its folder", "put it there", path)
        if not there.is_file():
            raise Trouble(f"“{name}” of this pack is not there", "put the file back, or take it out of the list", there)
    return dict(given)


def _regions(path: Path) -> tuple[Region, ...]:
    names = table_path(path)
    none = Trouble("The regions of this atlas have no names", f"put them beside it as {names.name}", path)
    try:
        rows = list(csv.DictReader(io.StringIO(names.read_text("utf-8-sig")), delimiter="\t"))
        found = tuple(
            Region(
                int(row["index"]),
                as_written(row["name"]),
                as_written(row.get("group") or ""),
                (row.get("side") or "").strip(),
                (row.get("color") or "").strip(),
            )
            for row in rows
        )
    except (OSError, KeyError, TypeError, ValueError) as error:
        raise none from error
    if not found:
        raise none
    return found


def write_pack(pack: Pack) -> None:
    """Write what a pack says of its files, which are there; the tree of the regions of its atlases beside them."""
    for name, rows in pack.regions.items():
        out = io.StringIO()
        writer = csv.writer(out, delimiter="\t", lineterminator="\n")
        writer.writerow(("index", "name", "color", "group", "side"))
        for row in rows:
            writer.writerow((row.number, harmless(row.name), row.colour, harmless(row.group), row.side))
        with written_whole(table_path(pack.folder / pack.atlases[name])) as stream:
            stream.write(out.getvalue().encode())
    facts: dict[str, Any] = {name: getattr(pack, name) for name in (*TEXTS, *PARTS)}
    with written_whole(pack.folder / FILE) as stream:
        stream.write((json.dumps(facts, indent=1, ensure_ascii=False) + "\n").encode())
