"""Standard spaces: a pack taken into the study."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

from ...align.packs import shipped
from ...core.errors import Trouble
from ...core.image import Image
from ...core.left_out import LeftOut
from ...core.operation import find_operation, operation
from ...core.parameter import Role
from ...core.progress import Progress, silent
from ...formats.pack import read_pack
from .. import kinds  # noqa: F401  (makes the kinds known)
from ..inputs import settle
from ..keeping import AlreadyThere, keep_image, keep_into, step_of
from ..study import Study
from ..task import Task, compute


@operation(
    "align",
    "Open an atlas",
    name="open-pack",
    keywords="open template atlas standard space normalisation reference brain pack stereotaxic parcellation standard",
    slow=True,
    group="Standard space",
    methods="A standard space was used",
)
def open_pack(
    study: Study,
    folder: Annotated[Path | None, Role("folder"), LeftOut("the mean dormouse that comes with the program")] = None,
    *,
    progress: Progress = silent(),
) -> list[Image]:
    """Take a standard space into the study: its templates and shares of tissues as images of a subject of its name, its
    masks and the regions of its atlases as label maps of the first template. What is there already stays.

    Parameters
    ----------
    folder : path
        A pack: a folder with a `pack.json`; the mean dormouse when left out.

    Raises
    ------
    Trouble
        When it is no pack, a file of it is missing, the regions of an atlas have no names, or all of it is there.
    """
    pack = read_pack(folder or shipped())
    entry, kept, first = 0, [], None
    names = [*pack.templates, *pack.tissues]
    for n, name in enumerate(names):
        progress.at(0.7 * n / len(names), f"Reading {name}")
        image = pack.image(name)
        task = Task("open-pack", find_operation("open-pack").checked({"folder": folder}), {})
        try:
            key, entry = keep_image(study, image, step_of(task), silent(), entry)
            kept.append(key)
        except AlreadyThere:
            key = next((r.id for r in study.records() if r.subject == pack.name and r.name == name), 0)
        first = first or key
    if not kept:
        raise Trouble(f"“{pack.name}” is in the study already", "open it from the Shelf", pack.folder)
    there = {record.name for record in study.label_maps(first)} if first else set()
    for n, (name, file) in enumerate({**pack.masks, **pack.atlases}.items()):
        progress.at(0.7 + 0.1 * n, f"Reading {name}")
        if first and name not in there:
            for operation_, given in (
                ("new-labels", {"image": first, "name": name}),
                ("open-labels", {"image": first, "file": pack.folder / file}),
            ):
                task = settle(study, operation_, given)
                entry = keep_into(study, task, compute(study, task, silent()), entry)
    return kept  # type: ignore[return-value]  # what acts on a study tells what it has kept by ids
