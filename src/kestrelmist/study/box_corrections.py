"""Boxes of a table that were corrected by hand: remembered under what the table holds, wherever it lies and whenever it
was touched, until they are in a file."""

from __future__ import annotations

import hashlib
from pathlib import Path

from .catalogue import Catalogue

Kept = dict[str, list]
"""For each corrected picture its rows, as plain values."""


class BoxCorrections:
    """The corrections that a study remembers.

    A table is known by the SHA-256 of its content: a copy of it, or one brought back, has the same corrections. Under
    its place is remembered what was corrected there last, so that it is noticed when that holds something else now.
    """

    def __init__(self, catalogue: Catalogue):
        self.catalogue = catalogue
        self._digests: dict[tuple[str, int, int], str] = {}
        self._let_go: dict[Path, Kept] = {}

    def digest(self, table: Path) -> str:
        """What a table is known by; read again only when its file has changed. Raises OSError."""
        stat = table.stat()
        key = str(table.resolve()), stat.st_size, stat.st_mtime_ns
        if key not in self._digests:
            with table.open("rb") as stream:
                self._digests[key] = hashlib.file_digest(stream, "sha256").hexdigest()
        return self._digests[key]

    def of(self, digest: str) -> Kept:
        """The corrections of a table of this content."""
        kept = self.catalogue.recall(f"boxes of {digest}", {})
        return {name: rows for name, rows in kept.items() if isinstance(rows, list)} if isinstance(kept, dict) else {}

    def remember(self, table: Path, digest: str, kept: Kept) -> None:
        """Keep the corrections of a table; raises Trouble when the study cannot be written."""
        with self.catalogue.change():
            self.catalogue.remember(f"boxes of {digest}", kept)
            self.catalogue.remember(_place(table), digest if kept else "")

    def saved(self, table: Path, digest: str) -> None:
        """A table was written with all corrections in it: nothing of its place is to be asked for any more."""
        self._let_go.pop(table, None)
        self.catalogue.remember(_place(table), "")
        if self.of(digest):
            self.catalogue.remember(f"boxes of {digest}", {})

    def overtaken(self, table: Path, digest: str) -> int:
        """How many corrected pictures there are of another content that lay at this place before; they can be brought
        back. 0 when its corrections are its own."""
        before = self.catalogue.recall(_place(table), "")
        if not isinstance(before, str) or not before or before == digest or self.of(digest):
            return 0
        kept = self.of(before)
        if kept:
            self._let_go[table] = kept
        return len(kept)

    # let go, until the window is closed

    def let_go(self, table: Path, digest: str) -> None:
        """Forget the corrections of a table, until they are brought back."""
        self._let_go[table] = self.of(digest)
        self.remember(table, digest, {})

    def can_bring_back(self, table: Path) -> bool:
        """Whether corrections of a table can be taken up again."""
        return bool(self._let_go.get(table))

    def bring_back(self, table: Path, digest: str) -> None:
        """Take up the corrections again that were let go."""
        self.remember(table, digest, self._let_go.pop(table))


def _place(table: Path) -> str:
    return f"boxes at {table.resolve()}"
