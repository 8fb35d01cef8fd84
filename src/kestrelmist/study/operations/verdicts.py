"""What somebody who looked at an alignment says of it."""

from __future__ import annotations

from typing import Annotated, Literal

from ...checks.alignments import aligns
from ...core.operation import operation
from ...core.parameter import Role
from ...core.table import Column, Table
from ..items import Record, now
from ..journal.changes import ItemChange
from ..journal.logbook import Step, person
from ..study import Study

AnyTransform = Annotated[Record, Role("transform")]
SAID = "body.said"


@operation(
    "align",
    "Say how an alignment is",
    name="say-alignment",
    keywords="quality control qc rating verdict accept reject pass fail fine doubtful bad review",
    repeats=False,
    group="Two images",
    called={"transform": "Alignment", "verdict": "It is"},
    methods="Alignments were looked at and judged by a person",
)
def say_alignment(
    study: Study, transform: AnyTransform, *, verdict: Literal["fine", "doubtful", "bad"], note: str = ""
) -> None:
    """Write down what somebody who looked says of an alignment. It stands with it, with who and when; the checks name
    what nobody has looked at.

    Parameters
    ----------
    verdict : text
        Fine, doubtful or bad.
    note : text
        Why.
    """
    title = f"Say that “{transform.name}” is {verdict}"
    said = {"verdict": verdict, "note": note.strip(), "who": person(), "when": now()}
    change = ItemChange(transform.id, title, {SAID: transform.body.get("said")}, {SAID: said})
    step = Step("say-alignment", title, {"verdict": verdict, "note": note.strip()},
                {"transform": (study.as_thing(transform),)})  # fmt: skip
    study.history.do([change], step, title)


@operation(
    "align",
    "Alignments and what is said of them",
    name="list-alignments",
    keywords="quality control qc list verdicts judged not judged review",
    repeats=False,
    group="Transforms",
)
def alignments(study: Study) -> Table:
    """List the transforms of the study with what somebody said of them; those that nobody has judged say so."""
    columns = [Column(name) for name in ("subject", "transform", "kind", "it is", "note", "who", "when")]
    rows = []
    for record in filter(lambda r: aligns(r.body), study.transforms()):
        said = said_of(record)
        kind = str(record.body.get("kind") or "affine")
        rows.append((record.subject, record.name, kind, said.get("verdict", "not judged"), said.get("note", ""),
                     said.get("who", ""), said.get("when", "")))  # fmt: skip
    return Table("Alignments", columns, rows)


def said_of(record: Record) -> dict[str, str]:
    """What was said of an alignment; empty when nothing was."""
    said = record.body.get("said")
    return said if isinstance(said, dict) else {}
