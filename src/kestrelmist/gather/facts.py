"""Everything a file's header says, as a table."""

from __future__ import annotations

from ..core.image import Image
from ..core.operation import operation
from ..core.scale import FACT, scale_of
from ..core.table import Column, Table
from ..formats.sidecar import KEY, facts_of


@operation(
    "gather",
    "Facts of an image",
    name="facts",
    keywords="header dicom information tags metadata search metadata sidecar",
    takes="series colour",
    group="This image",
)
def facts(image: Image) -> Table:
    """All facts of an image: grid, voxel size and sides, how it was taken, and every element of its header."""
    space = image.space
    table = Table(f"Facts of {image.name}", [Column("fact"), Column("value")])
    letters = "".join(
        ("RL", "AP", "SI")[w][int(d < 0)]
        for w, d in ((w, space.affine[w, grid]) for grid, w in enumerate(space.world_axis_of))
    )
    short = {
        "Name": image.name,
        "Subject": image.subject,
        "Modality": image.modality,
        "Format": image.origin.format,
        "Matrix": " × ".join(map(str, space.shape)),
        f"Voxel size ({space.unit})": " × ".join(f"{s:.5g}" for s in space.spacing),
        "Scale": scale_of(image).words,
        "Series": ", ".join(
            f"{a.size} {a.plural}"
            + (f", {a.step:.5g} {a.unit} apart" if a.step else f" ({', '.join(a.labels)})" if a.labels else "")
            for a in image.axes
        ),
        "Axes run towards": letters if space.sides_known else "sides unknown",
        "Value unit": image.unit or "none given",
        "Position matrix": "; ".join(" ".join(f"{v:.6g}" for v in row) for row in space.affine[:3]),
    }
    table.rows += [(key, value) for key, value in short.items() if value]
    table.rows += [("Note", c.sentence) for c in image.caveats]
    table.rows += [(f"{KEY}: {name}", _words(value)) for name, value in facts_of(image).items()]
    table.rows += sorted((name, value) for name, value in image.facts.items() if name not in (KEY, FACT))
    return table


def _words(value) -> str:
    return ", ".join(map(str, value)) if isinstance(value, list) else str(value)
