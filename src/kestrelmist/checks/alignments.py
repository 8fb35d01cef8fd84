"""Checks of the alignments of a subject: which nobody has looked at, and which are said to be bad."""

from __future__ import annotations

from .notice import Mend, Notice, Subject, check

MOST = 3


@check("align", "report")
def alignments_looked_at(subject: Subject) -> list[Notice]:
    """Transforms of this subject of which nobody has said how they are, or that are said to be bad."""
    found = []
    for record in subject.transforms:
        said = record.body.get("said")
        verdict = said.get("verdict") if isinstance(said, dict) else None
        if verdict == "bad":
            note = str(said.get("note") or "").strip()
            more = f": {note}" if note else ""
            found.append(Notice("wrong", f"“{record.name}” is said to be a bad alignment{more}."))
    open_ones = [r for r in subject.transforms if not isinstance(r.body.get("said"), dict)]
    for record in open_ones[:MOST]:
        mend = Mend("Say how it is", "say-alignment", {"transform": record.id}, ask=True)
        found.append(Notice("look", f"Nobody has judged “{record.name}” yet.", mend))
    if len(open_ones) > MOST:
        found.append(Notice("look", f"{len(open_ones) - MOST} more alignments are not judged yet."))
    return found
