"""What a check says: one plain sentence, how bad it is, and what mends it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..core.errors import Cancelled, Trouble
from ..core.geometry.marks import Marks
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.progress import Progress
from ..core.registry import Registry


@dataclass(frozen=True)
class Mend:
    """A button: runs an operation with settings, or opens its form when it has something to `ask`."""

    words: str
    operation: str
    settings: dict[str, Any] = field(default_factory=dict)
    ask: bool = False


@dataclass(frozen=True)
class Notice:
    """`level` is "look" (amber), "wrong" (red) or "fine" (moss)."""

    level: str
    sentence: str
    mend: Mend | None = None
    check: str = ""
    place: tuple[float, float, float] | None = None
    """A world position at which it is seen; a button goes there."""


@dataclass(frozen=True)
class Subject:
    """What a check looks at.

    Parameters
    ----------
    image : Image
        The volume in the lead pane, never loaded for the check's sake; of a large picture, the level that is shown.
    labels : LabelMap, optional
        Its label map in hand.
    stop : uint8 array of one, optional
        Set to 1 from outside when the checks are no longer wanted.
    whole : Image, optional
        The image of the study that the volume is of, at its own resolution; `image` when left out.
    records : sequence
        What the study knows of all its images.
    record_id : int, optional
        Which of them this one is.
    over : sequence
        What the study knows of the images that lie over it.
    transforms : sequence
        What the study knows of the transforms of the same subject.
    marks : Marks, optional
        Those of the image that are in hand.
    other_maps : sequence of LabelMap
        Further label maps of the image that are in memory.
    """

    image: Image
    labels: LabelMap | None = None
    stop: np.ndarray | None = None
    whole: Image | None = None
    records: Sequence = ()
    record_id: int | None = None
    over: Sequence = ()
    transforms: Sequence = ()
    marks: Marks | None = None
    other_maps: Sequence[LabelMap] = ()

    @property
    def series(self) -> Image:
        return self.whole or self.image

    @property
    def progress(self) -> Progress:
        """A Progress that ends when the checks are no longer wanted."""
        progress = Progress()
        if self.stop is not None:
            progress.stop = self.stop
        return progress


@dataclass(frozen=True)
class Check:
    """A registered check: what it looks at is given by the stages it is run in; a lower `rank` is said first."""

    name: str
    function: Callable[[Subject], list[Notice]]
    stages: tuple[str, ...]
    rank: int = 0

    @property
    def words(self) -> str:
        return self.name.replace("_", " ")


CHECKS: Registry[Check] = Registry("check", __package__, order=lambda c: c.rank)
LEVELS = ("wrong", "look", "fine")


def check(*stages: str, rank: int = 0):
    """Register a function as a check for some stages.

    Parameters
    ----------
    stages : str
        Stages of the Path in which it is run.
    rank : int
        Where its notices stand among those of the same level.
    """

    def register(function: Callable[[Subject], list[Notice]]):
        CHECKS.add(function.__name__, Check(function.__name__, function, stages, rank))
        return function

    return register


def run_checks(subject: Subject, stage: str) -> list[Notice]:
    """All notices for a stage; one "fine" notice when nothing is wrong. A check that fails is a notice too, and hides
    none of the others.

    Raises
    ------
    Cancelled
    """
    found: list[Notice] = []
    for one in CHECKS:
        if stage not in one.stages:
            continue
        try:
            found += one.function(subject)
        except Cancelled:
            raise
        except Trouble as trouble:
            found.append(Notice("look", f"The check of {one.words} could not be done. {trouble}", None, one.name))
        except Exception as error:  # a fault of ours must not silence the other checks
            said = f"The check of {one.words} failed ({type(error).__name__}: {error})."
            found.append(Notice("look", said, None, one.name))
    found.sort(key=lambda n: LEVELS.index(n.level))
    return found or [Notice("fine", "Nothing to mend here.")]
