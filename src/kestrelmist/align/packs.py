"""Standard spaces: the pack that comes with the program, packs made of somebody's template, and places in them."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import numpy as np

from ..core.claim import claimed
from ..core.errors import Trouble
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.left_out import Leads
from ..core.mapping import Mapping
from ..core.names import file_name
from ..core.operation import operation
from ..core.overlap import apart
from ..core.parameter import NewPath, Role, WorldPoint
from ..core.progress import Progress, silent
from ..core.safe_write import require_new
from ..core.table import Column, Table
from ..core.transform import Transform
from ..formats.label_files import write_label_map
from ..formats.pack import Pack, Region, write_pack
from ..formats.saving import save_image

Grid = Annotated[Image, Role("grid")]


def shipped() -> Path:
    """The folder of the mean dormouse."""
    return Path(__file__).parent.parent / "packs" / "mean dormouse"


@operation(
    "align",
    "Make a pack",
    name="make-pack",
    keywords="template atlas own new export parcellation folder",
    group="Standard space",
    called={"image": "Template", "others": "More templates", "atlas": "Regions"},
    rare="others species origin licence version",
)
def make_pack(
    image: Image,
    to: NewPath,
    atlas: LabelMap | None = None,
    mask: LabelMap | None = None,
    others: list[Image] | None = None,
    *,
    name: str = "",
    version: str = "1",
    species: str = "",
    origin: str = "",
    licence: str = "",
    progress: Progress = silent(),
) -> Table:
    """Write a standard space of one's own as a folder: a template, others on its grid, a mask and regions with names.

    Regions are told apart by side where their names end in ", left" and ", right". What they are part of can be written
    into the column `group` of the table of regions.

    Parameters
    ----------
    to : path
        The new folder.
    atlas : label map
        Regions of the template.
    mask : label map
        Such as that of the brain.
    others : images
        Of other contrasts, or shares of tissues, on the template's grid.
    name, version : text
        Of the space; the template's name when left out.
    species, origin, licence : text
        What there is to say of it.

    Raises
    ------
    Trouble
        When the folder is there already, an image lies on another grid, or the regions have no names.
    """
    require_new(to, False)
    for one in (*(others or ()), atlas, mask):
        if one is not None and not one.space.same_grid(image.space):
            raise Trouble(f"“{one.name}” lies on another grid than “{image.name}”", "bring it onto that first")
    if atlas is not None and not any(atlas.counts[row.number] for row in atlas.table):
        raise Trouble(f"“{atlas.name}” has no region with a name", "outline some, or choose another map")
    name = name.strip() or image.name
    with claimed(to) as beside:
        beside.mkdir()
        images: dict[str, str] = {}
        for n, one in enumerate((image, *(others or ()))):
            progress.at(0.8 * n / (1 + len(others or ())), f"Writing {one.name}")
            images[one.name] = _free(f"{file_name(one.name)}.nii.gz", images)
            save_image(beside / images[one.name], one)
        shares = {key: file for key, file in list(images.items())[1:] if _is_share(key, others or [])}
        maps: dict[str, dict[str, str]] = {"masks": {}, "atlases": {}}
        for kind, labels in (("masks", mask), ("atlases", atlas)):
            if labels is not None:
                maps[kind][labels.name] = _free(f"{file_name(labels.name)} {kind}.nii.gz", images)
                write_label_map(beside / maps[kind][labels.name], labels)
        regions = {} if atlas is None else {atlas.name: tuple(_region(row.number, row.name, row.colour)
                                                             for row in atlas.table)}  # fmt: skip
        pack = Pack(
            beside, name, version.strip(), species, origin, licence,
            {key: file for key, file in images.items() if key not in shares}, maps["masks"], shares, maps["atlases"],
            regions,
        )  # fmt: skip
        write_pack(pack)
        beside.rename(to)
    rows = [(name, version, len(images), len(regions[atlas.name]) if atlas is not None else 0, str(to))]
    columns = [Column(n) for n in ("pack", "version", "images", "regions", "folder")]
    return Table(f"{name}, a pack", columns, rows)


def _free(wanted: str, taken: dict[str, str]) -> str:
    stem, n = wanted, 1
    while stem in taken.values():
        n += 1
        stem = wanted.replace(".nii.gz", f" {n}.nii.gz")
    return stem


def _is_share(name: str, images: list[Image]) -> bool:
    """Whether an image is a share of a tissue: from 0 to 1."""
    image = next(one for one in images if one.name == name)
    some = image.sample()
    some = some[np.isfinite(some)]
    return bool(some.size and some.min() >= 0 and some.max() <= 1.0 and not image.whole_numbers)


def _region(number: int, name: str, colour: str) -> Region:
    side = next((side for side in ("left", "right") if name.casefold().endswith(f", {side}")), "")
    return Region(number, name, "", side, colour)


@operation(
    "align",
    "Place in an atlas",
    name="standard-place",
    keywords="coordinates stereotaxic atlas region under pointer convert position template where is",
    called={"template": "Standard space", "atlas": "Regions", "back": "From standard", "way": "Through"},
    rare="way",
    methods="Places were told in a standard space",
    group="Standard space",
)
def standard_place(
    image: Grid,
    template: Grid,
    *,
    point: WorldPoint,
    back: bool = False,
    atlas: LabelMap | None = None,
    way: Annotated[Mapping | None, Leads("image", "template")] = None,
) -> Table:
    """Where a place of an image lies in a standard space, and in which region; or the other way round.

    Parameters
    ----------
    template : image
        An image of the standard space.
    point : three mm
        In the image; with `back`, in the standard space.
    back : bool
        Whether the place is one of the standard space, and that in the image is wanted.
    atlas : label map
        Regions of the template.
    way : transform
        From the image to the standard space; in a study the way is found among its transforms.

    Returns
    -------
    Table
        Both places, the voxel of the image, and the region.

    Raises
    ------
    Trouble
        When no way leads from one to the other, or it does not reach the place.
    """
    here, there = image.space.world, template.space.world
    if way is None:
        if here.id and there.id and not here.is_one_with(there):
            raise apart(image.name, here, template.name, there)
        way = Transform(np.eye(4))
    given = np.asarray(point, float)
    other = way.back(given) if back else way.to(given)
    if not np.isfinite(other).all():
        raise Trouble("The way says nothing of this place", "choose one within both images")
    own, standard = (other, given) if back else (given, other)
    voxel = image.space.nearest_voxel(own)
    told: tuple = ("", "")
    if atlas is not None:
        number = atlas.at(standard)
        row = atlas.table.get(number) if number else None
        told = (number, row.name if row is not None else "none")
    columns = [Column("space"), *(Column(axis, image.space.unit, figures=5) for axis in "xyz"),
               Column("voxel"), Column("region number"), Column("region")]  # fmt: skip
    at = "outside" if voxel is None else " ".join(map(str, voxel))
    rows = [
        (image.name, *(float(v) for v in own), at, None, ""),
        (template.space.world.name, *(float(v) for v in standard), "", told[0] or None, told[1]),
    ]
    return Table(f"A place of {image.name} in {template.space.world.name}", columns, rows)
