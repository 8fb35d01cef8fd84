"""Which pictures come into a set, whose they are, and which part each goes to."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, replace
from pathlib import Path

from ...core.errors import Trouble
from ...core.names import file_name
from ...core.progress import Progress
from .box_table import BoxTable, Row
from .picture_match import Matched, stem_of
from .same_files import Joined, same_content
from .set_parts import by_column, shared_out
from .set_work import Wanted

Problem = tuple[str, str, "int | None", str]
"""Kind, picture, line of the table and sentence of what does not come into the set, or not as it stands."""
NO_SUBJECTS = "no subjects"


@dataclass
class _Picture:
    """A file that the table names, under one or several names, with its rows."""

    name: str
    file: Path
    rows: list[Row]

    @property
    def subjects(self) -> list[str]:
        return sorted({row.subject for row in self.rows if row.subject})

    @property
    def subject(self) -> str:
        """Whose it is; where nobody says it, it counts as one of its own."""
        return self.subjects[0] if self.subjects else self.name


@dataclass(frozen=True)
class Shares:
    """How pictures are shared out; see the operation `picture_set`."""

    validation: float
    test: float
    seed: int
    balanced: bool
    by_column: bool


def planned(boxes: BoxTable, files: Matched, shares: Shares, progress: Progress) -> tuple[list[Wanted], list[Problem]]:
    """The pictures of a set, and everything that is to be said of the table and its files.

    A file is one picture however it is spelled, and files of the same content are in one part, whosever they are.

    Raises
    ------
    Trouble
        When no picture of the table is there, the parts of a column contradict each other, or nothing is left for
        training.
    """
    problems = _of_rows(boxes, files)
    pictures = _of_one_subject(_by_file(boxes, files, problems), problems)
    if not pictures:
        first = boxes.rows[0].picture if boxes.rows else ""
        raise Trouble(
            f"No picture of the table is in this folder; the first one sought is “{first}”",
            "choose the folder, or say which column names the pictures",
        )
    _say_of_subjects(boxes, pictures, problems)
    if shares.by_column and "part" not in boxes.columns.where:
        raise Trouble("No column of this table says which part a row is in", "name it, as in --columns part=Split")
    # what a column says stands; pictures that it has in two parts are found by their pixels
    together = Joined() if shares.by_column else _together(pictures, problems, progress)
    rows: dict[str, list[Row]] = defaultdict(list)
    for one in pictures:
        rows[together.group(one.subject)] += one.rows
    if shares.by_column:
        parts = by_column({subject: [row.part for row in several] for subject, several in rows.items()})
    else:
        classes = {subject: [row.label for row in several] for subject, several in rows.items()}
        parts = shared_out(classes, shares.validation, shares.test, shares.seed, shares.balanced)
    return _placed(pictures, {one.name: parts[together.group(one.subject)] for one in pictures}), problems


def _of_rows(boxes: BoxTable, files: Matched) -> list[Problem]:
    """What is wrong with rows, and with names and files that do not find each other."""
    lines: dict[str, int] = {}
    for row in boxes.rows:
        lines.setdefault(row.picture, row.line)
    found: list[Problem] = [("row", "", line, f"line {line} of the table {words}") for line, words in boxes.problems]
    found += [("reversed", "", line, f"line {line} of the table {words}") for line, words in boxes.mended]
    found += [("missing", name, lines[name], "no file has this name") for name in files.missing]
    for name, several in files.double.items():
        found.append(("double", name, lines[name], f"{len(several)} files have this name, {several[0]} first"))
    found += [("not in the table", path.name, None, f"{path} is named by no row") for path in files.unnamed]
    return found


def _by_file(boxes: BoxTable, files: Matched, problems: list[Problem]) -> list[_Picture]:
    """A picture a file: one that is spelled in several ways has the rows of all, each once."""
    found: dict[Path, _Picture] = {}
    said: set[tuple[Path, str]] = set()
    for row in boxes.rows:
        file = files.files.get(row.picture)
        if file is None:
            continue
        one = found.setdefault(file, _Picture(row.picture, file, []))
        if row.picture != one.name and (file, row.picture) not in said:
            said.add((file, row.picture))
            words = f"is the same file as “{one.name}”, and counts as that"
            problems.append(("two names", row.picture, row.line, f"“{row.picture}” {words}"))
        alike = next((r for r in one.rows if replace(r, line=0, picture="") == replace(row, line=0, picture="")), None)
        if alike is None or row.picture == one.name:
            one.rows.append(row)
        else:
            problems.append(("row", row.picture, row.line, f"line {row.line} says the same as line {alike.line}"))
    return list(found.values())


def _of_one_subject(pictures: list[_Picture], problems: list[Problem]) -> list[_Picture]:
    """Those whose rows name one subject at most; the others are left out."""
    kept = []
    for one in pictures:
        if len(one.subjects) > 1:
            told = f"its rows name {len(one.subjects)} subjects: {', '.join(one.subjects)}"
            problems.append(("two subjects", one.name, one.rows[0].line, told))
        else:
            kept.append(one)
    return kept


def _say_of_subjects(boxes: BoxTable, pictures: list[_Picture], problems: list[Problem]) -> None:
    """What nobody says of subjects is said aloud: pictures of one subject could be in training and in validation."""
    risk = "counts as a subject of its own, and may be in another part than others of the same one"
    if "subject" not in boxes.columns.where:
        problems.insert(0, (NO_SUBJECTS, "", None, f"no column of the table names subjects: every picture {risk}"))
        return
    for one in pictures:
        if not one.subjects:
            problems.append(("no subject", one.name, one.rows[0].line, f"no row names its subject: it {risk}"))


def _together(pictures: list[_Picture], problems: list[Problem], progress: Progress) -> Joined:
    """Subjects that have to be in one part, as they have a picture of the same content."""
    by_file = {one.file: one for one in pictures}
    joined = Joined()
    for group in same_content(by_file, progress):
        first, *others = (by_file[path] for path in group)
        for other in others:
            joined.join(first.subject, other.subject)
            if first.subject != other.subject:
                whose = f"“{first.subject}” and “{other.subject}” are in one part"
                words = f"holds the same as {first.file.name}, so {whose}"
            else:
                words = f"holds the same as {first.file.name}"
            problems.append(("same content", other.name, other.rows[0].line, words))
    return joined


def _placed(pictures: list[_Picture], parts: dict[str, str]) -> list[Wanted]:
    """A file of its own for each array, by subjects and names; no two alike, capitals aside."""
    taken: set[str] = set()
    found = []
    for one in sorted(pictures, key=lambda one: (one.subject, one.name)):
        part = parts[one.name]
        stem = file_name(stem_of(Path(one.name.replace("\\", "/")).name)) or "picture"
        name, n = stem, 2
        while f"{part}/{name}".casefold() in taken:
            name, n = f"{stem} {n}", n + 1
        taken.add(f"{part}/{name}".casefold())
        found.append(Wanted(one.name, one.file, one.subject, part, tuple(one.rows), f"{part}/{name}.npy"))
    return found
