"""All images of a study as a BIDS-style folder."""

from __future__ import annotations

from functools import partial

from ...core.errors import Trouble
from ...core.image import Image
from ...core.operation import operation
from ...core.parameter import NewPath
from ...core.placement import Placement
from ...core.progress import Progress, silent
from ...core.table import Table
from ...formats.bids_names import FACT
from ...gather.bids import Source, convert_images
from .. import kinds  # noqa: F401  (makes the kinds known)
from ..items import ImageRecord
from ..journal.logbook import Step
from ..study import Study
from ..subjects import VISIT, subject_of, visit_of
from ._results import keep_table


@operation(
    "gather",
    "Convert the study to BIDS",
    name="convert-study",
    keywords="export all nifti sidecar",
    repeats=False,
    slow=True,
    group="Into files",
)
def convert_study(study: Study, to: NewPath, session: str = "", progress: Progress = silent()) -> Table:
    """Write every image on the Shelf as NIfTI with a sidecar, sorted as the BIDS standard sorts them. What is there
    stays as it is.

    Parameters
    ----------
    to : path
        The folder; made when it is not there.
    session : text
        Session label for all images; when left out, the visit that somebody has said, or the date of the study for
        subjects that were scanned on several.

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
    sources = [
        Source(
            r.name,
            r.subject,
            f"{r.modality} {r.format}".strip(),
            partial(_opened, study, r.id),
            _date(r.facts),
            session=_session(study, r),
        )
        for r in records
    ]
    table = convert_images(sources, to, session, progress=progress)
    table.title = f"{study.name} converted"
    step = Step("convert-study", "Convert the study to BIDS", {"to": str(to), "session": session})
    return keep_table(study, table, step)


def _date(facts: dict[str, str]) -> str:
    return facts.get("StudyDate") or facts.get("SeriesDate") or ""


def _session(study: Study, record: ImageRecord) -> str:
    """The visit that somebody has said an image is of."""
    visit = visit_of(study, record) if record.body.get(VISIT) is not None else None
    return visit.name if visit is not None else ""


def _opened(study: Study, key: int, progress: Progress) -> Image:
    """An image with what is known of its subject among its facts."""
    image = study.image(key)
    said = {f"{FACT}{name}": value for name, value in subject_of(study, image.subject).known.items()}
    facts = {name: value for name, value in image.facts.items() if not name.startswith(FACT)} | said
    return image if facts == image.facts else image.placed(Placement(image.space, facts=facts))
