"""The way between the spaces of two images, told step by step."""

from __future__ import annotations

from ...core.errors import Trouble
from ...core.operation import operation
from ...core.table import Column, Table
from ..items import ImageRecord
from ..kinds import AnyImage
from ..study import Study
from ..ways import missing_link, way_between


@operation(
    "align",
    "Way between two images",
    name="way-between",
    keywords="chain transforms concatenate path steps missing link functional to standard space",
    group="Transforms",
    called={"image": "From", "onto": "To"},
)
def tell_way(study: Study, image: AnyImage, onto: AnyImage) -> Table:
    """The chain of transforms that leads from the space of one image to that of another, step by step; every step that
    applies several (“Resample”, “Bring labels along”, layers) goes this way, with one interpolation.

    Parameters
    ----------
    onto : image
        Where the way leads.

    Raises
    ------
    Trouble
        When no way is there: what would close the gap; or when two disagree.
    """
    assert isinstance(image, ImageRecord) and isinstance(onto, ImageRecord)
    return told_way(study, image, onto)


def told_way(study: Study, image: ImageRecord, onto: ImageRecord) -> Table:
    """The same, of records."""
    start, end = image.grid.world, onto.grid.world
    way = way_between(study, start, end)
    if way is None:
        one, other = missing_link(study, image, onto)
        raise Trouble(
            f"No transform leads from the space of “{image.name}” ({start}) to that of “{onto.name}” ({end})",
            f"align “{one.name}” of {one.subject} with “{other.name}” of {other.subject}",
        )
    columns = [Column(name) for name in ("step", "from", "by", "kind", "backwards", "to")]
    rows: list[tuple] = []
    here = str(start)
    for n, (record, turned) in enumerate(zip(way.made_of, way.turned), 1):
        there = record.body.get("source" if turned else "target", {})
        to = str(there.get("name") if not there.get("id") else there.get("id"))
        mapping = study.thing(record.id)
        rows.append((n, here, record.name, mapping.words, "yes" if turned else "no", to))
        here = to
    if not rows:
        rows.append((0, str(start), "", "the same space", "no", str(end)))
    return Table(f"From {image.name} to {onto.name}", columns, rows)
