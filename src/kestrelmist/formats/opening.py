"""Open any readable file or folder, whatever its format."""

from __future__ import annotations

import importlib
from dataclasses import dataclass
from pathlib import Path

from ..core.errors import Trouble
from ..core.image import Image
from ..core.progress import Progress, silent
from .dicom_header import starts_as_dicom
from .dicom_scan import scan_files, scan_folder
from .dicom_series import matches_mark, series_image
from .guarded import guard


@dataclass(frozen=True)
class Format:
    """A family of files and the module that reads it.

    Parameters
    ----------
    name : str
    endings : tuple of str
        Endings of the file names, in small letters.
    starts : tuple of bytes
        First bytes that tell the format whatever the name.
    module, reader : str
        `reader(path)` or `reader(path, spacing)` of that module gives the image.
    folder : bool
        The "file" is a folder.
    """

    name: str
    endings: tuple[str, ...]
    module: str
    reader: str
    starts: tuple[bytes, ...] = ()
    folder: bool = False

    def read(self, path: Path, spacing=None) -> Image:
        """The image; every kind of damage comes out as a Trouble."""
        read = getattr(importlib.import_module(f"{__package__}.{self.module}"), self.reader)
        try:
            return guard(read(path, spacing) if self.name == "NIfTI" else read(path), path)
        except (Trouble, MemoryError):
            raise
        except FileNotFoundError as error:
            raise Trouble("This file does not exist", "check the name", path) from error
        except PermissionError as error:
            raise Trouble("This file may not be read", "ask for permission to read it", path) from error
        except Exception as error:  # a damaged file breaks libraries in many ways, and all mean the same to a person
            raise Trouble(f"This {self.name} file is damaged", "copy it again or convert it anew", path) from error


FORMATS = (
    Format("NIfTI", (".nii", ".nii.gz", ".nii.bz2", ".hdr"), "nifti", "read_nifti"),
    Format("NRRD", (".nrrd", ".nhdr"), "nrrd_files", "read_nrrd", (b"NRRD000",)),
    Format("MetaImage", (".mha", ".mhd"), "metaimage", "read_metaimage"),
    Format("MGH", (".mgh", ".mgz", ".mgh.gz"), "mgh", "read_mgh"),
    Format("OME-Zarr", (".zarr",), "ome_zarr", "read_ome_zarr", folder=True),
    Format("TIFF", (".tif", ".tiff", ".btf"), "tiff", "read_tiff", (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+")),
    Format("picture", (".png", ".jpg", ".jpeg", ".bmp"), "pictures", "read_picture", (b"\x89PNG", b"\xff\xd8\xff")),
    Format("X3P", (".x3p",), "x3p", "read_x3p"),
    Format("height matrix", (".txt", ".asc", ".dat", ".xyz"), "height_matrix", "read_height_matrix"),
)
WORDS = "DICOM, NIfTI, NRRD, MetaImage, MGH, TIFF, OME-Zarr, PNG, JPEG, BMP, X3P and height matrices can be read"


def format_of(path: Path) -> Format | None:
    """The format of a file or a folder that is one image, by its first bytes and its name; None for DICOM and the unknown."""
    name = path.name.lower()
    if path.is_dir():
        return next((f for f in FORMATS if f.folder and (name.endswith(f.endings) or is_zarr_folder(path))), None)
    try:
        with open(path, "rb") as stream:
            start = stream.read(160)
    except OSError:
        start = b""
    if start[128:132] == b"DICM":
        return None
    by_name = next((f for f in FORMATS if not f.folder and name.endswith(f.endings)), None)
    by_start = next((f for f in FORMATS if f.starts and start.startswith(f.starts)), None)
    return by_start or by_name


def is_zarr_folder(path: Path) -> bool:
    return (path / ".zgroup").is_file() or (path / "zarr.json").is_file()


def image_name(path: Path) -> str:
    """A file's name without the endings of its format."""
    name = path.name
    for ending in (".gz", ".bz2", ".ome.zarr", ".ome.tiff", ".ome.tif", *(e for f in FORMATS for e in f.endings)):
        if name.lower().endswith(ending) and len(name) > len(ending):
            name = name[:-len(ending)]
    return name


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
    known = format_of(path)
    if known is not None:
        return known.read(path, spacing)
    if path.is_file():
        with open(path, "rb") as stream:
            start = stream.read(160)
        if not starts_as_dicom(start) and path.name.upper() != "DICOMDIR":
            raise Trouble("This kind of file cannot be opened", WORDS, path)
    found = scan_folder(path, progress)
    if series is not None:
        found = [s for s in found if series.casefold() in (s.description.casefold(), s.uid)] or found
    if len(found) > 1:
        names = "; ".join(f"“{s.description}” ({s.depth} slices)" for s in found)
        raise Trouble(f"This folder holds {len(found)} series: {names}", "choose one by its name (--series), or gather the folder into a study", path)
    return series_image(found[0])


def reopened_image(kind: str, files: list[Path], reading: dict, progress: Progress | None = None) -> Image:
    """An image opened again from the files and the way of reading that its origin noted (see `core.image.Origin`)."""
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

        return read_sequence(files, reading.get("along", "time"))
    known = next((f for f in FORMATS if f.name == kind), None) or format_of(files[0])
    if known is None:
        raise Trouble("This kind of file cannot be opened", WORDS, files[0])
    return known.read(files[0], reading.get("spacing"))
