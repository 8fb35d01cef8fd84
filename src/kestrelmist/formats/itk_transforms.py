"""Transforms as the ITK library holds them, in its own files: text, HDF5 and packed numbers.

An ITK transform maps points of the fixed image to points of the moving one, in axes that run left, back, up. Of a
composite the last one that was added is applied first.
"""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

import numpy as np

from ..core.chain import Chain, PerVolume, joined
from ..core.displacement import DisplacementField
from ..core.errors import Trouble
from ..core.field_from import as_field
from ..core.mapping import Mapping
from ..core.space import Space
from ..core.transform import Transform
from ..core.turned_round import TurnedRound
from ..core.warp import Warp
from .itk_entries import Entry

TO_LPS = np.diag([-1.0, -1.0, 1.0, 1.0])
TURN = np.array([-1.0, -1.0, 1.0])
SINGULAR = 1e-9
"""Below which the determinant of directions is taken for nought."""
LINEAR = frozenset(
    f"{kind}Transform"
    for kind in (
        *("Affine", "CenteredAffine", "FixedCenterOfRotationAffine", "ScalableAffine", "Euler3D", "CenteredEuler3D"),
        *("Rigid3D", "QuaternionRigid", "Versor", "VersorRigid3D", "Similarity3D", "Scale", "ScaleLogarithmic"),
        *("ScaleVersor3D", "ScaleSkewVersor3D", "ComposeScaleSkewVersor3D", "Translation", "Identity"),
    )
) | {"MatrixOffsetTransformBase"}
"""Kinds that are a matrix, which the library works out."""
MOST_NUMBERS = 64
"""Of a linear transform; none has as many."""


def mapping_of(entries: list[Entry], path: Path) -> Mapping:
    """The transforms of a file as a mapping: of several the last one comes first, as in a composite.

    Raises
    ------
    Trouble
        When one is of a kind that is not known, singular, or has other numbers than its kind.
    """
    try:
        steps = [_step(entry, path) for entry in entries]
    except Trouble as trouble:
        raise Trouble(trouble.what, trouble.do, path) from None
    whole = steps[-1]
    for step in reversed(steps[:-1]):
        whole = joined(whole, step)
    return whole.named(path.stem)


def _step(entry: Entry, path: Path) -> Mapping:
    if entry.kind == "DisplacementFieldTransform":
        return _field(entry, path.stem)
    if entry.kind in LINEAR and entry.parameters.size + entry.fixed.size <= MOST_NUMBERS:
        return Transform(TO_LPS @ _matrix(entry) @ TO_LPS, name=path.stem)
    raise Trouble(
        f"A transform of the kind {entry.kind} cannot be opened",
        "write it as a displacement field, or its affine part",
    )


def _matrix(entry: Entry) -> np.ndarray:
    """The matrix of a linear transform, in axes that run left, back, up; worked out by the library."""
    import SimpleITK as sitk

    numbers = [" ".join(f"{v:.17g}" for v in row) for row in (entry.parameters, entry.fixed)]
    text = "#Insight Transform File V1.0\n#Transform 0\nTransform: {}_double_3_3\nParameters: {}\nFixedParameters: {}\n"
    with tempfile.TemporaryDirectory() as place:
        beside = Path(place) / "one.tfm"
        beside.write_text(text.format(entry.kind, *numbers))
        try:
            found = sitk.ReadTransform(str(beside))
        except RuntimeError as error:
            raise Trouble("This transform file is damaged", "write it again") from error
    corners = np.array([(0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1)], float)
    moved = np.array([found.TransformPoint(tuple(c)) for c in corners.tolist()])
    matrix = np.eye(4)
    matrix[:3, :3] = (moved[1:] - moved[0]).T
    matrix[:3, 3] = moved[0]
    return matrix


def _field(entry: Entry, name: str) -> DisplacementField:
    """A field from a row of vectors; its fixed numbers are size, origin, spacing and directions."""
    size, fixed = entry.fixed[:3], entry.fixed
    whole = fixed.size == 18 and (size >= 1).all() and (size == np.round(size)).all()
    if not whole or entry.parameters.size != 3 * float(np.prod(size)):
        raise Trouble("This displacement field has other numbers than its grid says", "write it again")
    i, j, k = (int(n) for n in size)
    affine = np.eye(4)
    affine[:3, :3] = fixed[9:18].reshape(3, 3) * fixed[6:9]
    affine[:3, 3] = fixed[3:6]
    if not (fixed[6:9] > 0).all() or abs(np.linalg.det(fixed[9:18].reshape(3, 3))) < SINGULAR:
        raise Trouble("The grid of this displacement field has no directions in space", "write it again")
    return field_of(entry.parameters.reshape(k, j, i, 3), Space((i, j, k), TO_LPS @ affine), name)


def field_of(vectors: np.ndarray, space: Space, name: str) -> DisplacementField:
    """A field from vectors [k, j, i, 3] that run left, back, up."""
    shifts = np.transpose(vectors, (2, 1, 0, 3)).astype(np.float32) * TURN.astype(np.float32)
    return DisplacementField(shifts, space, name=name)


def library_transform(mapping: Mapping) -> Any:
    """A mapping as a transform of the library.

    The way back of a field is worked out on a grid. Raises Trouble for what its files cannot hold: transforms of single
    volumes, and splines.
    """
    import SimpleITK as sitk

    if isinstance(mapping, Transform):
        turned = TO_LPS @ mapping.matrix @ TO_LPS
        made = sitk.AffineTransform(3)
        made.SetMatrix(turned[:3, :3].ravel().tolist())
        made.SetTranslation(turned[:3, 3].tolist())
        return made
    if isinstance(mapping, Warp):
        mapping = mapping.as_field()
    if isinstance(mapping, TurnedRound):
        mapping = as_field(mapping)
    if isinstance(mapping, DisplacementField):
        return sitk.DisplacementFieldTransform(field_image(mapping))
    if isinstance(mapping, Chain):
        composite = sitk.CompositeTransform(3)
        for step in reversed(mapping.steps):
            composite.AddTransform(library_transform(step))
        return composite
    raise Trouble(f"“{mapping.name}” is {mapping.words}, which this kind of file cannot hold", _instead(mapping))


def _instead(mapping: Mapping) -> str:
    if isinstance(mapping, PerVolume):
        return "write the transform of one volume"
    return "write the field that does the same (“Field of a transform”)"


def field_image(field: DisplacementField) -> Any:
    """A field as an image of the library: three numbers a voxel that run left, back, up."""
    import SimpleITK as sitk

    vectors = np.ascontiguousarray(np.transpose(np.asarray(field.shifts, np.float64) * TURN, (2, 1, 0, 3)))
    image = sitk.GetImageFromArray(vectors, isVector=True)
    affine = TO_LPS @ field.space.affine
    spacing = np.linalg.norm(affine[:3, :3], axis=0)
    image.SetOrigin(affine[:3, 3].tolist())
    image.SetSpacing(spacing.tolist())
    image.SetDirection((affine[:3, :3] / spacing).ravel().tolist())
    return image
