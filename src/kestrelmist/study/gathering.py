"""Take the lines of a plan into a study, one after another; what is finished stays when the rest is stopped."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path

from ..core.errors import Cancelled, DiskFull, Trouble
from ..core.operation import find_operation
from ..core.progress import Progress, silent
from ..formats.dicom.labels import referenced_series
from ..gather.gather import place_in
from ..gather.plan import PlanLine
from ..gather.subject_rule import SubjectRule
from .catalogue_trouble import Gone
from .inputs import settle
from .keeping import AlreadyThere, keep_image, keep_into, step_of
from .study import Study
from .task import Task, compute

MOST = 6
"""Lines that are named; more are counted."""


@dataclass
class Taken:
    """What came of a plan: ids of the new images, lines that could not be taken with the reason, those whose image is
    in the study already, whether it was stopped, and why no more could be taken in, with the lines that are still to
    come."""

    keys: list[int] = field(default_factory=list)
    refused: list[tuple[PlanLine, str]] = field(default_factory=list)
    known: list[tuple[PlanLine, AlreadyThere]] = field(default_factory=list)
    labels: int = 0
    stopped: bool = False
    ended: str = ""
    names: list[str] = field(default_factory=list)
    left: list[PlanLine] = field(default_factory=list)

    @property
    def whole(self) -> bool:
        """Whether everything that was to be taken in is in the study now."""
        return not (self.refused or self.stopped or self.ended)

    @property
    def ending(self) -> str:
        """What a person is told of a plan that is not whole: which images are in, which are not, and why. Without full
        stop."""
        several = "images are" if len(self.names) != 1 else "image is"
        there = f"{len(self.names)} {several} in the study{': ' if self.names else ''}{_named(self.names)}"
        told = [self.ended.rstrip(".") or ("Stopped" if self.stopped else ""), there]
        told += [f"Not taken in: {_named([line.name for line in self.left])}"] if self.left else []
        told += [f"“{line.name}” is not: {why.rstrip('.')}" for line, why in self.refused[:MOST]]
        told += [f"Nor are {len(self.refused) - MOST} more"] if len(self.refused) > MOST else []
        return ". ".join(filter(None, told))


def take_lines(
    study: Study,
    lines: list[PlanLine],
    progress: Progress | None = None,
    told: Callable[[PlanLine, str], None] | None = None,
    folder: Path | None = None,
    rule: SubjectRule = SubjectRule(),
    spacing: tuple[float, float, float] | None = None,
) -> Taken:
    """Take in the lines marked `take`, images first, then labels onto their images.

    Parameters
    ----------
    told : callable, optional
        Called with a line and its state in words, from the thread that does the work.
    folder : path, optional
        Where the plan was made, for the logbook; `rule` and `spacing` are those of the plan.
    """
    progress, taken = progress or silent(), Taken()
    say = told or (lambda line, words: None)
    entry = 0
    wanted = sorted((line for line in lines if line.take), key=lambda line: line.kind == "labels")
    for n, line in enumerate(wanted):
        part = progress.part(n / len(wanted), (n + 1) / len(wanted))
        say(line, "reading")
        try:
            if line.kind == "labels":
                entry = _take_labels(study, line, entry)
                taken.labels += 1
            else:
                key, entry = _take_image(study, line, _told(part, line, say), folder, rule, spacing, entry)
                taken.keys.append(key)
                taken.names.append(line.name)
            say(line, "taken in")
        except Cancelled:
            say(line, "stopped")
            taken.stopped, taken.left = True, wanted[n:]
            break
        except (DiskFull, Gone) as trouble:
            why = Trouble(trouble.what.partition(";")[0], trouble.do, trouble.file)  # something may well be in
            taken.ended, taken.left = str(why), wanted[n:]
            for other in taken.left:
                say(other, "not taken in")
            break
        except AlreadyThere as trouble:
            taken.known.append((line, trouble))
            say(line, "there already")
        except Trouble as trouble:
            taken.refused.append((line, str(trouble)))
            say(line, "refused")
    return taken


def _named(names: list[str], most: int = MOST) -> str:
    more = f" and {len(names) - most} more" if len(names) > most else ""
    return ", ".join(f"“{name}”" for name in names[:most]) + more


def _told(progress: Progress, line: PlanLine, say: Callable[[PlanLine, str], None]) -> Progress:
    """A progress that also says how far the line is, in steps of five per cent."""
    last = [0]

    def listener(fraction: float, what: str) -> None:
        progress.at(fraction, what)
        step = int(20 * fraction)
        if step > last[0]:
            last[0] = step
            say(line, f"{5 * step} %")

    own = Progress(listener, progress.title)
    own.stop = progress.stop
    return own


def _take_image(
    study: Study,
    line: PlanLine,
    progress: Progress,
    folder: Path | None,
    rule: SubjectRule,
    spacing: tuple[float, float, float] | None,
    entry: int,
) -> tuple[int, int]:
    started = time.monotonic()
    progress.at(0.0, f"Reading {line.name}")
    image = line.open(progress.part(0.0, 0.1))
    settings = {
        "folder": folder or line.files[0],
        "series": place_in(folder or line.files[0], line),
        "subject": line.subject,
        "copy": line.copy,
        "uneven": "mend" if line.mend else "refuse",
        "subject_from": rule.source,
        "subject_pattern": rule.pattern,
        "spacing": spacing,
        "sequences": line.along,
    }
    task = Task("gather", find_operation("gather").checked(settings), {})
    step = replace(step_of(task), title=f"Gather “{line.name}”", seconds=time.monotonic() - started)
    return keep_image(study, image, step, progress.part(0.1, 1.0), entry)


def _take_labels(study: Study, line: PlanLine, entry: int) -> int:
    """Labels go onto the image of the study that they name; raises Trouble when it is not there."""
    for path in line.files:
        wanted = referenced_series(path)
        for fact in ("SeriesInstanceUID", "FrameOfReferenceUID"):
            record = next((r for r in study.records() if r.facts.get(fact) in wanted and not r.axes), None)
            if record is not None:
                break
        else:
            raise Trouble(f"The image that “{line.name}” was drawn on is not in the study", "gather it too", path)
        task = settle(study, "open-labels", {"image": record.id, "file": path})
        entry = keep_into(study, task, compute(study, task, silent()), entry)
    return entry
