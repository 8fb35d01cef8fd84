"""Displacement fields as NIfTI: five dimensions, the last of three, with an intent that says what they are.

With intent 1006 (displacements) the numbers run to the right, front and up, as positions of NIfTI do; with 1007
(vectors) to the left, back and up, as the ITK library writes them.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np

from ..core.displacement import DisplacementField
from ..core.errors import Trouble
from ..core.field_from import as_field
from ..core.mapping import Mapping
from ..core.progress import Progress
from ..core.safe_write import written_whole_path
from ..core.space import Space
from ..core.warp import Warp
from .format import Format, register
from .itk_transforms import TURN

DISPLACEMENTS, VECTORS = 1006, 1007
ENDINGS = (".nii.gz", ".nii")


def read_field(path: Path) -> DisplacementField:
    """A displacement field from NIfTI.

    Raises
    ------
    Trouble
        When it is an image, its intent is another, or some shift is no number.
    """
    import nibabel as nib

    file = nib.load(path)
    header = file.header
    intent, shape = int(header["intent_code"]), file.shape
    if len(shape) != 5 or shape[3] != 1 or shape[4] != 3:
        raise Trouble(
            f"This file holds {' × '.join(map(str, shape))} numbers, and a displacement field is one of"
            " i × j × k × 1 × 3",
            "choose the file of the field",
            path,
        )
    if intent not in (DISPLACEMENTS, VECTORS):
        raise Trouble(
            f"The intent of this file is {intent}, and that of a displacement field is {DISPLACEMENTS} or {VECTORS}",
            "write it as a displacement field",
            path,
        )
    unit = header.get_xyzt_units()[0]
    if unit not in ("mm", "unknown"):
        raise Trouble(f"The lengths of this file are in {unit}, and shifts are read in mm", "write it in mm", path)
    shifts = np.asarray(file.dataobj, np.float32)[:, :, :, 0]
    if intent == VECTORS:
        shifts = shifts * TURN.astype(np.float32)
    i, j, k = shape[:3]
    try:
        return DisplacementField(shifts, Space((i, j, k), np.array(file.affine, float)), name=_name(path))
    except Trouble as trouble:
        raise Trouble(trouble.what, trouble.do, path) from None


def _name(path: Path) -> str:
    return next(path.name[: -len(ending)] for ending in ENDINGS if path.name.lower().endswith(ending))


def write_field(path: Path, mapping: Mapping, progress: Progress | None = None) -> None:
    """Write a displacement field as NIfTI of vectors (intent 1007). Raises Trouble for other mappings."""
    import nibabel as nib

    mapping = mapping.as_field() if isinstance(mapping, Warp) else as_field(mapping)
    if not isinstance(mapping, DisplacementField):
        raise Trouble(
            f"“{mapping.name}” is {mapping.words}, and NIfTI holds displacement fields alone",
            "end the name in .tfm or .h5, or make a field of it (“Field of a transform”)",
            path,
        )
    shifts = (np.asarray(mapping.shifts) * TURN.astype(np.float32))[:, :, :, None]
    file = nib.Nifti1Image(shifts, mapping.space.affine)
    file.header.set_intent(VECTORS)
    file.header.set_xyzt_units("mm")
    with written_whole_path(path) as beside:
        nib.save(file, beside)


def _is_field(path: Path, start: bytes) -> bool:
    import gzip
    import zlib

    try:
        with (gzip.open if start[:2] == b"\x1f\x8b" else open)(path, "rb") as stream:
            head = stream.read(80)
    except (OSError, EOFError, zlib.error):
        return False
    if len(head) < 80:
        return False
    order = "little" if int.from_bytes(head[:4], "little") == 348 else "big"
    dims = [int.from_bytes(head[40 + 2 * n : 42 + 2 * n], order) for n in range(8)]  # type: ignore[arg-type]
    return dims[0] == 5 and dims[5] == 3


register(
    Format(
        "displacement field (NIfTI)",
        ENDINGS,
        read_field,
        write_field,
        ENDINGS,
        fits=_is_field,
        holds=("transform",),
        listed=False,
    )
)
