"""Preparing volumes and series, against the library that is usually taken for it."""

from __future__ import annotations

import time

import numpy as np
from scipy import ndimage

from kestrelmist.align.rigid_fit import Reference
from kestrelmist.core.resampling import How, resampled
from kestrelmist.core.rigid import matrix_of
from kestrelmist.core.space import Space
from kestrelmist.prepare.intensity.denoise import non_local_means

from .row import Row, in_turn


def rows() -> list[Row]:
    return [*_resampling(), *_motion(), *_noise()]


def _resampling() -> list[Row]:
    """256³ turned by ten degrees."""
    import SimpleITK as sitk

    values = np.random.default_rng(1).normal(size=(256,) * 3).astype(np.float32)
    a = np.radians(10)
    turn = np.array([[np.cos(a), -np.sin(a), 0], [np.sin(a), np.cos(a), 0], [0, 0, 1]])
    middle = np.full(3, 127.5)
    frame = np.column_stack([turn, middle - turn @ middle])
    image, transform = sitk.GetImageFromArray(values), sitk.AffineTransform(3)
    transform.SetMatrix(turn.ravel().tolist())
    transform.SetTranslation(frame[:, 3].tolist())
    found = []
    ways: list[tuple[How, int]] = [("linear", sitk.sitkLinear), ("cubic", sitk.sitkBSpline)]
    for how, theirs in ways:
        resampled(values[:8], frame, (8, 8, 8), how)
        mine, other = in_turn(
            lambda how=how: resampled(values, frame, (256,) * 3, how),
            lambda theirs=theirs: sitk.Resample(image, image, transform, theirs, 0.0),
            2,
        )
        met = mine / other <= 0.5
        found.append(Row(f"resample 256³ turned by 10°, {how}", mine, other, "SimpleITK", "ratio ≤ 0.5", met=met))
    return found


def moved_head(shape=(64, 72, 48), count: int = 4) -> tuple[Space, np.ndarray, list[np.ndarray], list[np.ndarray]]:
    """A textured head at 3 mm [k, j, i], and volumes of it that are turned and shifted, with noise of 2 %."""
    rng = np.random.default_rng(0)
    affine = np.diag([3.0, 3.0, 3.0, 1.0])
    affine[:3, 3] = (-95, -107, -70)
    space = Space(shape, affine)
    away = space.to_world(np.indices(shape).reshape(3, -1).T) - space.centre
    radius = np.sqrt(((away / (70, 85, 60)) ** 2).sum(1)).reshape(shape)
    texture = ndimage.gaussian_filter(rng.standard_normal(shape), 1.6)
    head = (1000 * np.clip((1 - radius) * 8, 0, 1) * (1 + 0.18 * texture / texture.std())).astype(np.float32).T
    volumes, matrices = [], []
    for _ in range(count):
        matrix = matrix_of((*rng.normal(0, 0.8, 3), *np.radians(rng.normal(0, 0.8, 3))), space.centre)
        frame = (space.inverse @ np.linalg.inv(matrix) @ space.affine)[:3]
        moved = resampled(head, frame, shape, "cubic", 0.0)
        volumes.append(moved + rng.normal(0, 20, moved.shape).astype(np.float32))
        matrices.append(matrix)
    return space, head + rng.normal(0, 20, head.shape).astype(np.float32), volumes, matrices


def _motion() -> list[Row]:
    """A volume onto a reference: time and mean error, beside the library's."""
    space, reference, volumes, matrices = moved_head()
    fit = Reference(reference, space)
    fit.find(volumes[0])
    started = time.perf_counter()
    mine = [fit.find(volume) for volume in volumes]
    ours = (time.perf_counter() - started) / len(volumes)
    started = time.perf_counter()
    theirs = _library_motion(space, reference, volumes[0])
    other = time.perf_counter() - started
    points = space.to_world(np.argwhere(reference.T > 300)[::50])

    def error(found: np.ndarray, true: np.ndarray) -> float:
        ends = [points @ m[:3, :3].T + m[:3, 3] for m in (found, true)]
        return float(np.linalg.norm(ends[0] - ends[1], axis=1).mean())

    own = float(np.mean([error(f, t) for f, t in zip(mine, matrices)]))
    library = error(theirs, matrices[0])
    name = "SimpleITK Euler3D, mean squares, LBFGS2, two levels"
    return [
        Row("motion of a volume of 64 × 72 × 48", ours, other, name, "ratio ≤ 0.02", met=ours / other <= 0.02),
        Row("its mean error", own, library, name, "ratio ≤ 1", "mm", met=own <= library),
    ]


def _library_motion(space: Space, reference: np.ndarray, volume: np.ndarray) -> np.ndarray:
    import SimpleITK as sitk

    images = []
    for values in (reference, volume):
        image = sitk.GetImageFromArray(values)
        image.SetSpacing(space.spacing)
        image.SetOrigin(space.affine[:3, 3].tolist())
        images.append(image)
    start = sitk.Euler3DTransform()
    start.SetCenter(space.centre.tolist())
    method = sitk.ImageRegistrationMethod()
    method.SetMetricAsMeanSquares()
    method.SetInterpolator(sitk.sitkLinear)
    method.SetOptimizerAsLBFGS2()
    method.SetOptimizerScalesFromPhysicalShift()
    method.SetShrinkFactorsPerLevel([2, 1])
    method.SetSmoothingSigmasPerLevel([1.0, 0.0])
    method.SetInitialTransform(start, inPlace=False)
    found = method.Execute(*images)
    corners = np.array([(0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1)], float)
    moved = np.array([found.TransformPoint(tuple(c)) for c in corners.tolist()])
    matrix = np.eye(4)
    matrix[:3, :3], matrix[:3, 3] = (moved[1:] - moved[0]).T, moved[0]
    return matrix


def _noise() -> list[Row]:
    """Non-local means of 128³ from the demo's animal, at an error that is no larger."""
    from skimage.restoration import denoise_nl_means

    from kestrelmist.demo.animal import make_animal
    from kestrelmist.demo.scans import scan_mr

    affine = np.diag([0.2, 0.2, 0.2, 1.0])
    affine[:3, 3] = -12.7
    true = scan_mr(make_animal("B", 5), Space((128,) * 3, affine), 0.0).T.astype(np.float32)
    noisy = true + np.random.default_rng(3).normal(0, 40, true.shape).astype(np.float32)
    non_local_means(noisy[:9, :9, :9], 40, False, 40)
    started = time.perf_counter()
    mine = non_local_means(noisy, 40.0, False, 40.0)
    ours = time.perf_counter() - started
    started = time.perf_counter()
    other = denoise_nl_means(noisy, patch_size=3, patch_distance=5, h=0.7 * 40, sigma=40.0, fast_mode=True)
    theirs = time.perf_counter() - started
    errors = [float(np.sqrt(((v - true) ** 2).mean())) for v in (mine, other)]
    met = ours / theirs <= 0.5 and errors[0] <= 1.02 * errors[1]
    said = f"scikit-image's fast mode, error {errors[1]:.2f} (ours {errors[0]:.2f})"
    return [Row("non-local means, 128³", ours, theirs, said, "ratio ≤ 0.5", met=met)]
