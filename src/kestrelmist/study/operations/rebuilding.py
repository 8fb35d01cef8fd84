"""Rebuild a study whose catalogue is lost or damaged."""

from __future__ import annotations

from ...core.operation import operation
from ...core.parameter import FolderPath
from ...core.table import Table
from ..rebuild import rebuild as rebuilt


@operation("report", "Rebuild a study", name="rebuild", keywords="repair recover damaged lost catalogue", repeats=False)
def rebuild(folder: FolderPath) -> Table:
    """Make the catalogue of a study anew, from what can be read of it and from the files in its folder.

    The old catalogue stays beside, as study.damaged-DATE.db; no image and no label map is touched.

    Parameters
    ----------
    folder : path
        The folder of a study that nobody has open.

    Raises
    ------
    Trouble
        When the folder holds nothing of a study, or the study is open.
    """
    return rebuilt(folder)
