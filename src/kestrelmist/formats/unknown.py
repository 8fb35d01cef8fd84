"""Files that cannot be opened: what they seem to be, and which open format to ask for."""

from __future__ import annotations

from pathlib import Path
from typing import NoReturn

from ..core.errors import Trouble
from .format import words_for

STARTS = (
    (b"%PDF", "a PDF document", "the images it was made from"),
    (b"PK\x03\x04", "a zip archive or an office document", "the files in it, unpacked"),
    (b"\x1f\x8b", "a gzip archive", "what is in it, unpacked, or .nii.gz"),
    (b"BZh", "a bzip2 archive", "what is in it, unpacked"),
    (b"7z\xbc\xaf", "an archive", "the files in it, unpacked"),
    (b"\xfd7zXZ", "an archive", "the files in it, unpacked"),
    (b"Rar!", "an archive", "the files in it, unpacked"),
    (b"\xd0\xcf\x11\xe0", "a document or a microscope's project file", "OME-TIFF from the program that wrote it"),
    (b"CDF", "a NetCDF file of another kind", "NIfTI, or MINC under a name that ends in .mnc"),
    (b"\x89HDF", "an HDF5 file of another kind", "OME-Zarr, NIfTI or MINC from the program that wrote it"),
    (b"MATLAB", "a matrix file", "NIfTI or TIFF from the program that wrote it"),
    (b"\x93NUMPY", "a bare array without a scale", "TIFF or NIfTI"),
    (b"GIF8", "a GIF picture or film", "PNG or TIFF"),
    (b"RIFF", "a film or a WebP picture", "PNG pictures or a TIFF series"),
    (b"\0\0\0\x1cftyp", "a film", "PNG pictures or a TIFF series"),
    (b"\0\0\0\x18ftyp", "a film", "PNG pictures or a TIFF series"),
    (b"\0\0\0 ftyp", "a film", "PNG pictures or a TIFF series"),
    (b"\0\0\0\x0cjP  ", "a JPEG 2000 picture", "TIFF"),
    (b"\xff\x4f\xff\x51", "a JPEG 2000 picture", "TIFF"),
    (b"8BPS", "a layered picture of a drawing program", "TIFF or PNG"),
    (b"solid ", "a surface", "the volume or the labels it was made from"),
    (b"ply", "a surface", "the volume or the labels it was made from"),
    (b"glTF", "a surface", "the volume or the labels it was made from"),
    (b"PAR1", "a Parquet table", "an image"),
    (b"SQLite format 3", "a database", "images as DICOM, NIfTI or TIFF"),
    (b"<?xml", "an XML text", "the image it speaks of"),
    (b"<svg", "a drawing", "PNG"),
    (b"{", "a JSON text", "the image it speaks of"),
    (b"#Insight Transform", "a transform, no image", "an image"),
    (b"\x7fELF", "a program", "an image"),
    (b"#!", "a script", "an image"),
    (b"v/raw", "raw values whose header is of a kind not read here", "NIfTI or NRRD"),
)
ENDINGS = {
    ".stl": ("a surface", "the volume or the labels it was made from"),
    ".obj": ("a surface", "the volume or the labels it was made from"),
    ".vtk": ("a grid for drawing", "NIfTI, NRRD or MetaImage"),
    ".vti": ("a grid for drawing", "NIfTI, NRRD or MetaImage"),
    ".par": ("a header whose values lie in a .rec file", "DICOM or NIfTI from the scanner"),
    ".rec": ("values whose header is elsewhere", "DICOM or NIfTI from the scanner"),
    ".raw": ("bare values without a header", "NIfTI, NRRD or MetaImage, which know size and scale"),
    ".img": ("values whose header is elsewhere", "the .hdr file beside it"),
    ".npy": ("a bare array without a scale", "TIFF or NIfTI"),
    ".npz": ("bare arrays without a scale", "TIFF or NIfTI"),
    ".mat": ("a matrix file", "NIfTI or TIFF from the program that wrote it"),
    ".csv": ("a table", "an image"),
    ".xlsx": ("a spreadsheet", "an image"),
    ".docx": ("a document", "the images in it"),
    ".avi": ("a film", "PNG pictures or a TIFF series"),
    ".mp4": ("a film", "PNG pictures or a TIFF series"),
    ".gif": ("a GIF picture or film", "PNG or TIFF"),
    ".webp": ("a WebP picture", "PNG or TIFF"),
    ".jp2": ("a JPEG 2000 picture", "TIFF"),
}


def seems(path: Path) -> tuple[str, str]:
    """What a file seems to be, and what to ask for instead; ("", "") when nothing tells."""
    try:
        with open(path, "rb") as stream:
            start = stream.read(64)
    except OSError:
        return "", ""
    if not start:
        return "an empty file", "it once more; the copy went wrong"
    for mark, what, instead in STARTS:
        if start.startswith(mark):
            return what, instead
    ending = path.suffix.lower()
    if ending in ENDINGS:
        return ENDINGS[ending]
    if b"\0" not in start and all(b >= 32 or b in b"\t\r\n\x0c" for b in start):
        return "a text", "an image"
    return "", ""


def refuse_unknown(path: Path) -> NoReturn:
    """Raises the Trouble that says what a file seems to be and what to ask for."""
    what, instead = seems(path)
    can = f"{words_for('image')} can be read"
    if what:
        raise Trouble(f"This seems to be {what}, which cannot be opened here", f"ask for {instead}; {can}", path)
    raise Trouble("Nobody here knows this kind of file", f"ask for an open format; {can}", path)
