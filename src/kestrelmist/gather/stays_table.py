"""The table of all elements of the standard that may stay when identity is removed, each with its reason."""

from __future__ import annotations

from collections.abc import Iterator
from types import SimpleNamespace

from ..core.operation import operation
from ..core.table import Column, Table
from .identity_profile import SUBJECTS, Rules
from .what_stays import GROUPS


@operation(
    "gather",
    "What stays without identity",
    name="what-stays",
    keywords="privacy header elements kept anonymise",
    group="Identity",
)
def what_stays(keep_characteristics: bool = False, keep_device: bool = False, keep_descriptions: bool = False) -> Table:
    """List every element of the DICOM standard that may stay when identity is removed, and why; all others go.

    Parameters
    ----------
    keep_characteristics : bool
        Keep sex, age, weight and size.
    keep_device : bool
        Keep what names the machine.
    keep_descriptions : bool
        Keep descriptions.
    """
    rules = Rules("remove", keep_characteristics, keep_device, keep_descriptions)
    table = Table("What stays", [Column(n) for n in ("tag", "element", "kind", "about", "why")])
    for element in standard_elements():
        reason = rules.reason(element)
        if reason:
            about = "the subject's new name" if element.keyword in SUBJECTS else GROUPS.get(element.tag.group, "chosen")
            table.rows.append((str(element.tag), element.keyword, element.VR, about, reason))
    return table


def standard_elements() -> Iterator[SimpleNamespace]:
    """Every element that the standard names, with tag, keyword and kind, but those of the file meta and of directories
    of discs; of several kinds the one that can hold the most."""
    from pydicom.datadict import DicomDictionary
    from pydicom.tag import Tag

    for number, (vr, _, _, _, keyword) in sorted(DicomDictionary.items()):
        tag = Tag(number)
        if keyword and tag.group not in (0x0000, 0x0002, 0x0004):
            yield SimpleNamespace(keyword=keyword, VR=vr.split(" or ")[-1], tag=tag)
