"""Subjects as a table: edited, read and written; visits; things moved from one subject to another."""

from __future__ import annotations

from typing import Annotated

from ...core.errors import Trouble
from ...core.names import typed_name
from ...core.operation import operation
from ...core.parameter import FilePath, NewPath, Role
from ...core.safe_write import require_new
from ...core.subject import NONE, PARTICIPANT, Subject
from ...core.table import Column, Table
from ...formats.bids_names import FACT
from ...formats.participants import read_participants, write_participants
from ...gather.bids_targets import label
from ..items import ImageRecord
from ..journal.changes import Change, ItemChange
from ..journal.logbook import Step
from ..kinds import AnyImage, AnyThing
from ..stores.subjects import SUBJECTS
from ..study import Study
from ..subjects import VISIT, known_subjects, say, subject_of

SubjectName = Annotated[str, Role("subject")]


@operation(
    "gather",
    "Subjects",
    name="subjects",
    keywords="participants table list group age sex visits sessions demographics",
    group="Subjects",
)
def subjects(study: Study) -> Table:
    """List the subjects of the study: what is known of each, their visits, and how many images they have."""
    return table_of(study)


def table_of(study: Study) -> Table:
    """The subjects as a table, a row each."""
    known = known_subjects(study)
    names = list(dict.fromkeys(name for one in known for name in one.known))
    columns = [Column("subject"), *map(Column, names), Column("visits"), Column("images")]
    images: dict[str, int] = {}
    for record in study.records():
        images[record.subject] = images.get(record.subject, 0) + 1
    rows = [
        (
            one.name,
            *(one.known.get(n, "") for n in names),
            ", ".join(v.words for v in one.visits),
            images.get(one.name, 0),
        )
        for one in known
    ]
    return Table("Subjects", columns, rows)


@operation(
    "gather",
    "Say of a subject",
    name="set-subject",
    keywords="participant column age sex group edit demographics",
    repeats=False,
    group="Subjects",
)
def set_subject(study: Study, subject: SubjectName, column: str, value: str = "") -> None:
    """Put a value into a column of a subject, such as its age or group; nothing takes it out.

    Parameters
    ----------
    subject : text
        Its name.
    column : text
        Of the table of subjects; a new name makes a new one.
    value : text
        Any; left out, what stands there is taken out.

    Raises
    ------
    Trouble
        When there is no such subject, or that is no name of a column.
    """
    known = subject_of(study, _there(study, subject))
    changed = known.with_column(column, value)
    name = typed_name(column)
    title = f"{changed.name}: {name} {changed.known.get(name, 'taken out')}"
    settings = {"subject": known.name, "column": name, "value": value}
    say(study, [changed], Step("set-subject", title, settings))


@operation(
    "gather",
    "Say of a visit",
    name="set-visit",
    keywords="session visit timepoint longitudinal before after date",
    repeats=False,
    group="This image",
)
def set_visit(study: Study, image: AnyImage, visit: str, date: str = "", others: list[AnyImage] | None = None) -> None:
    """Say which visit of its subject an image is of.

    Parameters
    ----------
    visit : text
        Its name, such as before; one that is not there yet is made.
    date : text
        Of the visit, as in 2026-11-29.
    others : images
        More images of the same subject and visit.

    Raises
    ------
    Trouble
        When they are of another subject, there is no name, or the date is none.
    """
    several = [image, *(others or [])]
    strange = next((r for r in several if r.subject != image.subject), None)
    if strange is not None:
        raise Trouble(
            f"“{strange.name}” is of {strange.subject} and not of {image.subject}", "a visit is of one subject"
        )
    changed, made = subject_of(study, image.subject).with_visit(visit, date)
    title = f"{made.words} of {image.subject}: {', '.join(r.name for r in several)}"
    changes: list[Change] = [
        ItemChange(r.id, title, {f"body.{VISIT}": r.body.get(VISIT)}, {f"body.{VISIT}": made.id}) for r in several
    ]
    inputs = {"image": tuple(map(study.as_thing, several))}
    say(study, [changed], Step("set-visit", title, {"visit": made.name, "date": made.date}, inputs), changes)


@operation(
    "gather",
    "Rename a subject",
    name="rename-subject",
    keywords="participant id recode",
    repeats=False,
    group="Subjects",
)
def rename_subject(study: Study, subject: SubjectName, name: str) -> None:
    """Give a subject another name; everything of it goes along.

    Parameters
    ----------
    subject : text
        Its present name.
    name : text
        One that no other subject has.

    Raises
    ------
    Trouble
        When there is no such subject, or the name is taken or none.
    """
    old, fresh = _there(study, subject), typed_name(name)
    if not fresh:
        raise Trouble("A subject needs a name", "type one")
    if fresh == old:
        raise Trouble(f"“{old}” is called so already", "choose another name")
    if fresh.casefold() in {one.name.casefold() for one in known_subjects(study)} - {old.casefold()}:
        raise Trouble(f"There is a subject “{fresh}” already", "choose another name, or move the things there")
    title = f"Rename “{old}” to “{fresh}”"
    changes: list[Change] = []
    for record in study.items.everything().values():
        if record.subject == old:
            itself = record.kind == SUBJECTS.kind  # the row of what is known of it is called like it
            was = {"name": record.name} if itself else {}
            named = {"name": fresh} if itself else {}
            changes.append(ItemChange(record.id, title, {"subject": old} | was, {"subject": fresh} | named))
    study.history.do(changes, Step("rename-subject", title, {"subject": old, "name": fresh}), title)


