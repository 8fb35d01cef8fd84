"""Marks beside a DICOM series: as a presentation state that viewers lay over it, or a report of what was measured."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Literal

from ..core.class_table import ClassTable
from ..core.errors import Trouble
from ..core.geometry.mark import Mark
from ..core.geometry.marks import Marks
from ..core.geometry.measured import is_fine, measured, placed_to
from ..core.image import Image
from ..core.left_out import OwnerOf
from ..core.operation import operation
from ..core.parameter import NewPath
from ..core.safe_write import require_new
from ..core.scale import scale_of
from ..core.table import Column, Table
from ..scene.first_look import first_look
from ..scene.layer import MarkLook
from ..scene.layer_types.marks import suited_words

As = Literal["presentation state", "structured report"]


@operation(
    "report",
    "Marks beside a series",
    name="marks-beside",
    takes="colour",
    keywords="dicom presentation state gsps pr structured report sr tid 1500 annotations pacs measurements export",
    called={"to": "New file", "as_": "As", "classes": "Class table", "numbers": "Numbers"},
    rare="classes numbers replace",
    group="Pictures",
)
def marks_beside(
    image: Annotated[Image, OwnerOf("marks")],
    marks: Marks,
    to: NewPath,
    as_: As = "presentation state",
    *,
    classes: ClassTable | None = None,
    numbers: bool = True,
    replace: bool = False,
) -> Table:
    """Write the marks of a DICOM series as an object beside it, which refers to its files; these are not touched.

    A presentation state holds lines and words that viewers lay over the slices; a structured report what was measured,
    with where and how sure. Both say whose they are as the files of the series do.

    Parameters
    ----------
    image : image
        As it was gathered from DICOM files of a slice each.
    to : path
        The new file: .dcm.
    as_ : choice
        A presentation state or a structured report.
    classes : class table
        Colours of classes.
    numbers : bool
        Whether what marks measure stands beside them in a presentation state.
    replace : bool
        Take the place of a file of that name.

    Returns
    -------
    Table
        A row a mark: what was written of it, or that it lies in no slice.

    Raises
    ------
    Trouble
        When the image does not come from such files, no mark lies in a slice or is measured, or the file cannot be
        written.
    """
    from ..formats.dicom.write_presentation import write_presentation
    from ..formats.dicom.write_report import NAMES, UNITS, write_report

    to = Path(to)
    if to.suffix.lower() != ".dcm":
        raise Trouble("An object of DICOM is written as .dcm", "name such a file", to)
    require_new(to, replace)
    if image.colour:
        raise Trouble(f"“{image.name}” is in colour, which such objects do not refer to", "draw the marks into pixels")
    scale, placed, fine = scale_of(image), placed_to(image.space), is_fine(placed_to(image.space))
    colours = {} if classes is None else {row.number: row.colour for row in classes.rows}

    def words(mark: Mark) -> str:
        found = measured(mark, scale, placed)
        told = [one.told(mark, fine) for one in found[:1]]
        parts = "".join(told[0].parts_of(mark.digits, mark.spread)[:2]) if told else ""
        number = f"{parts} {told[0].parts[2]}" if told else ""
        if mark.shape == "scale-bar":
            number = suited_words(mark, scale.unit, fine)
        return " ".join(filter(None, (mark.text or mark.name, number if numbers else "")))

    if as_ == "presentation state":
        usual = MarkLook().colour
        look = first_look(image)
        window = (look.low + look.high) / 2, max(look.high - look.low, 1e-6)
        drawn, outside = write_presentation(
            to, marks, image, window, lambda mark: mark.colour or colours.get(mark.cls, usual), words
        )
    else:
        known = [m for m in marks if any(v.name in NAMES and v.unit in UNITS for v in measured(m, scale, placed))]
        if not known:
            raise Trouble(f"Nothing is measured of “{marks.name}”", "draw lines, angles or areas")
        drawn, outside = write_report(to, marks, image, lambda mark: measured(mark, scale, placed))
    table = Table(
        f"{marks.name} beside {image.name}", [Column("mark"), Column("name"), Column("written"), Column("file")]
    )
    for mark in dict.fromkeys(one.mark.id for one in drawn):
        one = marks[mark]
        table.rows.append((mark, one.name, words(one) or one.shape, str(to)))
    table.rows += [(mark.id, mark.name, "lies in no slice", "") for mark in outside]
    return table
