"""Checks of the alignments of a subject: which nobody has looked at, and which are said to be bad."""

from __future__ import annotations

from typing import Any

import numpy as np

from .notice import Mend, Notice, Subject, check

MOST = 3


def aligns(body: dict[str, Any]) -> bool:
    """Whether a transform, by what its row says, aligns anything: one that changes nothing says that two spaces are
    one, and there is nothing to be judged."""
    matrix = body.get("matrix")
    return matrix is None or not np.array_equal(np.asarray(matrix, float), np.eye(4))


@check("align", "report")
def alignments_looked_at(subject: Subject) -> list[Notice]:
    """Transforms of this subject of which nobody has said how they are, or that are said to be bad."""
    found = []
    there = [record for record in subject.transforms if aligns(record.body)]
    for record in there:
        said = record.body.get("said")
        verdict = said.get("verdict") if isinstance(said, dict) else None
        if verdict == "bad":
            note = str(said.get("note") or "").strip()
            more = f": {note}" if note else ""
            found.append(Notice("wrong", f"“{record.name}” is said to be a bad alignment{more}."))
    open_ones = [r for r in there if not isinstance(r.body.get("said"), dict)]
    for record in open_ones[:MOST]:
        mend = Mend("Say how it is", "say-alignment", {"transform": record.id}, ask=True)
        found.append(Notice("look", f"Nobody has judged “{record.name}” yet.", mend))
    if len(open_ones) > MOST:
        found.append(Notice("look", f"{len(open_ones) - MOST} more alignments are not judged yet."))
    return found
