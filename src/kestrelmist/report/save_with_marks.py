"""An image saved for later together with its marks, which stay editable."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

from ..core.errors import Trouble
from ..core.geometry.marks import Marks
from ..core.image import Image
from ..core.left_out import OwnerOf
from ..core.operation import operation
from ..core.parameter import NewPath
from ..core.progress import Progress, silent
from ..core.safe_write import require_new
from ..core.table import Column, Table
from ..formats.tiff_write import save_ome_tiff

ENDINGS = (".ome.tif", ".ome.tiff")


@operation(
    "report",
    "Save with marks",
    name="save-with-marks",
    keywords="ome tiff regions export annotations editable for later share",
    takes="series colour",
    called={"to": "New file"},
    group="Pictures",
)
def save_with_marks(
    image: Annotated[Image, OwnerOf("marks")],
    marks: Marks,
    to: NewPath,
    *,
    replace: bool = False,
    progress: Progress = silent(),
) -> Table:
    """Write an image as OME-TIFF with its marks as regions of the standard, which other programs show and change.

    Values stay exactly as they are. What the standard has no field for (classes, notes, how sure a mark is) stands in
    words of our own beside, so that `take-marks` brings all of it back; what another program has moved comes as that
    has left it.

    Parameters
    ----------
    to : path
        The new file: .ome.tif.
    replace : bool
        Take the place of a file of that name.

    Returns
    -------
    Table
        The file, how many marks it holds, and how many lie in no slice: those other programs do not see.

    Raises
    ------
    Trouble
        When the marks are of another image, or the file cannot be written.
    """
    to = Path(to)
    if not to.name.lower().endswith(ENDINGS):
        raise Trouble("An image is saved with its marks as .ome.tif", "name such a file", to)
    require_new(to, replace)
    outside = save_ome_tiff(to, image, progress, marks)
    columns = [Column("image"), Column("file"), Column("marks"), Column("in no slice")]
    return Table(f"{image.name} with {marks.name}", columns, [(image.name, str(to), len(marks), outside)])
