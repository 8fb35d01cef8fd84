"""Everything the header of a series says, as text."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from ..series import Series

LONGEST = 2000
FRAMES_SHOWN = 3
"""Items of long sequences that are listed; the rest is counted."""


def facts_of(series: Series) -> dict[str, str]:
    """Every element of the first file's header, sequences and private elements included, by keyword (or name and
    tag)."""
    import pydicom

    try:
        header = pydicom.dcmread(series.first.path, stop_before_pixels=True, force=True)
    except Exception:  # facts are for reading; an image whose header is odd may still be whole
        return {}
    facts: dict[str, str] = {}
    if hasattr(header, "file_meta"):
        _flatten(header.file_meta, "", facts)
    _flatten(header, "", facts)
    facts["Files"] = f"{len(series.files)} below {series.first.path.parent}"
    return facts


def _flatten(dataset, before: str, facts: dict[str, str]) -> None:
    tags = sorted(dataset.keys())
    for tag in tags:
        try:
            element = dataset[tag]
            name = element.keyword or f"{element.name.strip('[]')} {str(element.tag).replace(' ', '')}"
            key = f"{before}{name}"
            if element.VR == "SQ":
                for n, item in enumerate(element.value[:FRAMES_SHOWN]):
                    _flatten(item, f"{key}[{n + 1}].", facts)
                if len(element.value) > FRAMES_SHOWN:
                    facts[f"{key}[{FRAMES_SHOWN + 1} …]"] = f"{len(element.value) - FRAMES_SHOWN} more"
            elif isinstance(element.value, bytes):
                facts[key] = f"{len(element.value)} bytes"
            else:
                value = element.value
                facts[key] = ("\\".join(map(str, value)) if element.VM > 1 else str(value))[:LONGEST]
        except Exception:  # one odd element must not hide the others
            facts[f"{before}{tag}"] = "cannot be read"
