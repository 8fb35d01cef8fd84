"""Another grid for an image: a spacing, or that of another image."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Annotated, Literal

import numpy as np

from ...core.at_places import Places
from ...core.chain import Chain, PerVolume
from ...core.errors import Trouble
from ...core.image import Image
from ...core.left_out import Leads
from ...core.mapping import Mapping
from ...core.memory import require_room
from ...core.operation import operation
from ...core.overlap import require_overlap
from ...core.parameter import Spacing
from ...core.progress import Progress, silent
from ...core.resampling import How
from ...core.space import Space
from ...core.through import resampled_through
from ...core.transform import Transform
from ...formats.grid_facts import on_another_grid

MOST_VOXELS = 1 << 33
REACH = 6
"""Voxels, old or new, beyond which an image says nothing of a place."""
FWHM = 2 * np.sqrt(2 * np.log(2))


@operation(
    "prepare",
    "Resample",
    name="resample",
    keywords=(
        "spacing grid isotropic interpolate onto reslice regrid resize downsample upsample isotropic voxels "
        "interpolation rebin match grid"
    ),
    takes="series",
    group="Grid",
    reach=lambda space, settings: REACH * max(*space.spacing, *(settings["spacing"] or (0.0,))),
    called={
        "onto": "Onto grid of",
        "through": "By transform",
        "spacing": "Or voxel size",
        "how": "Interpolation",
        "soften": "Smooth first",
    },
    rare="soften",
    methods="Images were resampled ({how})",
    cites=("Cardoso 2015",),
)
def resample(
    image: Image,
    onto: Image | None = None,
    spacing: Spacing | None = None,
    *,
    through: Annotated[Mapping | None, Leads("onto", "image")] = None,
    how: Literal["nearest", "linear", "cubic", "sinc"] = "cubic",
    soften: bool = True,
    progress: Progress = silent(),
) -> Image:
    """Bring an image onto the grid of another one, by world position, or onto one of its own extent with other voxels.

    What lies beyond the image has no value (NaN). Series are worked out volume by volume, when they are looked at.

    Parameters
    ----------
    onto : image
        Its grid is taken; its values are not.
    spacing : three mm
        Voxel size along the image's own axes, in place of another image; the outer faces stay where they are, to
        within a voxel.
    through : transform
        Where the other image lies in another space: from there to the space of this one. In a study the way is found
        among its transforms. Values are interpolated once, however many transforms it is made of.
    how : text
        Nearest, linear, cubic B-spline, or a sinc with a window of four voxels to each side.
    soften : bool
        Where voxels become larger, smooth first, so that the new ones hold what lies in them and no false patterns: by
        a Gaussian that makes up the difference of the widths (M. J. Cardoso et al., MICCAI 2015). Not for "nearest".

    Returns
    -------
    Image
        float32; of "nearest" in the number type of the image.

    Raises
    ------
    Trouble
        When neither or both of grid and spacing are given, the images have no scale in common, lie in two spaces
        between which nothing leads, or do not overlap, or the new grid is too large.
    """
    if (onto is None) == (spacing is None):
        raise Trouble("Nothing says which grid is wanted", "give either another image or a voxel size")
    if onto is not None:
        require_overlap(onto, image, through)
        target = onto.space
        name = f"{image.name} on {onto.name}"
    else:
        assert spacing is not None
        target = with_spacing(image.space, spacing)
        name = f"{image.name}, {' × '.join(f'{v:.3g}' for v in spacing)} mm"
    voxels = int(np.prod(target.shape, dtype=object))
    if voxels > MOST_VOXELS:
        raise Trouble(f"The new grid would have {voxels} voxels", "choose larger voxels")
    require_room(4 * voxels, f"“{name}”")
    way = through if through is not None else Transform(np.eye(4))
    turned = as_seen(target, way.of_volume(0))
    facts = image.facts if image.space.same_grid(target) else on_another_grid(image, turned)
    widths = softening(image.space, turned) if soften and how != "nearest" else (0.0, 0.0, 0.0)

    if way.each_volume and not image.axes:
        raise Trouble(f"“{way.name}” is another one for every volume of a series", f"“{image.name}” is one volume")
    for one in way.parts:
        if isinstance(one, PerVolume) and len(one.matrices) != image.axes[0].size:
            raise Trouble(
                f"“{one.name}” is of {len(one.matrices)} volumes, and “{image.name}” has {image.axes[0].size}",
                "take the series that it was found in",
            )
    look = (
        _each_volume(image.space, target, way, how) if way.each_volume else _one_for_all(image.space, target, way, how)
    )

    def work(values: np.ndarray, volume: int, progress: Progress) -> np.ndarray:
        return look(softened(values.T, widths), volume, progress).T

    if image.axes:
        return image.like(
            lambda index, progress: work(image.frame(index).fetch(progress), index[0], progress),
            space=target,
            name=name,
            facts=facts,
        )
    return image.like(work(image.data, 0, progress), space=target, name=name, facts=facts)


Look = Callable[[np.ndarray, int, Progress], np.ndarray]
"""From a volume [k, j, i] and its number to its values on the grid."""


def _one_for_all(source: Space, target: Space, way: Mapping, how: How) -> Look:
    places = Places(source, target, way) if not isinstance(way, Transform) else None
    return lambda values, volume, progress: resampled_through(
        values, source, target, way, how, progress=progress, places=places
    )


def _each_volume(source: Space, target: Space, way: Mapping, how: How) -> Look:
    """Through a mapping that is another one for every volume: what is the same for all is followed once."""
    *before, last = way.parts
    if not before or not isinstance(last, PerVolume) or any(one.each_volume for one in before):
        return lambda values, volume, progress: resampled_through(
            values, source, target, way.of_volume(volume), how, progress=progress
        )
    if how == "sinc" and not all(isinstance(one, Transform) for one in before):
        raise Trouble(f"“{way.name}” bends space, and a sinc cannot follow it", "take cubic interpolation")
    places = Places(source, target, Chain(tuple(before)))
    return lambda values, volume, progress: places.look(values, how, progress=progress, moved=last.at(volume).matrix)


def as_seen(target: Space, way: Mapping) -> Space:
    """A grid as it lies in the world that a mapping leads to, near its middle."""
    if isinstance(way, Transform):
        return target.moved(way.matrix)
    steps = np.array([(0, 0, 0), *np.eye(3)]) * min(target.spacing)
    ends = way.to(target.centre + steps)
    if not np.isfinite(ends).all():
        return target
    turn = np.eye(4)
    turn[:3, :3] = (ends[1:] - ends[0]).T / min(target.spacing)
    turn[:3, 3] = ends[0] - turn[:3, :3] @ target.centre
    return target.moved(turn)


def with_spacing(space: Space, spacing) -> Space:
    """A grid over the same extent with voxels of another size along its axes; one more voxel rather than one less."""
    if space.unit == "px":
        raise Trouble("This image has no scale, so a voxel size in mm means nothing", "set its voxel size first")
    size = np.array(space.shape) * space.spacing
    shape = np.maximum(np.ceil(size / spacing - 1e-6), 1).astype(int)
    affine = space.affine.copy()
    affine[:3, :3] *= np.array(spacing) / space.spacing
    affine[:3, 3] = space.centre - affine[:3, :3] @ ((shape - 1) / 2)
    i, j, k = (int(n) for n in shape)
    return replace(space, shape=(i, j, k), affine=affine)


def softening(source: Space, target: Space) -> tuple[float, float, float]:
    """Standard deviations (in voxels along the source's i, j, k) of the Gaussian that makes voxels as wide as the
    target's; 0 where those are not wider."""
    wide = np.abs(source.inverse[:3, :3] @ target.affine[:3, :3]).max(1)
    return tuple(float(np.sqrt(max(w * w - 1.0, 0.0)) / FWHM) for w in wide)  # type: ignore[return-value]


def softened(values: np.ndarray, widths: tuple[float, float, float]) -> np.ndarray:
    """A volume [k, j, i] smoothed by standard deviations along i, j, k, in voxels."""
    if not any(widths):
        return values
    from scipy import ndimage

    values = values.astype(np.float32)
    there = np.isfinite(values)
    if there.all():
        return ndimage.gaussian_filter(values, widths[::-1], mode="nearest")
    weights = ndimage.gaussian_filter(there.astype(np.float32), widths[::-1], mode="nearest")
    filled = ndimage.gaussian_filter(np.where(there, values, np.float32(0)), widths[::-1], mode="nearest")
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(there, filled / weights, values)
