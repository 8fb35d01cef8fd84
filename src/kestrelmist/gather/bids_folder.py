"""The files of a BIDS study that speak of all of it. What is there stays: tables are joined, texts are left alone."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path

from ..core.errors import Trouble
from ..core.safe_write import written_whole
from ..core.subject import NONE, PARTICIPANT
from ..core.table import Table
from ..formats.bids_names import PARTICIPANTS
from ..formats.table_files import read_csv
from .bids_rules import VERSION

IGNORED = ("extra/", "converted*.csv")
READMES = ("README", "README.md", "README.rst", "README.txt")
NAME = "subject"
"""Column of the name that a subject has elsewhere, when it is no label of the standard."""


class Participants:
    """The table of participants of a folder, to which rows and values are added; what stands in it stays as it stands.

    Raises
    ------
    Trouble
        When there is a table that cannot be read as one.
    """

    def __init__(self, folder: Path):
        self.path = folder / PARTICIPANTS
        self.is_new = not self.path.exists()
        self.ending, self.mark = "\n", b""
        self.rows: list[list[str]] = [[PARTICIPANT]]
        if self.is_new:
            return
        try:
            raw = self.path.read_bytes()
            self.mark = b"\xef\xbb\xbf" if raw.startswith(b"\xef\xbb\xbf") else b""
            text = raw[len(self.mark) :].decode("utf-8")
        except (OSError, UnicodeDecodeError) as error:
            raise Trouble("The table of participants cannot be read", "mend it first", self.path) from error
        self.ending = "\r\n" if "\r\n" in text else "\n"
        self.rows = [line.split("\t") for line in text.split(self.ending) if line.strip()]
        if not self.rows or PARTICIPANT not in self.rows[0]:
            raise Trouble("This table has no column participant_id", "mend it first", self.path)
        width = len(self.rows[0])
        wrong = next((n for n, row in enumerate(self.rows, 1) if len(row) != width), None)
        if wrong:
            told = f"Line {wrong} of the table of participants has {len(self.rows[wrong - 1])} cells and not {width}"
            raise Trouble(told, "mend it first", self.path)

    def add(self, participant: str, known: Mapping[str, str]) -> None:
        """Have a row for a participant, with what is known of it; what the row says already stays."""
        heads = self.rows[0]
        at = heads.index(PARTICIPANT)
        for name in known:
            if name not in heads and self.is_new:
                for row in self.rows:
                    row.append(name if row is heads else NONE)
        own = next((row for row in self.rows[1:] if row[at] == participant), [])
        if not own:
            own = [NONE] * len(heads)
            own[at] = participant
            self.rows.append(own)
        for n, name in enumerate(heads):
            if name in known and own[n] in ("", NONE):
                own[n] = " ".join(known[name].split())

    def save(self) -> None:
        """Write the table; a new one by the names of its participants."""
        if self.is_new:
            self.rows[1:] = sorted(self.rows[1:])
        text = "".join("\t".join(row) + self.ending for row in self.rows)
        with written_whole(self.path) as stream:
            stream.write(self.mark + text.encode())
        about = self.path.with_suffix(".json")
        if self.is_new and NAME in self.rows[0] and not about.exists():
            said = {NAME: {"Description": "What the subject is called where the images came from"}}
            with written_whole(about) as stream:
                stream.write((json.dumps(said, indent=2) + "\n").encode())


def write_study_files(folder: Path) -> None:
    """Description, README and the list of what no checker looks at, where there are none yet."""
    from .. import VERSION as PROGRAM

    description = folder / "dataset_description.json"
    if not description.exists():
        said = {
            "Name": folder.resolve().name,
            "BIDSVersion": VERSION,
            "DatasetType": "raw",
            "GeneratedBy": [{"Name": "Kestrelmist", "Version": PROGRAM}],
        }
        with written_whole(description) as stream:
            stream.write((json.dumps(said, indent=2) + "\n").encode())
    if not any((folder / name).exists() for name in READMES):
        with written_whole(folder / "README") as stream:
            stream.write(b"Converted with Kestrelmist. converted.csv says which file came from which series.\n")
    ignore = folder / ".bidsignore"
    there = ignore.read_bytes() if ignore.exists() else b""
    lines = there.decode("utf-8", "replace").splitlines()
    missing = [line for line in IGNORED if line not in lines]
    if missing:
        between = b"" if not there or there.endswith(b"\n") else b"\n"
        with written_whole(ignore) as stream:
            stream.write(there + between + "".join(f"{line}\n" for line in missing).encode())


def write_converted(folder: Path, table: Table) -> Path:
    """Put the rows of a run behind those of earlier ones; beside, when what is there is somebody else's."""
    number = 1
    while True:
        path = folder / (f"converted {number}.csv" if number > 1 else "converted.csv")
        before = _earlier(path, table)
        if before is not None:
            whole = Table(table.title, list(table.columns), [*before, *table.rows])
            whole.save_csv(path)
            return path
        number += 1


def _earlier(path: Path, table: Table) -> list[tuple] | None:
    """Rows of an earlier run; None when the file is another one's."""
    if not path.exists():
        return []
    try:
        found = read_csv(path)
    except Trouble:
        return None
    if [c.name for c in found.columns] != [c.name for c in table.columns]:
        return None
    return [tuple("" if v is None else v for v in row) for row in zip(*found.values)] if found.count else []
