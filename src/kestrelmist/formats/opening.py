"""Open any readable image, whatever its format."""

from __future__ import annotations

from pathlib import Path

from ..core.errors import Trouble
from ..core.image import Image
from ..core.progress import Progress, silent
from ..core.regular import require_regular
from .dicom.header import starts_as_dicom
from .dicom.scan import scan_files, scan_folder
from .dicom.series import matches_mark, series_image
from .format import FORMATS, format_of, words_for
from .unknown import refuse_unknown


def open_image(path: str | Path, progress: Progress | None = None, spacing=None, series: str | None = None) -> Image:
    """The single image that a file or folder holds, values still on disk.

    Parameters
    ----------
    path : path
    spacing : three mm, optional
        Voxel size for NIfTI files whose own position matrix is of no use.
    series : text, optional
        Name or identifier of the series to take when a folder holds several.

    Raises
    ------
    Trouble
        When there is none, it is damaged, or there are several to choose from.
    """
    path = Path(path)
    if not path.exists():
        raise Trouble("There is no file or folder of this name", "check the name", path)
    require_regular(path)
    known = format_of(path)
    if known is not None:
        return known.open(path, spacing)
    if path.is_file():
        with open(path, "rb") as stream:
            start = stream.read(160)
        if not starts_as_dicom(start) and path.name.upper() != "DICOMDIR":
            refuse_unknown(path)
    found = scan_folder(path, progress)
    if series is not None:
        named = [s for s in found if series.casefold() in (s.description.casefold(), s.uid)]
        if not named:
            have = ", ".join(f"“{s.description}”" for s in found)
            raise Trouble(f"There is no series “{series}” here", f"choose one of: {have}", path)
        found = named
    if len(found) > 1:
        names = "; ".join(f"“{s.description}” ({s.depth} slices)" for s in found)
        raise Trouble(
            f"This folder holds {len(found)} series: {names}",
            "write the name of one behind the folder, as in “folder#name”, or gather the folder into a study",
            path,
        )
    return series_image(found[0])


def reopened_image(kind: str, files: list[Path], reading: dict, progress: Progress | None = None) -> Image:
    """An image opened again from the files and the way of reading that its origin noted (see `core.image.Origin`); as
    older versions read it when that says `before`."""
    progress = progress or silent()
    if kind == "DICOM":
        found = scan_files(files, progress)
        mark = reading.get("series")
        series = next((s for s in found if matches_mark(s, mark)), None) if mark else found[0] if found else None
        if series is None:
            raise Trouble("The files no longer hold the series that was taken in", "gather them again", files[0].parent)
        return series_image(series, reading.get("uneven", "mend" if reading.get("mended") else "refuse"), facts=False)
    if kind == "sequence":
        from .sequence import read_sequence

        return read_sequence(files, reading.get("along", "time"), bool(reading.get("before")))
    known = FORMATS.get(kind) or format_of(files[0])
    if known is None:
        raise Trouble("This kind of file cannot be opened", f"{words_for('image')} can be read", files[0])
    if reading.get("before"):
        return known.open_before(files[0], reading.get("spacing"))
    return known.open(files[0], reading.get("spacing"))
