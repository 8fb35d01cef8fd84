"""Draw a contour by typing where it runs: the pen for scripts."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Literal

import numpy as np

from ...core.errors import Trouble
from ...core.geometry.filled import plane_of
from ...core.geometry.mark import Mark
from ...core.geometry.marks import MarkEdit, Marks
from ...core.geometry.typed_points import corners_of, points_of
from ...core.image import Image
from ...core.kinds.plain import in_unit
from ...core.operation import operation
from ...core.parameter import Between, Role, Unit
from .edge_line import along_edges
from .require import require_sound

GROUP = "Contours"
SHAPES = {"line": "polyline"}


@operation(
    "outline",
    "Draw a contour",
    name="draw",
    keywords="contour polygon ellipse rectangle freehand lasso trace outline spline livewire scissors box roi",
    called={"size": "Width and height", "edges": "Cling to edges", "across": "Width of a line"},
    rare="size edges across depth",
    group=GROUP,
    methods="Contours were drawn",
    cites=("Mortensen 1995",),
)
def draw(
    image: Image,
    marks: Marks,
    label: Annotated[str, Role("label")],
    shape: Literal["polygon", "ellipse", "rectangle", "line", "box"] = "polygon",
    points: Annotated[str, Unit("mm"), Role("places")] = "",
    *,
    size: str = "",
    edges: bool = False,
    across: Annotated[float, Unit("mm"), Between(0, 1e6)] = 0.0,
    depth: Annotated[float, Unit("mm"), Between(0, 1e6)] = 0.0,
) -> MarkEdit:
    """Add a contour of a label to the marks of an image; it stays a mark until “Fill contours” makes voxels of it.

    Parameters
    ----------
    label : text
        What it outlines: the label that its voxels get.
    shape : text
        A polygon or a line through points; an ellipse, a rectangle or a box by two opposite corners, or by its middle
        and a size.
    points : text
        World positions as in 1, 2, 3; 4, 5, 6, or 1,2,3 4,5,6; x and y will do on a picture.
    size : text
        Of an ellipse, a rectangle or a box round one point: its width and height (and depth) along x and y (and z), as
        in 4, 3; in a plane other than axial three numbers, of which the one across it is 0.
    edges : bool
        Of a polygon or a line: whether it clings to edges of the image between the points (E. N. Mortensen and W. A.
        Barrett, SIGGRAPH 1995).
    across : mm
        How wide a line is once it is filled; the voxels that it runs through for 0.
    depth : mm
        How deep it holds across its plane; the slice that it lies in for 0.

    Raises
    ------
    Trouble
        When the points are too few, lie in no plane or outside the image, or the line crosses itself.
    """
    name = label.strip()
    if not name:
        raise Trouble("The contour has no label", "name what it outlines")
    if edges and shape not in ("polygon", "line"):
        raise Trouble(f"A {shape} does not cling to edges", "draw a polygon or a line")
    where = points_of(points, marks.unit)
    if size:
        where = _round(where, size, marks.unit, shape)
    kind = SHAPES.get(shape, shape)
    if edges:
        where = along_edges(image, where, closed=shape == "polygon")
    where = corners_of(kind, where)
    mark = Mark(kind, tuple(map(tuple, where.tolist())), name=name, across=across, depth=depth)
    if not _meets(mark.outline, image):
        raise Trouble(f"The contour lies outside “{image.name}”", "give positions inside it")
    if shape != "box" and len(where) > 2 and np.ptp(where, 0).max() > 0:
        normal = plane_of(where, 0.5 * max(image.space.spacing), mark.called)
        mark = replace(mark, normal=tuple(normal.tolist()))
    require_sound(mark)
    return MarkEdit.adding(f"Draw {mark.called}", marks, [mark])


def _round(middle: np.ndarray, size: str, unit: str, shape: str) -> np.ndarray:
    """Two opposite corners round one point."""
    if shape not in ("ellipse", "rectangle", "box") or len(middle) != 1:
        raise Trouble("A size is for one point, of an ellipse, a rectangle or a box", "give one point, or no size")
    try:
        numbers = [in_unit(word, unit) for word in size.replace(",", " ").replace("×", " ").split()]
    except ValueError as error:
        raise Trouble(f"“{size[:40]}” is no size", "write it as in 4, 3") from error
    if len(numbers) not in (2, 3) or min(numbers) < 0 or sorted(numbers)[-2] <= 0:
        raise Trouble(f"“{size[:40]}” is no size", "write two or three numbers above 0, as in 4, 3")
    half = np.array([*numbers, 0.0][:3]) / 2
    if shape == "box" and half.min() <= 0:
        raise Trouble("A box has three sizes", "write them as in 4, 3, 2")
    return np.stack((middle[0] - half, middle[0] + half))


def _meets(outline: np.ndarray, image: Image) -> bool:
    at = image.space.to_voxel(outline)
    return bool((at.max(0) >= -0.5).all() and (at.min(0) <= np.array(image.space.shape) - 0.5).all())
