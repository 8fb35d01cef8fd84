"""Things that a study keeps, and the changes that operations make to them."""

from __future__ import annotations

from ..image import Image
from ..kind import Kind, register
from ..labels import LabelMap
from ..patch import LabelEdit
from ..placement import Placement
from ..table import Table

IMAGE = register(
    Kind(
        "image",
        Image,
        "thing",
        wanted=lambda p: "name a file, or an image of the study",
        field="thing",
        metavar=lambda p: "IMAGE",
        leads=True,
        once=True,
    )
)
LABEL_MAP = register(
    Kind(
        "label map",
        LabelMap,
        "thing",
        wanted=lambda p: "name a file, or a label map of the study",
        field="thing",
        metavar=lambda p: "LABEL MAP",
        on_shelf=False,
        of="image",
        lacking="no labels yet: outline it first",
        alters="label map",
        edited=True,
    )
)
TABLE = register(
    Kind(
        "table",
        Table,
        "thing",
        wanted=lambda p: "name a CSV or Parquet file, or a table of the study",
        field="thing",
        metavar=lambda p: "TABLE",
        is_read=True,
        on_shelf=False,
        ending=".csv",
    )
)
LABEL_EDIT = register(Kind("label edit", LabelEdit, "change", alters="label map"))
PLACEMENT = register(Kind("placement", Placement, "change", alters="image"))
