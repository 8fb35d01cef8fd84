"""Which column of a table of boxes is what: guessed by its name and its values, and said otherwise by hand."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from ...core.errors import Trouble

Layout = Literal["auto", "corner and size", "two corners", "centre and size"]
ROLES = ("picture", "subject", "class", "part", "a", "b", "c", "d", "columns", "rows")
"""What a column may be; a to d are the four numbers of a box, columns and rows the size that they are counted in."""
NAMES = {
    "picture": ("picture", "image", "file", "filename", "imagefile", "imageindex", "imagename", "imageid", "path",
                "name", "imagepath", "filepath", "pictureid"),
    "subject": ("subject", "subjectid", "animal", "animalid", "patient", "patientid", "case", "caseid", "individual"),
    "class": ("class", "label", "category", "finding", "findinglabel", "target", "classname", "kind", "type"),
    "part": ("part", "split", "set", "fold", "partition", "subset"),
}  # fmt: skip
BOXES: dict[str, tuple[tuple[str, str, str, str], ...]] = {
    "two corners": (
        ("xmin", "ymin", "xmax", "ymax"), ("x1", "y1", "x2", "y2"), ("left", "top", "right", "bottom"),
        ("x0", "y0", "x1", "y1"), ("minx", "miny", "maxx", "maxy"), ("xstart", "ystart", "xend", "yend"),
    ),
    "centre and size": (
        ("cx", "cy", "w", "h"), ("cx", "cy", "width", "height"), ("xcenter", "ycenter", "width", "height"),
        ("xcentre", "ycentre", "width", "height"), ("centerx", "centery", "width", "height"),
        ("centrex", "centrey", "width", "height"), ("xc", "yc", "w", "h"),
    ),
    "corner and size": (
        ("x", "y", "w", "h"), ("x", "y", "width", "height"), ("left", "top", "width", "height"),
        ("xmin", "ymin", "width", "height"), ("x", "y", "columns", "rows"), ("xmin", "ymin", "w", "h"),
    ),
}  # fmt: skip
SIZES = (
    ("imagewidth", "imageheight"), ("originalwidth", "originalheight"), ("picturewidth", "pictureheight"),
    ("originalimagewidth", "originalimageheight"), ("imgwidth", "imgheight"), ("sizex", "sizey"),
    ("imagecolumns", "imagerows"), ("originalimagewidth", "height"),
)  # fmt: skip


@dataclass(frozen=True)
class Columns:
    """Numbers of columns by what they are, and how the four numbers of a box are meant."""

    where: dict[str, int]
    layout: str

    @property
    def lacking(self) -> list[str]:
        """What still needs a column: the picture, and the other numbers of a box that has some."""
        box = [k for k in "abcd" if k not in self.where]
        return [*(["picture"] if "picture" not in self.where else []), *(box if 0 < len(box) < 4 else [])]

    def told(self, heads: Sequence[str]) -> str:
        """In words, for a report: "picture: File, class: Label"."""
        parts = [f"{role}: {heads[n]}" for role, n in self.where.items() if role not in "abcd"]
        if "a" in self.where:
            parts.append(f"box ({self.layout}): " + " ".join(heads[self.where[k]] for k in "abcd"))
        return ", ".join(parts)


def plain(head: str) -> str:
    """A heading as it is compared: small letters and digits only, without what it is a box of."""
    short = re.sub(r"[^a-z0-9]", "", head.casefold())
    return re.sub(r"^(bbox|boundingbox|box|roi)(?=.)", "", short)


def guessed(heads: Sequence[str], said: str = "", layout: Layout = "auto") -> Columns:
    """What each column is, as `likely` finds it; raises Trouble also when nothing says which picture a row is of, or
    only part of a box is there."""
    found = likely(heads, said, layout)
    if "picture" in found.lacking:
        raise Trouble(
            "No column of this table says which picture a row is of",
            f"name it, as in --columns picture={heads[0] if heads else 'File'}",
        )
    if found.lacking:
        raise Trouble("Only part of a box has columns", f"say which ones are {', '.join(found.lacking)}")
    return found


def likely(heads: Sequence[str], said: str = "", layout: Layout = "auto") -> Columns:
    """What columns are by their headings and by what is said of them.

    Parameters
    ----------
    heads : texts
        Headings of the table.
    said : text
        What is known better: "picture=File, class=Finding, a=left" …; "#3" is the third column, "subject=" none; what
        has a comma in it stands in quotes.
    layout : text
        How the four numbers are meant; by their headings when "auto".

    Raises
    ------
    Trouble
        When a column that is named is not there, or what is said cannot be understood.
    """
    names = [plain(head) for head in heads]
    where: dict[str, int] = {}
    for role, known in NAMES.items():
        found = next((names.index(name) for name in known if name in names), None)
        if found is not None and found not in where.values():
            where[role] = found
    meant = _box(names, layout, where)
    for pair in SIZES:
        if all(name in names for name in pair) and not {names.index(n) for n in pair} & set(where.values()):
            where["columns"], where["rows"] = (names.index(name) for name in pair)
            break
    for one in filter(None, (part.strip() for part in next(csv.reader([said], skipinitialspace=True), []))):
        role, sign, head = (part.strip() for part in one.partition("="))
        if role in ROLES and sign and not head:
            where.pop(role, None)
            continue
        if role not in ROLES or not sign:
            raise Trouble(
                f"“{one}” says of no column what it is", f"write it as in picture=File; there are {', '.join(ROLES)}"
            )
        where[role] = _column(heads, head)
    return Columns(where, meant)


def as_said(chosen: Mapping[str, int | None], heads: Sequence[str]) -> str:
    """What columns are, by number, as `guessed` reads it; None for roles that have none."""
    parts = []
    for role, n in chosen.items():
        head = "" if n is None else heads[n] if _plainly(heads, n) else f"#{n + 1}"
        parts.append(f"{role}={head}")
    written = io.StringIO()
    csv.writer(written, lineterminator="").writerow(parts)
    return written.getvalue().replace(",", ", ") if '"' not in written.getvalue() else written.getvalue()


def _plainly(heads: Sequence[str], n: int) -> bool:
    """Whether a column can be called by its heading."""
    head = heads[n]
    alone = bool(head.strip()) and head == head.strip() and not head.startswith("#") and "\n" not in head
    return alone and heads.index(head) == n


def _box(names: list[str], layout: str, where: dict[str, int]) -> str:
    """How the four numbers are meant; where they stand is put into `where`. What was said goes before headings."""
    said = layout if layout in BOXES else ""
    for one in sorted(BOXES, key=lambda one: one != said):
        for four in BOXES[one]:
            if all(name in names for name in four):
                where |= {k: names.index(name) for k, name in zip("abcd", four)}
                return said or one
    return said or "corner and size"


def _column(heads: Sequence[str], head: str) -> int:
    exact = [n for n, one in enumerate(heads) if one.strip() == head]
    alike = exact or [n for n, one in enumerate(heads) if one.strip().casefold() == head.casefold()]
    number = re.fullmatch(r"#(\d{1,6})", head)
    if not alike and number is not None and 0 < int(number[1]) <= len(heads):
        return int(number[1]) - 1
    if not alike:
        raise Trouble(f"This table has no column “{head}”", f"it has {', '.join(heads)}")
    return alike[0]
