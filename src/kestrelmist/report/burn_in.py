"""Marks burned into the pixels of a new series, in its original depth or as colours. The original stays untouched."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Annotated, Literal

import numpy as np

from ..core.errors import Trouble
from ..core.geometry.hits import in_slice
from ..core.geometry.mark import Mark
from ..core.geometry.marks import Marks
from ..core.geometry.measured import placed_to
from ..core.geometry.on_image import require_on
from ..core.image import Image
from ..core.left_out import OwnerOf
from ..core.operation import operation
from ..core.parameter import Between, NewPath, Unit
from ..core.progress import Progress, silent
from ..core.safe_write import require_new
from ..core.scale import scale_of
from ..core.table import Column, Table
from ..core.values import packed_colours
from ..formats.dicom.write import save_dicom
from ..formats.saving import save_image
from ..scene.first_look import first_look
from ..scene.layer import MarkLook
from ..scene.layer_types.marks import drawn_mark
from ..scene.painters.raster import overlay
from ..scene.primitives import Oval, Panel, Primitive, Words
from ..scene.primitives import Path as Line
from .grid_page import GridPage, burned, shown_colours

Depth = Literal["original", "colour"]
Which = Literal["slices with marks", "all slices"]
USUAL = 700.0
"""Pixels of the shorter side up to which lines and words keep their size; on larger pictures they grow."""
LETTER, MOST = 6.8, 150_000_000
"""About how wide a letter is; and pixels of a slice that is drawn in at most."""


@operation(
    "report",
    "Draw marks into pixels",
    name="burn-in",
    keywords="annotation export dicom secondary capture arrows overlay teaching file",
    takes="colour",
    called={"to": "New folder or file", "widen": "Widen the canvas by", "measured": "Numbers"},
    rare="measured widen",
    group="Pictures",
)
def burn_in(
    image: Annotated[Image, OwnerOf("marks")],
    marks: Marks,
    to: NewPath,
    *,
    depth: Depth = "original",
    which: Which = "slices with marks",
    measured: bool = True,
    widen: Annotated[int, Unit("px"), Between(0, 5000)] = 0,
    progress: Progress = silent(),
) -> Table:
    """Write a new DICOM series with the marks of an image drawn into its pixels; or another format, by the name.

    Lines, words and numbers take their place in the brightest and darkest values that the image shows, or in their own
    colours. The original is not touched. Marks that run over the edge are named; a wider canvas holds them.

    Parameters
    ----------
    to : path
        A new folder, for DICOM; or a new file: .ome.tif, .nii.gz, .png.
    depth : text
        "original": values keep their depth and unit; "colour": 8 bits of red, green and blue, as shown.
    which : text
        Slices on which a mark lies, or all of them.
    measured : bool
        Whether what marks measure stands beside them.
    widen : pixels
        Put on round every slice.

    Returns
    -------
    Table
        The marks that were drawn: slices they lie on, and whether they are cut at the edge.

    Raises
    ------
    Trouble
        When no mark lies on the image, or the place is taken or cannot be written.
    """
    to = Path(to)
    in_dicom = to.suffix == "" or to.name.lower().endswith(".dicom")
    require_new(to, False) if not (in_dicom and to.is_dir() and not any(to.iterdir())) else None
    require_on(marks, image)
    space = image.space
    if (space.shape[0] + 2 * widen) * (space.shape[1] + 2 * widen) > MOST:
        raise Trouble(
            f"A slice of {space.shape[0]} × {space.shape[1]} pixels is too large to be drawn in", "crop it first"
        )
    thick = float(abs(space.across(2) @ space.affine[:3, 2]))
    of = {k: _on(marks, space, k, thick) for k in range(space.shape[2])}
    chosen = [k for k in of if of[k] or which == "all slices"]
    if not any(of.values()):
        raise Trouble(
            f"No mark of “{marks.name}” lies in a slice of “{image.name}”",
            "draw marks in the plane of its slices, or resample the image to the plane of the marks",
        )
    if which == "slices with marks" and len(chosen) > 1:
        chosen = list(range(min(chosen), max(chosen) + 1))  # a series has no gaps
    look = MarkLook(thickness=thick, measured=measured, scale=scale_of(image).fact, placed=placed_to(space))
    planes: list[np.ndarray] = []
    cut: dict[int, bool] = {}
    for n, k in enumerate(chosen):
        progress.at(0.8 * n / len(chosen), "Drawing")
        page = GridPage(space, k, max(1.0, min(space.shape[:2]) / USUAL), widen)
        drawn: list[Primitive] = []
        taken: list = []
        for mark in of[k]:
            own = drawn_mark(page, mark, mark.colour or look.colour, look, taken)
            cut[mark.id] = cut.get(mark.id, False) or _is_cut(own, page)
            drawn += own
        planes.append(_plane(image, k, overlay(drawn, page.size, page.scale), depth, widen))
    made = _image(image, np.stack(planes), chosen[0], depth, widen)
    if in_dicom:
        save_dicom(to, made, progress.part(0.8, 1.0))
    else:
        save_image(to, made, progress.part(0.8, 1.0))
    return _table(marks, of, cut, to)


def _on(marks: Marks, space, k: int, thick: float) -> list[Mark]:
    """The marks that lie on a slice."""
    page = GridPage(space, k)
    return [mark for mark in marks if in_slice(mark, np.array(page.centre), page.normal, thick)]


def _is_cut(drawn: list[Primitive], page: GridPage) -> bool:
    """Whether a line or a word runs over the edge of the page."""
    for one in drawn:
        match one:
            case Line():
                points = np.array(one.points)
                reach = (one.stroke.width if one.stroke else 0) / 2
            case Words():
                wide = LETTER * len(one.text) * one.size / 12
                left = one.at[0] - {"l": 0, "m": wide / 2, "r": wide}[one.anchor[0]]
                points, reach = np.array([(left, one.at[1] - one.size * 0.6), (left + wide, one.at[1])]), 0.0
            case Panel():
                x, y, wide, high = one.box
                points, reach = np.array([(x, y), (x + wide, y + high)]), 0.0
            case Oval():
                points, reach = np.array([one.centre]), max(one.radii)
            case _:
                continue
        low, high = points.min(0) - reach, points.max(0) + reach
        if (low < -0.5).any() or high[0] > page.width + 0.5 or high[1] > page.height + 0.5:
            return True
    return False


def _plane(image: Image, k: int, drawn: np.ndarray, depth: Depth, widen: int) -> np.ndarray:
    """A slice with a drawing over it: its values [row, column], or packed colours."""
    pad = [(widen, widen)] * 2
    if depth == "colour" or image.colour:
        shown = np.pad(shown_colours(image, k), [*pad, (0, 0)])
        return packed_colours(burned(shown, drawn))
    values = np.pad(image.kji[k], pad, constant_values=image.kji[k].min())
    look = first_look(image)
    low, high = look.low, look.high
    share = drawn[..., 3].astype(np.float64) / 255
    light = drawn[..., :3].astype(np.float64) @ (0.299, 0.587, 0.114) / 255
    # where nothing is known there is nothing to shine through
    known = np.where(np.isfinite(values), values, low)
    mixed = known * (1 - share) + (low + light * (high - low)) * share
    if values.dtype.kind in "iu":
        mixed = np.clip(np.rint(mixed), np.iinfo(values.dtype).min, np.iinfo(values.dtype).max)
    return np.where(share > 0, mixed, values).astype(values.dtype)


def _image(image: Image, planes: np.ndarray, first: int, depth: Depth, widen: int) -> Image:
    """The slices as an image, where they were."""
    space = image.space
    affine = space.affine.copy()
    affine[:3, 3] = space.to_world((-widen, -widen, first))
    shape = planes.shape[2], planes.shape[1], planes.shape[0]
    made = replace(space, shape=shape, affine=affine)
    colour = depth == "colour" or image.colour
    name = f"{image.name}, marks burned in"
    return image.like(planes.T, space=made, name=name, colour=colour, unit="" if colour else image.unit)


def _table(marks: Marks, of: dict[int, list[Mark]], cut: dict[int, bool], to: Path) -> Table:
    columns = [Column("mark"), Column("name"), Column("shape"), Column("slices"), Column("at the edge"), Column("file")]
    table = Table(f"{marks.name} burned in", columns)
    for mark in marks:
        slices = [k for k in of if any(one.id == mark.id for one in of[k])]
        told = "" if not slices else f"{slices[0] + 1}" if len(slices) == 1 else f"{slices[0] + 1}–{slices[-1] + 1}"
        edge = "not on the image" if not slices else "cut: widen the canvas" if cut.get(mark.id) else ""
        table.rows.append((mark.id, mark.name or mark.text, mark.shape, told, edge, str(to)))
    return table
