"""Align many images onto one."""

from __future__ import annotations

from typing import Annotated, Literal, NamedTuple

from ..core.errors import Cancelled, Partly, Trouble
from ..core.image import Image
from ..core.left_out import LeftOut
from ..core.mapping import Mapping
from ..core.operation import operation
from ..core.progress import Progress, silent
from ..core.table import Column, Table
from .align_images import align_images


class Many(NamedTuple):
    """Where each image lies to the one that stays, and how well each fits."""

    transforms: list[Mapping]
    report: Table


@operation(
    "align",
    "Align many onto one",
    name="align-many",
    keywords="register registration batch several subjects group onto template coregister all",
    called={"image": "Onto", "others": "Move"},
    group="Several images",
    methods="Images were aligned with one of them (freedom: {freedom}; search: {search})",
    cites=("Vercauteren 2008", "Arsigny 2006", "Studholme 1999"),
)
def align_many(
    image: Image,
    others: list[Image],
    *,
    freedom: Annotated[
        Literal["2", "3", "4", "6", "7", "9", "12", "warp"] | None, LeftOut("6 within a subject, 12 between two")
    ] = None,
    search: Literal["near", "full"] = "near",
    progress: Progress = silent(),
) -> Many:
    """Find where several images lie to one, each as “Align two images” does it.

    Parameters
    ----------
    image : image
        It stays where it is.
    others : images
        Each is aligned with it.
    freedom : text
        Of volumes 3, 6, 7, 9, 12 or "warp"; of pictures 2, 3, 4, 6; see “Align two images”.
    search : "near" or "full"
        From where they lie, or from all turns.

    Returns
    -------
    transforms : list of Mapping
        From places of the image that stays to where they are found in each of the others.
    report : Table
        A row an image.

    Raises
    ------
    Trouble
        When one of them cannot be aligned: its name, and why.
    """
    if not others:
        raise Trouble("There is nothing to align", "name images that are to be aligned with this one")
    found: list[Mapping] = []
    columns: list[Column] = []
    rows: list[tuple] = []
    for n, one in enumerate(others):
        part = progress.part(n / len(others), (n + 1) / len(others))
        try:
            aligned = align_images(one, image, freedom=freedom, search=search, progress=part.unseen())
        except (Cancelled, Partly):
            raise
        except Trouble as trouble:
            raise Trouble(f"“{one.name}” cannot be aligned: {trouble.what}", trouble.do) from trouble
        found.append(aligned.transform)
        names = [column.name for column in columns]
        columns += [column for column in aligned.report.columns if column.name not in names]
        row = dict(zip([column.name for column in aligned.report.columns], aligned.report.rows[0]))
        rows.append((one.name, one.subject, row))
    told = [(name, subject, *(row.get(column.name) for column in columns)) for name, subject, row in rows]
    return Many(found, Table(f"{len(found)} onto {image.name}", [Column("image"), Column("subject"), *columns], told))
