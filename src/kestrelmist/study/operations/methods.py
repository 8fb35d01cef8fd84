"""What was done, as a paper tells it: sentences and sources, from the logbook."""

from __future__ import annotations

from ...core.errors import Trouble
from ...core.operation import operation
from ...core.parameter import NewPath
from ...core.safe_write import written_whole
from ...core.table import Column, Table
from ..methods import as_text, sentences_of
from ..study import Study
from ..subjects import standard_spaces

ENDINGS = (".md", ".txt")


@operation(
    "report",
    "Methods text",
    name="methods-text",
    keywords="methods section paper citations references bibliography manuscript boilerplate report",
    group="Steps",
)
def methods_text(study: Study, to: NewPath | None = None, *, subject: str = "") -> Table:
    """Tell what was done as a paper's methods do: a sentence a kind of step with its settings, how many subjects it was
    done for, and the sources of its method. Steps that were undone are left out, and so is what changes no value:
    names, places in the study, looks.

    Parameters
    ----------
    to : path
        Write it as text too: .md or .txt.
    subject : text
        Of this subject alone; of the whole study when left out.

    Returns
    -------
    Table
        Sentences in the order of doing, with numbers of their sources, and the sources below.

    Raises
    ------
    Trouble
        When nothing was done that is told, or the file is there already.
    """
    if to is not None and to.suffix.lower() not in ENDINGS:
        raise Trouble("A text is written as .md or .txt", "end the name in one of these", to)
    if to is not None and to.exists():
        raise Trouble("There is something of this name already", "name a new file", to)
    told, sources = sentences_of(study.logbook.entries(), subject, standard_spaces(study))
    if not told:
        whose = f" of {subject}" if subject else ""
        raise Trouble(f"Nothing was done{whose} yet that a methods text tells", "do it first", study.folder)
    table = Table(
        f"Methods{f' of {subject}' if subject else ''}", [Column("number"), Column("text"), Column("sources")]
    )
    table.rows += [(n, text, ", ".join(map(str, numbers))) for n, (text, numbers) in enumerate(told, 1)]
    table.rows += [(None, f"[{n}] {source}", "") for n, source in enumerate(sources, 1)]
    if to is not None:
        with written_whole(to) as stream:
            stream.write(as_text(told, sources).encode())
    return table
