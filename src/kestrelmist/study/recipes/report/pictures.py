"""Pictures made for judging what a step has done: outlines of labels, edges of one image on another, motion as a plot,
images before and after. Each kind of picture says for itself whether it suits a step."""

from __future__ import annotations

import io
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from ....core.curve import Curve
from ....core.errors import Cancelled, Trouble
from ....core.image import Image
from ....core.labels import LabelMap
from ....core.mapping import Mapping
from ....core.operation import find_operation, operation_called
from ....core.progress import Progress, silent
from ....core.through import seen_through
from ....scene.painting import PAINTERS, pages_taken
from ...journal.logbook import Step, Thing

if TYPE_CHECKING:
    from ...study import Study

WIDE, DPI = 180.0, 110.0
"""mm and dots an inch: sharp on a screen, and some hundred kilobytes."""
MOST = 30
"""Pictures of a unit."""
BEFORE = "before, "


@dataclass(frozen=True)
class Judged:
    """A picture, as PNG, with what it shows."""

    title: str
    png: bytes


def pictures_of(study: Study, steps: list[Step], progress: Progress | None = None) -> list[Judged]:
    """Pictures of what steps have made, in their order; what cannot be drawn any more is left out."""
    progress = progress or silent()
    found: list[Judged] = []
    shown: set[str] = set()
    for n, step in enumerate(steps):
        progress.at(n / max(1, len(steps)), "Drawing")
        about = operation_called(step.operation)
        for draw in KINDS:
            try:
                for made in draw(study, step):
                    if made.title.removeprefix(BEFORE) in shown:  # what one step gives is what the next begins with
                        continue
                    shown.add(made.title.removeprefix(BEFORE))
                    title = f"{about.title if about is not None else step.title}: {made.title}"
                    found.append(Judged(title, made.png))
            except Cancelled:
                raise
            except (Trouble, KeyError, ValueError):
                continue  # a picture is no result: the step stands in the report all the same
        if len(found) >= MOST:
            break
    return found[:MOST]


def _png(operation: str, **given) -> bytes:
    """What an operation of the Report stage draws, as PNG."""
    about = find_operation(operation)
    with pages_taken() as pages:
        about(None, **about.checked({n: v for n, v in given.items() if n in {p.name for p in about.settings}})
              | {n: v for n, v in given.items() if n in {p.name for p in about.inputs}})  # fmt: skip
    painter = next(one for one in PAINTERS if ".png" in one.endings)
    stream = io.BytesIO()
    painter.write(pages[0], stream, ".png")
    return stream.getvalue()


def _sheet(image: Image, plane: str = "axial", count: int = 6, **more) -> bytes:
    return _png(
        "sheet", image=_volume(image), to=Path("picture.png"), plane=plane, count=count, columns=count, width=WIDE,
        dpi=DPI, locator=False, bars=False, **more,
    )  # fmt: skip


def picture_of(image: Image, labels: LabelMap | None = None) -> bytes:
    """The middle slice of an image, with labels on it, as PNG."""
    return _sheet(image, count=1) if labels is None else _sheet(image, count=1, labels=labels)


def _volume(image: Image) -> Image:
    """A single volume: of a series the middle one."""
    return image.frame(tuple(a.size // 2 for a in image.axes)) if image.axes else image


def _things(study: Study, things: tuple[Thing, ...], kind: type) -> list:
    """What is still there of some things, opened."""
    found = []
    for thing in things:
        record = study.items.get(thing.item) if thing.item is not None else None
        if record is not None and not record.removed and record.known:
            opened = study.thing(record.id)
            if isinstance(opened, kind):
                found.append(opened)
    return found


def _first_input(study: Study, step: Step, kind: type):
    return next((one for things in step.inputs.values() for one in _things(study, things, kind)), None)


def outlines(study: Study, step: Step) -> list[Judged]:
    """Labels that were drawn, as outlines on the image they are of."""
    made = []
    for things in step.outputs.values():
        for thing in things:
            record = study.items.get(thing.item) if thing.item is not None else None
            if record is None or record.of is None or not record.known:
                continue
            labels = study.thing(record.id)
            if isinstance(labels, LabelMap):
                image = study.thing(record.of)
                planes = ("axial",) if image.space.shape[2] == 1 else ("axial", "sagittal")
                for plane in planes:
                    png = _sheet(image, plane, 1 if image.space.shape[2] == 1 else 6, labels=labels)
                    made.append(Judged(f"outlines of {record.name} ({plane})", png))
    return made


def edges(study: Study, step: Step) -> list[Judged]:
    """Edges of what was aligned, drawn on slices of what it was aligned with."""
    ways = [w for things in step.outputs.values() for w in _things(study, things, Mapping)]
    image, onto = (next(iter(_things(study, step.inputs.get(name, ()), Image)), None) for name in ("image", "onto"))
    if len(ways) != 1 or image is None or onto is None or ways[0].each_volume:
        return []
    seen = seen_through(_volume(image), ways[0].inverse())
    return [
        Judged(f"edges of {image.name} on {onto.name} ({plane})", _sheet(onto, plane, 5, over=[seen], compare="edges"))
        for plane in ("axial", "coronal", "sagittal")
    ]


def plots(study: Study, step: Step) -> list[Judged]:
    """Curves that a step has found, such as motion: those of one unit together."""
    curves = [c for things in step.outputs.values() for c in _things(study, things, Curve)]
    by: dict[str, list[Curve]] = {}
    for curve in curves[:12]:
        named = replace(curve, name=curve.name.partition(" of ")[0].replace("_", " "))
        by.setdefault(curve.unit, []).append(named)
    return [
        Judged(
            ", ".join(c.name for c in those[:4]),
            _png("plot", curves=those, to=Path("plot.png"), wide=WIDE, tall=50.0, dpi=DPI),
        )  # fmt: skip
        for those in list(by.values())[:3]
    ]


def before_and_after(study: Study, step: Step) -> list[Judged]:
    """An image as it was and as a step has made it, on the same slices."""
    about = operation_called(step.operation)
    if about is None or about.stage != "prepare" or about.lead is None or not about.results:
        return []
    image = next(iter(_things(study, step.inputs.get(about.lead.name, ()), Image)), None)
    made = next(iter(_things(study, step.outputs.get(about.results[0].name, ()), Image)), None)
    if made is None:
        return []
    count = 1 if made.space.shape[2] == 1 else 6
    found = [Judged(f"{made.name}", _sheet(made, count=count))]
    if image is not None and image.space.same_grid(made.space):
        found.insert(0, Judged(f"{BEFORE}{image.name}", _sheet(image, count=count)))
    return found


KINDS: tuple[Callable[..., list[Judged]], ...] = (outlines, edges, plots, before_and_after)
"""In the order in which they are drawn for a step."""
