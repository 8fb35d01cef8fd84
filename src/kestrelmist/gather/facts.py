"""Everything a file's header says, as a table."""

from __future__ import annotations

from ..core.image import Image
from ..core.operation import operation
from ..core.table import Column, Table


@operation("gather", "Facts of an image", name="facts", keywords="header information tags metadata")
def facts(image: Image) -> Table:
    """All facts of an image: grid, voxel size, sides, and every element of its header."""
    space = image.space
    table = Table(f"Facts of {image.name}", [Column("fact"), Column("value")])
    letters = "".join(("RL", "AP", "SI")[w][int(d < 0)] for w, d in
                      ((w, space.affine[w, grid]) for grid, w in enumerate(space.world_axis_of)))
    short = {"Name": image.name, "Subject": image.subject, "Modality": image.modality, "Format": image.origin.format,
             "Matrix": " × ".join(map(str, space.shape)), "Voxel size (mm)": " × ".join(f"{s:.5g}" for s in space.spacing),
             "Axes run towards": letters, "Value unit": image.unit or "none given",
             "Position matrix": "; ".join(" ".join(f"{v:.6g}" for v in row) for row in space.affine[:3])}
    table.rows += [(key, value) for key, value in short.items() if value]
    table.rows += [("Note", note) for note in image.origin.notes]
    table.rows += sorted(image.facts.items())
    return table
