"""Texts that stay in headers because somebody wants descriptions: shown, each once, before anything is written."""

from __future__ import annotations

import hashlib
from collections import Counter
from pathlib import Path

from ..core.errors import Asks, let_through
from ..core.progress import Progress
from ..core.table import Column, Table
from ..core.waiting import reading
from .clean_header import Cleaner
from .quiet import quiet


def kept_texts(files: list[Path], cleaner: Cleaner, progress: Progress) -> Table:
    """What would stay of texts in some DICOM files, each once, with the elements it stands in and how often.

    The words of identity of all files are gathered into the cleaner, so that what is told in one file is taken out of
    the texts of the others too.
    """
    import pydicom

    trial = Cleaner(cleaner.rules, cleaner.key, cleaner.subject, words=cleaner.words)
    with quiet():
        for path in progress.over(files, what="Looking at the texts"):
            try:
                with reading(path):
                    trial.clean(pydicom.dcmread(path, force=True, stop_before_pixels=True))
            except BaseException as error:  # a broken file is named when its turn comes
                let_through(error)
    words = cleaner.words.without(cleaner.subject)
    counts: Counter[str] = Counter()
    elements: dict[str, set[str]] = {}
    for (text, keyword), count in trial.kept.items():
        left = words.taken_out(text)
        if left:
            counts[left] += count
            elements.setdefault(left, set()).add(keyword)
    table = Table("Texts that would stay", [Column("text"), Column("element"), Column("times")])
    for text in sorted(counts, key=str.casefold):
        table.rows.append((text, ", ".join(sorted(elements[text])), counts[text]))
    return table


def require_reviewed(table: Table, reviewed: str, folder: Path | None = None) -> None:
    """Raises Asks when texts would stay that nobody has looked at: `reviewed` must be the mark of just these texts."""
    if not table.rows or reviewed.strip().casefold() == mark_of(table):
        return
    count = len(table.rows)
    raise Asks(
        f"{count} text{'s' if count > 1 else ''} would stay, and nobody has looked at {'them' if count > 1 else 'it'};"
        " nothing was written",
        f"look through the list; then run it again with reviewed {mark_of(table)}, or name words to be taken out",
        folder,
        table=table,
        setting="reviewed",
        answer=mark_of(table),
        more="take_out",
    )


def mark_of(table: Table) -> str:
    """Eight letters that stand for just these texts."""
    return hashlib.sha256("\n".join(str(row[0]) for row in table.rows).encode()).hexdigest()[:8]
