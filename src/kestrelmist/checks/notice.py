"""What a check says: one plain sentence, how bad it is, and what mends it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..core.image import Image
from ..core.labels import LabelMap
from ..core.progress import Progress


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


@dataclass(frozen=True)
class Subject:
    """What a check looks at: the volume in the lead pane and its labels, never loaded for the check's sake; the series it is of,
    and what the study knows of all its images."""

    image: Image
    labels: LabelMap | None = None
    stop: np.ndarray | None = None
    series: Image | None = None
    records: Sequence = ()
    record_id: int | None = None

    @property
    def progress(self) -> Progress:
        """A Progress that ends when the checks are no longer wanted."""
        progress = Progress()
        if self.stop is not None:
            progress.stop = self.stop
        return progress


Check = Callable[[Subject], list[Notice]]
CHECKS: dict[str, tuple[Check, tuple[str, ...]]] = {}


def check(*stages: str):
    """Register a function as a check for some stages."""

    def register(function: Check) -> Check:
        CHECKS[function.__name__] = (function, stages)
        return function

    return register


def run_checks(subject: Subject, stage: str) -> list[Notice]:
    """All notices for a stage; one "fine" notice when nothing is wrong."""
    from . import spacing, labels, identity  # noqa: F401  (importing registers them)

    found = [n for function, stages in CHECKS.values() if stage in stages for n in function(subject)]
    found.sort(key=lambda n: n.level != "wrong")
    return found or [Notice("fine", "Nothing to mend here.")]
