"""Which images of an older study are read in another way today."""

from __future__ import annotations

from ...checks.read_before import differences, is_older
from ...core.errors import Trouble
from ...core.operation import operation
from ...core.progress import Progress, silent
from ...core.table import Column, Table
from ...gather.take_in_again import read_today
from ..study import Study


@operation(
    "gather",
    "Images read otherwise",
    name="read-otherwise",
    keywords="older version wrong scale times values check reread upgrade",
    repeats=False,
    slow=True,
    group="This image",
)
def read_otherwise(study: Study, progress: Progress = silent()) -> Table:
    """List the images that an older version took in and read in another way than their files are read today: another
    scale, other times, sizes or values. Each can be taken in again.

    Returns
    -------
    Table of images, whose they are, and what is other; empty when there is none.
    """
    table = Table("Images read otherwise", [Column("image"), Column("subject"), Column("what")])
    for record in progress.over(study.records(), what="Reading files"):
        image = study.image(record.id)
        if not is_older(image):
            continue
        try:
            today = read_today(image, progress)
            if image.origin.format == "DICOM" and not image.axes:
                image.fetch(progress)
            found = differences(image, today, image, record.hash)
        except Trouble as trouble:
            found = [str(trouble)]
        if found:
            table.rows.append((record.name, record.subject, "; ".join(found)))
    return table
