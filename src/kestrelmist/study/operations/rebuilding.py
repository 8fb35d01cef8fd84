"""Rebuild a study whose catalogue is lost or damaged."""

from __future__ import annotations

from typing import Literal

from ...core.operation import operation
from ...core.parameter import FolderPath
from ...core.table import Table
from ..rebuild import rebuild as rebuilt


@operation(
    "report",
    "Rebuild a study",
    name="rebuild",
    keywords="repair recover damaged lost catalogue corrupt",
    repeats=False,
    group="The study",
)
def rebuild(folder: FolderPath, losses: Literal["ask", "accept"] = "ask") -> Table:
    """Make the catalogue of a study anew, from the best that can be read of it and from the files in its folder.

    The old catalogue stays beside, as study.damaged-DATE.db; no image and no label map is touched.

    Parameters
    ----------
    folder : path
        The folder of a study that nobody has open.
    losses : "ask" or "accept"
        What to do when something would be lost: list it and do nothing, or go on.

    Raises
    ------
    Trouble
        When the folder holds nothing of a study, the study is open, there is no room, or something would be lost.
    """
    return rebuilt(folder, losses)
