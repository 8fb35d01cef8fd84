"""Transforms as files: ITK transform text, HDF5 and packed numbers, and sixteen numbers as plain text.

An ITK file maps points of the fixed image to points of the moving one, in axes that run left, back, up. Plain text is
the matrix itself, row by row, in the axes of this program: right, front, up.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from ..core.chain import PerVolume
from ..core.errors import Trouble
from ..core.mapping import Mapping
from ..core.progress import Progress
from ..core.safe_write import written_whole, written_whole_path
from ..core.transform import Transform
from .format import Format, register
from .itk_entries import entries_of_hdf5, entries_of_packed, entries_of_text
from .itk_transforms import TO_LPS, library_transform, mapping_of

ITK_START = b"#Insight Transform File"
MOST = 1 << 20


def read_itk_transform(path: Path) -> Mapping:
    """A transform from ITK text: one, or a chain of several.

    Raises
    ------
    Trouble
        When the file is damaged, of another dimension than 3, of a kind that is not known, or singular.
    """
    return mapping_of(entries_of_text(path), path)


def read_packed_transform(path: Path) -> Mapping:
    """An affine transform whose numbers are packed, as ITK writes it under .mat.

    Raises
    ------
    Trouble
        When it is none of three dimensions, or something else.
    """
    return mapping_of(entries_of_packed(path), path)


def write_itk_transform(path: Path, transform: Mapping, progress: Progress | None = None) -> None:
    """Write a transform as ITK text: an affine one as AffineTransform_double_3_3, one for every volume in a row, others
    as the library does. Raises Trouble for what such files cannot hold."""
    if isinstance(transform, (Transform, PerVolume)):
        matrices = [transform.matrix] if isinstance(transform, Transform) else list(transform.matrices)
        write_transform_list(path, matrices)
        return
    write_by_library(path, transform)


def write_by_library(path: Path, transform: Mapping, progress: Progress | None = None) -> None:
    """Write a transform as the library writes files of the name's ending. Raises Trouble for what they cannot hold."""
    import SimpleITK as sitk

    made = library_transform(transform)
    try:
        with written_whole_path(path) as beside:
            sitk.WriteTransform(made, str(beside))
    except RuntimeError as error:
        raise Trouble("This transform could not be written", "end the name in .tfm or .h5", path) from error


def write_packed(path: Path, transform: Mapping, progress: Progress | None = None) -> None:
    """Write an affine transform as packed numbers (.mat). Raises Trouble for others."""
    write_by_library(path, _only_affine(transform, path))


def _only_affine(transform: Mapping, path: Path) -> Transform:
    if not isinstance(transform, Transform):
        raise Trouble(
            f"“{transform.name}” is a {transform.words}, and this kind of file holds affine ones alone",
            "end the name in .tfm or .h5",
            path,
        )
    return transform


def read_hdf5_transform(path: Path) -> Mapping:
    """A transform from HDF5, as the library writes it. Raises Trouble when it is damaged or of a kind not known."""
    return mapping_of(entries_of_hdf5(path), path)


def write_transform_list(path: Path, matrices: Sequence[np.ndarray]) -> None:
    """Write several transforms (4, 4) as one ITK text, numbered from 0, each of kind AffineTransform_double_3_3: such
    as one for every volume of a series."""
    parts = [f"{ITK_START.decode()} V1.0\n", *(_itk_entry(n, m) for n, m in enumerate(matrices))]
    with written_whole(path) as stream:
        stream.write("".join(parts).encode())


def _itk_entry(number: int, matrix: np.ndarray) -> str:
    turned = TO_LPS @ matrix @ TO_LPS
    numbers = " ".join(f"{v:.17g}" for v in (*turned[:3, :3].ravel(), *turned[:3, 3]))
    return (
        f"#Transform {number}\nTransform: AffineTransform_double_3_3\nParameters: {numbers}\nFixedParameters: 0 0 0\n"
    )


def read_matrix_text(path: Path) -> Mapping:
    """A transform from a text of four rows of four numbers; lines that begin with # are passed over.

    Raises
    ------
    Trouble
        When there are not sixteen numbers, or the matrix is singular.
    """
    try:
        text = path.read_text(encoding="utf-8") if path.stat().st_size < MOST else ""
    except UnicodeDecodeError:
        text = "\0"
    if "\0" in text:
        return read_packed_transform(path)
    lines = [line for line in text.splitlines() if line.strip() and not line.lstrip().startswith("#")]
    try:
        rows = [[float(v) for v in re.split(r"[,;\s]+", line.strip())] for line in lines]
    except ValueError as error:
        raise Trouble("This text is no transform", "write four rows of four numbers", path) from error
    sizes = sorted({len(row) for row in rows})
    if len(rows) in (2, 3) and sizes == [len(rows)]:
        raise Trouble(f"This matrix has {len(rows)} rows, not four", "choose a transform of volumes", path)
    if len(rows) != 4 or sizes != [4]:
        raise Trouble("This text is no transform", "write four rows of four numbers", path)
    return _made(np.array(rows), path)


def write_matrix_text(path: Path, transform: Mapping, progress: Progress | None = None) -> None:
    """Write the matrix of an affine transform as four rows of four numbers. Raises Trouble for others."""
    rows = "".join(" ".join(f"{v:.17g}" for v in row) + "\n" for row in _only_affine(transform, path).matrix)
    with written_whole(path) as stream:
        stream.write(f"# positions in mm, right, front, up\n{rows}".encode())


def _made(matrix: np.ndarray, path: Path) -> Transform:
    try:
        return Transform(matrix, name=path.stem)
    except Trouble as trouble:
        raise Trouble(trouble.what, trouble.do, path) from None


def _is_itk(path: Path, start: bytes) -> bool:
    return start.startswith(ITK_START)


register(
    Format(
        "ITK transform",
        (".tfm", ".txt"),
        read_itk_transform,
        write_itk_transform,
        (".tfm",),
        (ITK_START,),
        _is_itk,
        ("transform",),
    )
)
register(
    Format(
        "matrix text",
        (".txt", ".mat", ".dat", ".xfm"),
        read_matrix_text,
        write_matrix_text,
        (".txt",),
        fits=lambda path, start: not _is_itk(path, start),
        holds=("transform",),
    )
)
register(
    Format(
        "ITK transform (HDF5)",
        (".h5", ".hdf5"),
        read_hdf5_transform,
        write_by_library,
        (".h5",),
        (b"\x89HDF\r\n\x1a\n",),
        holds=("transform",),
        listed=False,
    )
)
register(Format("packed matrix", (".mat",), None, write_packed, (".mat",), holds=("transform",), listed=False))
