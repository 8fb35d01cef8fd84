"""The label map of an image that is in hand; versions of one."""

from __future__ import annotations

from ...core.operation import operation
from ...core.parameter import LabelName
from ...core.progress import Progress, silent
from ...core.table import Table
from ...outline.compare import compare_labels
from ...outline.disagreements import list_disagreements
from ..journal import versions
from ..kinds import AnyLabels
from ..study import Study


@operation(
    "outline",
    "Take a label map in hand",
    name="choose-labels",
    keywords="select switch work on",
    repeats=False,
    group="Label maps",
)
def choose_labels(study: Study, labels: AnyLabels) -> None:
    """Choose the label map that tools work on, on the image it is of."""
    study.maps.take_in_hand(labels.id)


@operation(
    "outline",
    "Name this version",
    name="name-version",
    keywords="snapshot save state ",
    repeats=False,
    group="Versions",
)
def name_version(study: Study, labels: AnyLabels, name: str) -> None:
    """Give the present state of a label map a name, to go back to it or compare with it.

    Parameters
    ----------
    name : text
        None that another version of it has already.
    """
    versions.name_version(study, labels.id, name)


@operation("outline", "List versions", name="versions", keywords="snapshot states", repeats=False, group="Versions")
def list_versions(study: Study, labels: AnyLabels) -> Table:
    """List the named versions of a label map, the newest first, and what has changed since."""
    return versions.as_table(study, labels.id)


@operation(
    "outline",
    "Back to a version",
    name="back-to-version",
    keywords="snapshot restore yesterday revert roll back",
    repeats=False,
    slow=True,
    edits="label map",
    group="Versions",
)
def back_to_version(study: Study, labels: AnyLabels, version: str, progress: Progress = silent()) -> None:
    """Bring a label map back to a named version, or to how it was before the last session; this can be undone.

    Parameters
    ----------
    version : text
        Name of the version.
    """
    versions.back_to(study, labels.id, version, progress)


@operation(
    "outline",
    "Compare with a version",
    name="compare-version",
    keywords="changes since dice overlap",
    repeats=False,
    slow=True,
    group="Versions",
    methods="Versions of label maps were compared by overlap and distance",
    cites=(
        "Dice 1945",
        "Jaccard 1912",
        "Taha 2015",
    ),
)
def compare_version(study: Study, labels: AnyLabels, version: str, progress: Progress = silent()) -> Table:
    """Compare a label map as it is now with a named version of it.

    Parameters
    ----------
    version : text
        Name of the version.
    """
    now = study.label_map(labels.id)
    then = versions.state_of(study, labels.id, version, progress.part(0.0, 0.2))
    # of its own, as somebody may paint meanwhile
    table = compare_labels(now.copied(), then, progress.part(0.2, 1.0))
    table.title = f"{now.name} now and in “{version}”"
    return table


@operation(
    "outline",
    "List what differs from a version",
    name="version-disagreements",
    keywords="difference between versions changes since where step through",
    repeats=False,
    slow=True,
    group="Versions",
    methods="Places where versions of label maps differ were listed by size",
)
def version_disagreements(
    study: Study, labels: AnyLabels, version: str, label: LabelName | None = None, progress: Progress = silent()
) -> Table:
    """List the places where a label map differs from a version of it, the largest first; a click on a row goes there.

    Parameters
    ----------
    version : text
        Name of the version.
    label : text
        One label alone; all when left out.
    """
    now = study.label_map(labels.id)
    then = versions.state_of(study, labels.id, version, progress.part(0.0, 0.2))
    then.name = f"“{version}”"
    table = list_disagreements(now.copied(), then, label, progress=progress.part(0.2, 1.0))
    table.title = f"Where {now.name} differs from “{version}”"
    return table
