"""Affine transforms as files: ITK transform text, and sixteen numbers as plain text.

An ITK file maps points of the fixed image to points of the moving one, in axes that run left, back, up. Plain text is
the matrix itself, row by row, in the axes of this program: right, front, up.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from ..core.errors import Trouble
from ..core.progress import Progress
from ..core.safe_write import written_whole
from ..core.transform import Transform
from .format import Format, register

ITK_START = b"#Insight Transform File"
TO_LPS = np.diag([-1.0, -1.0, 1.0, 1.0])
MOST = 1 << 20


def read_itk_transform(path: Path) -> Transform:
    """An affine transform from ITK text: one, or a chain of several that are affine.

    Raises
    ------
    Trouble
        When the file is damaged, of another dimension than 3, bends space, or is singular.
    """
    import SimpleITK as sitk

    if path.stat().st_size > MOST:
        raise Trouble("This transform bends space, and only affine ones can be opened", "write its affine part", path)
    text = path.read_text(encoding="latin-1")
    kinds = re.findall(r"^Transform:\s*(\S+)", text, re.M)
    flat = next((k for k in kinds if re.search(r"_[124]_[124]$", k)), None)
    if flat:
        raise Trouble(f"This transform ({flat}) is not one of three dimensions", "choose a transform of volumes", path)
    if not _is_whole(text):
        raise Trouble("This transform file is damaged", "write it again", path)
    try:
        found = sitk.ReadTransform(str(path))
    except RuntimeError as error:
        raise Trouble("This transform file is damaged", "write it again", path) from error
    return _affine(found, path)


def _affine(found, path: Path) -> Transform:
    """The matrix of a transform of the library."""
    if found.GetDimension() != 3:
        raise Trouble(f"This transform has {found.GetDimension()} dimensions", "choose a transform of volumes", path)
    if not found.IsLinear():
        raise Trouble("This transform bends space, and only affine ones can be opened", "write its affine part", path)
    corners = np.array([(0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1)], float)
    moved = np.array([found.TransformPoint(tuple(c)) for c in corners.tolist()])
    matrix = np.eye(4)
    matrix[:3, :3] = (moved[1:] - moved[0]).T
    matrix[:3, 3] = moved[0]
    return _made(TO_LPS @ matrix @ TO_LPS, path)


def read_packed_transform(path: Path) -> Transform:
    """An affine transform whose numbers are packed, as ITK writes it under .mat.

    Raises
    ------
    Trouble
        When it is none of three dimensions, or something else.
    """
    import SimpleITK as sitk

    try:
        found = sitk.ReadTransform(str(path))
    except RuntimeError as error:
        raise Trouble(
            "This file holds numbers that are packed, and no transform that ITK could have written",
            "write it as text, four rows of four numbers or ITK's",
            path,
        ) from error
    return _affine(found, path)


def _is_whole(text: str) -> bool:
    """Whether every transform of an ITK text has its numbers: a file that was cut short is read without complaint."""
    parts = re.split(r"^Transform:", text, flags=re.M)[1:]
    for part in parts:
        kind = part.split()[0] if part.split() else ""
        lines = dict(re.findall(r"^(Parameters|FixedParameters):(.*)$", part, re.M))
        fixed = len(lines.get("FixedParameters", "").split())
        if not kind.startswith("Composite") and (len(lines) < 2 or fixed < (0 if kind.startswith("Trans") else 3)):
            return False
    return bool(parts)


def write_itk_transform(path: Path, transform: Transform, progress: Progress | None = None) -> None:
    """Write a transform as ITK text of kind AffineTransform_double_3_3."""
    write_transform_list(path, [transform.matrix])


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


def read_matrix_text(path: Path) -> Transform:
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


def write_matrix_text(path: Path, transform: Transform, progress: Progress | None = None) -> None:
    """Write the matrix of a transform as four rows of four numbers."""
    rows = "".join(" ".join(f"{v:.17g}" for v in row) + "\n" for row in transform.matrix)
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