@operation(
    "gather",
    "Move to a subject",
    name="move-to-subject",
    keywords="wrong subject reassign participant",
    repeats=False,
    group="This image",
)
def move_to_subject(study: Study, thing: AnyThing, subject: str) -> None:
    """Give a thing to another subject, with what is of it; its name changes only where that is taken there.

    Parameters
    ----------
    subject : text
        Its name; one that is not there yet is made.

    Raises
    ------
    Trouble
        When it is of that subject, or of a thing that goes elsewhere.
    """
    fresh = typed_name(subject)
    if not fresh:
        raise Trouble("A subject needs a name", "type one")
    there = {one.name for one in known_subjects(study)}
    if fresh not in there:  # one is meant that is written in another way
        fresh = next((name for name in sorted(there) if name.casefold() == fresh.casefold()), fresh)
    if thing.of is not None:
        raise Trouble(f"“{thing.name}” is of “{thing.owner}” and goes where that goes", f"move “{thing.owner}”")
    if fresh == thing.subject:
        raise Trouble(f"“{thing.name}” is of {fresh} already", "name another subject")
    title = f"Move “{thing.name}” of {thing.subject} to {fresh}"
    free = study.items.free_name(thing.name, thing.kind, fresh)
    before: dict[str, object] = {"subject": thing.subject, "name": thing.name}
    after: dict[str, object] = {"subject": fresh, "name": free}
    if isinstance(thing, ImageRecord):  # what is said of the other subject, its visits among it, stays behind
        own = {name: value for name, value in thing.facts.items() if not name.startswith(FACT)}
        for key, value in ((VISIT, None), ("facts", own)):
            if thing.body.get(key) not in (value, {}):
                before[f"body.{key}"], after[f"body.{key}"] = thing.body.get(key), value
    changes: list[Change] = [ItemChange(thing.id, title, before, after)]
    for other in study.items.owned(thing.id):
        changes.append(ItemChange(other.id, title, {"subject": other.subject}, {"subject": fresh}))
    step = Step("move-to-subject", title, {"subject": fresh}, {"thing": (study.as_thing(thing),)})
    study.history.do(changes, step, title)


@operation(
    "gather",
    "Read participants",
    name="import-participants",
    keywords="participants tsv csv demographics import table group age",
    repeats=False,
    group="Subjects",
)
def import_participants(study: Study, file: FilePath) -> Table:
    """Take what a table of participants says of the subjects of the study. Subjects are found by name, with or without
    “sub-”; what the table leaves out stays.

    Parameters
    ----------
    file : path
        TSV or CSV whose first column is participant_id.

    Returns
    -------
    table : Table
        Each row of the file, and whether its subject is in the study.

    Raises
    ------
    Trouble
        When it is no such table, names a participant twice, or names none of the study.
    """
    heads, rows = read_participants(file)
    known = {one.name: one for one in known_subjects(study)}
    by_label = {label(name).casefold(): name for name in known}
    changed: dict[str, Subject] = {}
    told = Table("Participants read", [Column("participant"), Column("subject"), Column("values")])
    for row in rows:
        name = row[0].removeprefix("sub-")
        subject = name if name in known else by_label.get(label(name).casefold())
        values = [(head, value) for head, value in zip(heads[1:], row[1:]) if value not in ("", NONE)]
        told.rows.append((row[0], subject or "not in this study", len(values) if subject else 0))
        if subject in changed:
            raise Trouble(f"Two rows of this table are for “{subject}”, one of them {row[0]}", "leave one row", file)
        if subject is not None:
            one = known[subject]
            try:
                for head, value in values:
                    one = one.with_column(head, value)
            except Trouble as trouble:
                raise Trouble(trouble.what, trouble.do, file) from None
            changed[subject] = one
    if not changed:
        raise Trouble(
            "This table names no subject of the study", "check its first column, or rename the subjects", file
        )
    say(
        study,
        list(changed.values()),
        Step("import-participants", f"Read participants from {file.name}", {"file": str(file)}),
    )
    return told


@operation(
    "gather",
    "Write participants",
    name="export-participants",
    keywords="participants tsv export demographics table save",
    repeats=False,
    group="Subjects",
)
def export_participants(study: Study, to: NewPath, *, replace: bool = False) -> Table:
    """Write the subjects as a table of participants, as BIDS has it: participant_id, then the columns; n/a where
    nothing is known.

    Parameters
    ----------
    to : path
        A new file, .tsv or .csv.
    replace : bool
        Take the place of a file of that name.

    Raises
    ------
    Trouble
        When there is a file of that name, two subjects would have one participant_id, or the place cannot be written.
    """
    require_new(to, replace)
    known = known_subjects(study)
    ids = [f"sub-{label(one.name) or 'unnamed'}" for one in known]
    doubled = next((one for n, one in enumerate(ids) if one in ids[:n]), None)
    if doubled is not None:
        raise Trouble(f"Two subjects would be called {doubled}", "rename one of them", to)
    names = list(dict.fromkeys(name for one in known for name in one.known))
    rows = [[i, *(one.known.get(n, "") for n in names)] for i, one in zip(ids, known)]
    write_participants(to, [PARTICIPANT, *names], rows)
    return Table(
        "Participants written",
        [Column("subjects"), Column("columns"), Column("file")],
        [(len(known), len(names), str(to))],
    )


def _there(study: Study, name: str) -> str:
    """The name of a subject as the study has it; raises Trouble when there is none."""
    names = [one.name for one in known_subjects(study)]
    alike = (n for n in names if n.casefold() == name.casefold())
    found = name if name in names else next(alike, None)
    if found is None:
        have = ", ".join(names[:12]) or "none"
        raise Trouble(f"No subject is called “{name}” in this study", f"choose one of: {have}")
    return found
