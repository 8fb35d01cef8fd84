"""Single files that belong together, a time lapse or a series of sections, opened as one image."""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from ..core.axis import Axis
from ..core.caveat import SCALE_UNSURE, Caveat
from ..core.errors import Trouble
from ..core.image import Image, Origin
from ..core.progress import Progress
from ..core.values import Stored
from .format import format_of


def natural(name: str) -> list:
    """A key that puts "image 2" before "image 10"."""
    return [(0, int(part), "") if part.isdigit() else (1, 0, part.lower()) for part in re.findall(r"\d+|\D+", name)]


def stem_of(path: Path) -> str:
    """A file's name with its last number taken out: files that share it may be one sequence."""
    return re.sub(r"\d+(?=\D*$)", "#", path.name)


def sequences(paths: list[Path]) -> tuple[list[list[Path]], list[Path]]:
    """Files grouped into sequences of three or more that differ in their last number only, and the rest."""
    groups: dict[tuple[Path, str], list[Path]] = {}
    for path in paths:
        groups.setdefault((path.parent, stem_of(path)), []).append(path)
    several = [
        sorted(g, key=lambda p: natural(p.name)) for (_, stem), g in groups.items() if len(g) > 2 and "#" in stem
    ]
    inside = {p for g in several for p in g}
    return several, [p for p in paths if p not in inside]


def read_sequence(paths: list[Path], along: str = "time", before: bool = False) -> Image:
    """Files of one size as one image, in natural order of their numbers.

    Parameters
    ----------
    paths : list of path
    along : "time" or "slice"
        Whether each file is a time or a slice of a stack.
    before : bool
        Read them as older versions did.

    Raises
    ------
    Trouble
        When one differs from the first in size, colours or axes; it is named.
    """
    paths = sorted((Path(p) for p in paths), key=lambda p: natural(p.name))
    images: list[Image] = []
    for path in paths:
        known = format_of(path)
        if known is None:
            raise Trouble("This kind of file cannot be part of a sequence", "choose pictures of one kind", path)
        image = known.open_before(path) if before else known.open(path)
        if images:
            _require_like(images[0], image, path)
        images.append(image)
    first = images[0]
    name = re.sub(r"[\s_\-.]*#.*$", "", stem_of(paths[0])) or first.name
    origin = Origin("sequence", paths, reading={"along": along})
    common: dict[str, Any] = {
        "name": name,
        "subject": first.subject,
        "modality": first.modality,
        "unit": first.unit,
        "facts": first.facts,
        "colour": first.colour,
        "origin": origin,
        "caveats": first.caveats,
    }
    if along == "slice" and first.space.shape[2] == 1 and not first.axes:
        space = replace(first.space, shape=(*first.space.shape[:2], len(images)))
        doubt = Caveat(
            SCALE_UNSURE, "The distance between the slices is not known; it is taken to be the size of a pixel"
        )
        common["caveats"] = [*first.caveats, doubt]
        return Image(lambda index, progress: _stacked(images, progress), space, **common)
    return Image(
        lambda index, progress: images[index[0]]._fetch(index[1:], progress),
        first.space,
        axes=[Axis(along, len(images)), *first.axes],
        **common,
    )


def _require_like(first: Image, image: Image, path: Path) -> None:
    if image.shape != first.shape or image.colour != first.colour:
        size, wanted = (" × ".join(map(str, i.shape[:2] if i.space.shape[2] == 1 else i.shape)) for i in (image, first))
        what = (
            f"is {size} where the first is {wanted}"
            if size != wanted
            else "has colours where the first has none, or the other way round"
        )
        raise Trouble(
            f"“{path.name}” {what}, so these files are no sequence", "leave it out, or bring all to one size", path
        )


def _stacked(images: list[Image], progress: Progress) -> np.ndarray | Stored:
    """The slices as one volume: as stored when all have one scale, worked out exactly when they differ."""
    parts: list[Stored] = []
    for n, image in enumerate(images):
        progress.at(n / len(images), "Reading slices")
        got = image._fetch((), progress.part(n / len(images), (n + 1) / len(images)))
        parts.append(got if isinstance(got, Stored) else Stored(got))
    first = parts[0]
    if all((p.slope, p.intercept) == (first.slope, first.intercept) for p in parts):
        whole = np.concatenate([p.values for p in parts], 2)
        return whole if first.plain else Stored(whole, first.slope, first.intercept)
    return np.concatenate([p.exact() for p in parts], 2)
