"""Give images the scale of a calibration, and projections a magnification."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Annotated

import numpy as np

from ...core.calibration import Calibration
from ...core.caveat import (
    AT_DETECTOR,
    NO_SCALE,
    NOTED,
    SCALE_BY_HAND,
    SCALE_DISAGREES,
    SCALE_UNSURE,
    SIDES_NOT_GIVEN,
    SIDES_UNKNOWN,
    Caveat,
    has_caveat,
)
from ...core.errors import Trouble
from ...core.image import Image
from ...core.left_out import LeftOut
from ...core.operation import operation
from ...core.parameter import Between, Unit
from ...core.placement import Placement
from ...core.scale import FACT, Scale, scale_of
from ...core.space import Space
from .taken_with import GROUP, WORDS

APART = 0.02
"""Share by which the scale of a header and that of a calibration may differ."""


@operation(
    "measure",
    "Use a calibration",
    name="use-calibration",
    keywords=f"{WORDS} assign apply",
    takes="series colour",
    called={"binned": "Pixels put together since"},
    rare="binned",
    group=GROUP,
    methods="Pictures were given the pixel sizes that were calibrated for their optical set-up",
)
def use_calibration(
    calibration: Calibration, image: Image, *, binned: Annotated[float, Between(0.01, 64)] = 1.0
) -> Placement:
    """Give an image the pixel size that a calibration has measured. No value is touched; the middle stays.

    The image says from now on which calibration it uses, and lengths on it how sure they are. Where its file gave
    another scale, or has other pixels than the image that was calibrated on, that is said.

    Parameters
    ----------
    binned : number
        Pixels of the calibrated picture along a side of one of this image: 2 for one that was halved since.

    Raises
    ------
    Trouble
        When the image has no plane of columns and rows.
    """
    space = image.space
    if space.shape[0] < 2 or space.shape[1] < 2:
        raise Trouble(f"“{image.name}” has no plane of pixels", "choose a picture")
    sides = np.array((calibration.right * binned, calibration.down * binned, 0.0))
    caveats = []
    if space.unit == "px" and space.shape[2] > 1:
        sides[2] = min(sides[:2])
        caveats.append(Caveat(SCALE_UNSURE, "The distance of slices is taken as that of pixels"))
    elif space.unit == "px":
        sides[2] = min(sides[:2])
    else:
        sides[2] = space.spacing[2]
    caveats += _disagreements(calibration, image, sides)
    scale = Scale.by(calibration)
    settled: tuple[str, ...] = (NO_SCALE, SCALE_UNSURE, SCALE_BY_HAND, SCALE_DISAGREES, AT_DETECTOR)
    if has_caveat(image.caveats, SIDES_UNKNOWN, SCALE_UNSURE):
        caveats.append(Caveat(SIDES_NOT_GIVEN, "Which side is which is not known"))
        settled += (SIDES_UNKNOWN,)
    facts = {**image.facts, FACT: scale.fact}
    return Placement(_sized(space, sides), settled, tuple(caveats), facts)


def _sized(space: Space, sides: np.ndarray) -> Space:
    """The grid with voxels of other sides, its middle where it was."""
    affine = space.affine.copy()
    affine[:3, :3] *= sides / np.array(space.spacing)
    affine[:3, 3] = space.centre - affine[:3, :3] @ ((np.array(space.shape) - 1) / 2)
    return replace(space, affine=affine, unit="mm")


def _disagreements(calibration: Calibration, image: Image, sides: np.ndarray) -> list[Caveat]:
    """What speaks against using a calibration on an image."""
    said = []
    before, space = scale_of(image), image.space
    at_detector = has_caveat(image.caveats, AT_DETECTOR)
    if space.unit == "mm" and not before.calibration and not at_detector:
        off = max(abs(side / was - 1) for side, was in zip(sides[:2], space.spacing))
        if off > max(APART, 3 * max(calibration.sure_right, calibration.sure_down)):
            whence = "its header" if before.how == "by header" else "what was set by hand"
            said.append(
                Caveat(
                    SCALE_DISAGREES,
                    f"Calibration {calibration.called} differs by {100 * off:.3g} % from {whence}"
                    f" ({space.spacing[0]:.5g} mm a pixel)",
                )
            )
    columns, rows = calibration.pixels
    own = space.shape[:2]
    if columns and (columns, rows) != own and math.isclose(columns / own[0], rows / own[1], rel_tol=0.01):
        times = columns / own[0]
        said.append(
            Caveat(
                NOTED if math.isclose(times, sides[0] / calibration.right, rel_tol=0.02) else SCALE_DISAGREES,
                f"Calibration {calibration.called} was made on pictures of {columns} × {rows} pixels, and this one has"
                f" {own[0]} × {own[1]}: if it was made smaller, its pixels are {times:.3g} times as large",
            )
        )
    return said


@operation(
    "measure",
    "Set the magnification of a projection",
    name="set-magnification",
    keywords="x-ray radiograph projection geometric magnification factor source object detector distance",
    takes="series colour",
    called={
        "factor": "Magnified",
        "source_detector": "Source to detector",
        "source_object": "Source to object",
        "sure": "Relative ±",
    },
    group=GROUP,
    methods="Lengths on projections were divided by their magnification",
)
def set_magnification(
    image: Image,
    factor: Annotated[float | None, Between(0.1, 100), LeftOut("from the distances")] = None,
    *,
    source_detector: Annotated[float, Unit("mm"), Between(0, 1e6)] = 0.0,
    source_object: Annotated[float, Unit("mm"), Between(0, 1e6)] = 0.0,
    sure: Annotated[float, Unit("%"), Between(0, 50)] = 0.0,
) -> Placement:
    """Say how much larger than itself an object is at the detector of a projection, so that lengths hold in its plane.

    The pixel at the detector and the magnification stay apart: setting another one begins from the detector again.

    Parameters
    ----------
    factor : number
        How many times as large; distances tell it when left out.
    source_detector, source_object : mm
        From the source of the rays to the detector, and to the plane of the object.
    sure : %
        Relative standard uncertainty of the magnification.

    Raises
    ------
    Trouble
        When the image has no scale, or neither the factor nor both distances are given, or they contradict each other.
    """
    space = image.space
    if space.unit == "px":
        raise Trouble(f"“{image.name}” has no scale", "give it the pixel size at the detector, or calibrate it")
    if factor is None:
        if not source_detector or not source_object:
            raise Trouble("The magnification is not known", "give it, or both distances from the source")
        if source_object > source_detector:
            raise Trouble("The object lies behind the detector by these distances", "see which is which")
        factor = source_detector / source_object
    elif source_detector and source_object and abs(source_detector / source_object / factor - 1) > 0.01:
        told = source_detector / source_object
        raise Trouble(f"The distances tell a magnification of {told:.4g}, not {factor:g}", "give one of the two")
    before = scale_of(image)
    if before.calibration and not before.magnification:
        raise Trouble(
            f"“{image.name}” is calibrated in the plane of its object ({before.how})",
            "a magnification would count twice; set the voxel size first to begin from the detector",
        )
    at_detector = np.array(space.spacing) * (before.magnification or 1.0)
    sides = np.array((*(at_detector[:2] / factor), space.spacing[2]))
    how = f"at the detector by header, divided by a magnification of {factor:.4g}"
    scale = Scale("mm", how, (sure / 100, sure / 100, 0.0), True, math.inf, factor, sure / 100)
    if not sure:
        scale = replace(scale, sure=(math.nan,) * 3)
    facts = {**image.facts, FACT: scale.fact}
    return Placement(_sized(space, sides), (AT_DETECTOR, SCALE_DISAGREES), (), facts)
