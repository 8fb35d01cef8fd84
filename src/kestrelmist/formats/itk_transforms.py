"""Transforms as the ITK library holds them, in its own files: text, HDF5 and packed numbers.

An ITK transform maps points of the fixed image to points of the moving one, in axes that run left, back, up. Of a
composite the last one that was added is applied first.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from ..core.chain import Chain, PerVolume, joined
from ..core.displacement import DisplacementField
from ..core.errors import Trouble
from ..core.mapping import Mapping
from ..core.space import Space
from ..core.transform import Transform
from ..core.turned_round import TurnedRound

TO_LPS = np.diag([-1.0, -1.0, 1.0, 1.0])
TURN = np.array([-1.0, -1.0, 1.0])
COMPOSITE = 7
"""SimpleITK's number of composite transforms; sitkComposite."""


def mapping_of(found: Any, path: Path) -> Mapping:
    """A transform of the library as a mapping.

    Raises
    ------
    Trouble
        When it is of another dimension than 3, of a kind that is not known, or singular.
    """
    import SimpleITK as sitk

    if found.GetDimension() != 3:
        raise Trouble(f"This transform has {found.GetDimension()} dimensions", "choose a transform of volumes", path)
    if found.GetTransformEnum() == sitk.sitkComposite:
        composite = sitk.CompositeTransform(found)
        steps = [mapping_of(composite.GetNthTransform(n), path) for n in range(composite.GetNumberOfTransforms())]
        if not steps:
            raise Trouble("This transform file holds no transform", "write it again", path)
        whole = steps[-1]
        for step in reversed(steps[:-1]):
            whole = joined(whole, step)
        return whole.named(path.stem)
    try:
        if found.GetTransformEnum() == sitk.sitkDisplacementField:
            field = sitk.DisplacementFieldTransform(found).GetDisplacementField()
            return field_of(sitk.GetArrayFromImage(field), _space_of(field), path.stem)
        if found.IsLinear():
            return _affine(found, path)
    except Trouble as trouble:
        raise Trouble(trouble.what, trouble.do, path) from None
    raise Trouble(
        f"A transform of the kind {found.GetName()} cannot be opened",
        "write it as a displacement field, or its affine part",
        path,
    )


def _affine(found: Any, path: Path) -> Transform:
    corners = np.array([(0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1)], float)
    moved = np.array([found.TransformPoint(tuple(c)) for c in corners.tolist()])
    matrix = np.eye(4)
    matrix[:3, :3] = (moved[1:] - moved[0]).T
    matrix[:3, 3] = moved[0]
    return Transform(TO_LPS @ matrix @ TO_LPS, name=path.stem)


def _space_of(image: Any) -> Space:
    affine = np.eye(4)
    affine[:3, :3] = np.array(image.GetDirection()).reshape(3, 3) * np.array(image.GetSpacing())
    affine[:3, 3] = image.GetOrigin()
    i, j, k = image.GetSize()
    return Space((i, j, k), TO_LPS @ affine)


def field_of(vectors: np.ndarray, space: Space, name: str) -> DisplacementField:
    """A field from vectors [k, j, i, 3] that run left, back, up."""
    shifts = np.transpose(vectors, (2, 1, 0, 3)).astype(np.float32) * TURN.astype(np.float32)
    return DisplacementField(shifts, space, name=name)


def library_transform(mapping: Mapping) -> Any:
    """A mapping as a transform of the library.

    Raises Trouble for what its files cannot hold: the way back of a field, and transforms of single volumes.
    """
    import SimpleITK as sitk

    if isinstance(mapping, Transform):
        turned = TO_LPS @ mapping.matrix @ TO_LPS
        made = sitk.AffineTransform(3)
        made.SetMatrix(turned[:3, :3].ravel().tolist())
        made.SetTranslation(turned[:3, 3].tolist())
        return made
    if isinstance(mapping, DisplacementField):
        return sitk.DisplacementFieldTransform(field_image(mapping))
    if isinstance(mapping, Chain):
        composite = sitk.CompositeTransform(3)
        for step in reversed(mapping.steps):
            composite.AddTransform(library_transform(step))
        return composite
    raise Trouble(f"“{mapping.name}” is {mapping.words}, which this kind of file cannot hold", _instead(mapping))


def _instead(mapping: Mapping) -> str:
    if isinstance(mapping, TurnedRound):
        return "turn it round first and write that, or write the field that leads this way (“Field of a transform”)"
    return "write the transform of one volume" if isinstance(mapping, PerVolume) else "write its parts"


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
