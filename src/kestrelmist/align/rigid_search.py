"""How two images of one body lie to one another when their contrasts differ: six numbers by mutual information."""

from __future__ import annotations

import numpy as np

from ..core.errors import Trouble
from ..core.progress import Progress
from ..core.space import Space
from ..core.watched import execute

BINS, SAMPLES, STEPS = 32, 60_000, 120
LEVELS = ((2, 1.0), (1, 0.5))
"""How much coarser, and smoothed by how many voxels."""


def found_movement(
    fixed: np.ndarray,
    fixed_space: Space,
    moving: np.ndarray,
    moving_space: Space,
    inside: np.ndarray,
    progress: Progress,
) -> np.ndarray:
    """The matrix (4, 4) that leads from a place in the world of `fixed` to where it is found in `moving`.

    Mutual information (D. Mattes et al., IEEE Trans. Med. Imaging 22, 2003) over two levels, from SimpleITK, beginning
    where both lie.

    Parameters
    ----------
    fixed, moving : float32 arrays [k, j, i]
        Without missing values.
    inside : bool array [k, j, i]
        Which voxels of `fixed` are compared.

    Raises
    ------
    Trouble
        When nothing is found.
    """
    import SimpleITK as sitk

    centre = fixed_space.centre
    one, other = _as_sitk(fixed, fixed_space), _as_sitk(moving, moving_space)
    mask = _as_sitk(inside.astype(np.uint8), fixed_space)
    start = sitk.Euler3DTransform()
    start.SetCenter([float(v) for v in centre])
    method = sitk.ImageRegistrationMethod()
    method.SetMetricAsMattesMutualInformation(BINS)
    method.SetMetricFixedMask(mask)
    share = min(1.0, SAMPLES / max(int(inside.sum()), 1))
    method.SetMetricSamplingStrategy(method.REGULAR if share < 1 else method.NONE)
    method.SetMetricSamplingPercentage(share, 1)
    method.SetInterpolator(sitk.sitkLinear)
    method.SetOptimizerAsRegularStepGradientDescent(
        1.0, 1e-3 * min(fixed_space.spacing), STEPS, 0.6, gradientMagnitudeTolerance=1e-8
    )
    method.SetOptimizerScalesFromPhysicalShift()
    method.SetShrinkFactorsPerLevel([n if min(fixed.shape) >= 32 * n else 1 for n, _ in LEVELS])
    method.SetSmoothingSigmasPerLevel([s for _, s in LEVELS])
    method.SmoothingSigmasAreSpecifiedInPhysicalUnitsOff()
    method.SetInitialTransform(start, inPlace=True)

    try:
        execute(
            method,
            sitk.sitkIterationEvent,
            lambda: progress.at(min(method.GetOptimizerIteration() / STEPS, 1.0), "Lining up"),
            one,
            other,
        )
    except RuntimeError as error:
        raise Trouble("The two could not be lined up", "leave lining up out, or place one by hand") from error
    progress.at(1.0)
    shift = np.array(start.GetTranslation())
    turned = np.array(start.GetMatrix()).reshape(3, 3)
    matrix = np.eye(4)
    matrix[:3, :3] = turned
    matrix[:3, 3] = np.array(centre) + shift - turned @ np.array(centre)
    return matrix


def _as_sitk(values: np.ndarray, space: Space):
    """An image in SimpleITK with the world's axes as they are here."""
    import SimpleITK as sitk

    made = sitk.GetImageFromArray(np.ascontiguousarray(values))
    made.SetSpacing([float(s) for s in space.spacing])
    made.SetOrigin([float(v) for v in space.affine[:3, 3]])
    made.SetDirection((space.affine[:3, :3] / np.array(space.spacing)).ravel().tolist())
    return made
