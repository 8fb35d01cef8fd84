"""All images of a study as a BIDS-style folder."""

from __future__ import annotations

from pathlib import Path

from ..core.errors import Trouble
from ..core.progress import Progress, silent
from ..core.table import Table
from ..gather.bids import Source, convert_images
from .logbook import Step
from .study import Study


def convert_study(study: Study, to: str | Path, session: str = "", progress: Progress | None = None) -> Table:
    """Write every image on the Shelf as NIfTI with a sidecar, sorted as the BIDS standard sorts them.

    Returns
    -------
    Table of what became what, which is also kept with the study's results.

    Raises
    ------
    Trouble
        When the study is empty or the place cannot be written.
    """
    records = study.records()
    if not records:
        raise Trouble("There is no image in this study", "gather some first", study.folder)
    sources = [Source(r.name, r.subject, f"{r.modality} {r.format}".strip(), lambda _, key=r.id: study.image(key)) for r in records]
    table = convert_images(sources, Path(to), session, progress or silent())
    table.title = f"{study.name} converted"
    if not study.read_only:
        step = Step("convert-study", "Convert the study to BIDS", {"to": str(to), "session": session}, {}, {"table": {"name": table.title}})
        study.keep_table(table, study.logbook.write(step))
    return table
