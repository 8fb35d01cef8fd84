"""Surfaces of labels, as things of their own and as files."""

from __future__ import annotations

from typing import Annotated

from ...core.labels import LabelMap
from ...core.operation import operation
from ...core.parameter import Between, LabelName
from ...core.progress import Progress, silent
from ...core.surface.of_label import surfaces_of
from ...core.surface.simplify import simplified
from ...core.surface.surface import Surfaces

GROUP = "Surfaces"


@operation(
    "outline",
    "Surface of labels",
    name="surface",
    keywords="mesh triangles stl obj ply gltf glb vtp isosurface 3d print export model decimate",
    called={"stepped": "As voxels lie", "share": "Share of the triangles"},
    group=GROUP,
    methods="Surfaces were made of labels, of the volume of their voxels",
    cites=("Garland 1997", "Herman 1992", "Lorensen 1987", "Taubin 1996"),
)
def surface(
    labels: LabelMap,
    label: LabelName | None = None,
    *,
    stepped: bool = False,
    share: Annotated[float, Between(0.001, 1)] = 1.0,
    progress: Progress = silent(),
) -> Surfaces:
    """Make the smooth surface of a label, or of each: it encloses the volume of the label's voxels.

    On the command line the ending of the new file says its format: STL, OBJ, PLY, glTF (.glb) or VTP. Positions are
    those of the world.

    Parameters
    ----------
    label : text
        All that have voxels, a part each, when left out.
    stepped : bool
        The sides of the voxels, as they are.
    share : number
        Of the triangles that stay, 0.001 to 1; the volume stays.

    Raises
    ------
    Trouble
        When the label has no voxels, or the map is of a picture.
    """
    names = None if label is None else [label]
    whole = surfaces_of(labels, names, stepped, progress.part(0.0, 0.7 if share < 1 else 1.0))
    return whole if share >= 1 else simplified(whole, share, progress.part(0.7, 1.0))
