"""The stains of a bright-field section, each as an image of its own; and back to colour."""

from __future__ import annotations

import math
from typing import Annotated, NamedTuple

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.operation import operation
from ...core.parameter import Between, Only, Role
from ...core.progress import Progress, silent
from ...core.table import Column, Table
from .stain_vectors import (
    Stains,
    Vectors,
    estimated_vectors,
    known_vectors,
    optical_density,
    part_of,
    picked_vectors,
    pixels_in,
    sampled_colours,
)
from .unmixing import Unmixing

Area = Annotated[tuple[float, float, float, float] | None, Role("area")]
AMOUNTS = ("OD", "")
"""Units in which amounts of stains may be."""
BRIGHTER = 1.15
"""How much brighter than a white point that is given a picture may be."""
OfOneStain = Annotated[Area, Only("pair", "areas")]
White = Annotated[tuple[float, float, float] | None, Between(1, 255)]
STAIN, WHITE = "Stain", "White point"
"""Facts of a stain's image: its vector, and the white point it was separated with."""
GLASS = 0.12
"""Optical density above which an area is no glass."""
CLEAR = 0.93
"""Share of the brightest that glass passes, noise counted in."""
GREY = 4
"""Steps between red, green and blue below which a picture has no colour."""


class Separated(NamedTuple):
    """One image a stain, what they do not explain, and their vectors."""

    stains: list[Image]
    residual: Image
    vectors: Table


@operation(
    "prepare",
    "Separate stains",
    name="stains",
    keywords=(
        "colour color deconvolution unmix h&e haematoxylin hematoxylin eosin dab bright field histology "
        "density h&e h and e h-e colour deconvolution immunohistochemistry ihc"
    ),
    takes="colour",
    group="Sections",
    reach=math.inf,  # the white point and what is estimated are told by all of the picture
    called={
        "pair": "Stains",
        "white": "Colour of light",
        "white_area": "Or empty glass",
        "first": "First stain",
        "second": "Second stain",
        "third": "Third stain",
    },
    methods="Stains were separated by colour deconvolution ({pair})",
    cites=(
        "Ruifrok 2001",
        "Macenko 2009",
    ),
)
def stains(
    image: Image,
    pair: Stains = "haematoxylin and eosin",
    *,
    white: White = None,
    white_area: Area = None,
    first: OfOneStain = None,
    second: OfOneStain = None,
    third: OfOneStain = None,
    progress: Progress = silent(),
) -> Separated:
    """Separate the stains of a bright-field section: for every pixel how much there is of each, as optical density.

    Light that passes is taken for a product of what each stain lets through (A. C. Ruifrok and D. A. Johnston, Anal.
    Quant. Cytol. Histol. 23, 2001). Amounts are not below 0. A picture that is larger than memory is worked on part by
    part, when it is looked at.

    Parameters
    ----------
    pair : text
        Stains whose vectors are known; "estimate" finds those of two in the picture itself (M. Macenko et al., ISBI
        2009); "areas" takes them from framed areas that hold one stain each.
    white : three numbers
        Red, green and blue where there is nothing, 1 to 255. The brightest of the picture when left out.
    white_area : area
        An area of empty glass, in place of the numbers.
    first, second, third : area
        Of "areas": column, row, columns and rows of each.

    Returns
    -------
    stains : list of Image
        float32, in optical density (base 10) along each stain's vector.
    residual : Image
        Optical density that they do not explain.
    vectors : Table
        Red, green and blue of each stain, and the white point.

    Raises
    ------
    Trouble
        When the picture has no colour, an area lies outside it, the white one is no glass, or too little is stained to
        find the stains.
    """
    sample = require_colour(image)
    progress.at(0.1, "Looking at the colours")
    light, taken = _white_point(image, white, white_area, sample)
    if pair == "estimate":
        vectors = estimated_vectors(optical_density(sample, light), image.name)
    elif pair == "areas":
        vectors = picked_vectors(image, (first, second, third), light)
    else:
        vectors = known_vectors(pair)
    unmixing = Unmixing(np.array([v for _, v in vectors]), light)
    names = [*(name for name, _ in vectors), "residual"]
    made = [_stain(image, unmixing, n, name) for n, name in enumerate(names)]
    for one, (_, vector) in zip(made, vectors):
        one.facts = {**one.facts, STAIN: _numbers(vector), WHITE: _numbers(light)}
    return Separated(made[:-1], made[-1], _table(image, vectors, light, taken))


@operation(
    "prepare",
    "Colours of stains",
    name="stain-colours",
    keywords="back to colour recolour virtual stain merge ",
    group="Sections",
    reach=0.0,
    called={"pair": "Stains", "vectors": "Their colours", "white": "Colour of light"},
    rare="vectors white",
    methods="Stains were shown in their colours",
    cites=("Ruifrok 2001",),
)
def stain_colours(
    image: Image,
    others: list[Image] | None = None,
    *,
    pair: Stains = "estimate",
    vectors: str = "",
    white: White = None,
) -> Image:
    """Colours again, of one stain alone or of several together, as they would be seen.

    Parameters
    ----------
    image, others : Image
        Amounts of stains, as “Separate stains” makes them; one of them, or more.
    pair : text
        Give them the colours of a pair or triple by name; their own ones with "estimate". What ends in the name of a
        stain, as in "section 3, eosin", takes the colour of that stain; the others take what is left, in order.
    vectors : text
        Red, green and blue of each stain, as the report of “Separate stains” has them:
        "0.65 0.70 0.29, 0.07 0.99 0.11".
    white : three numbers
        Red, green and blue of the light; that they were separated with when left out.

    Raises
    ------
    Trouble
        When grids differ, nothing tells the colour of one, or there are more of them than the pair has stains.
    """
    everyone = [image, *(others or ())]
    for one in everyone:
        if one.unit not in AMOUNTS:
            raise Trouble(f"“{one.name}” is in {one.unit} and holds no amounts of a stain", "choose separated stains")
    if any(one.space != image.space for one in everyone):
        raise Trouble("These stains lie on different grids", "choose stains of one picture")
    if vectors:
        rows = _typed(vectors, len(everyone))
    elif pair in ("estimate", "areas"):
        rows = [_read(one, STAIN) for one in everyone]
        if any(row is None for row in rows):
            name = next(one.name for one, row in zip(everyone, rows) if row is None)
            raise Trouble(f"Nothing tells the colour of “{name}”", "choose a pair by name, or give its vectors")
    else:
        rows = _of_pair(everyone, pair)
    light = white or next((w for one in everyone if (w := _read(one, WHITE)) is not None), (255.0, 255.0, 255.0))
    unmixing = Unmixing(np.array(rows, float), np.array(light, float))

    def colours(values: list[np.ndarray]) -> np.ndarray:
        amounts = np.stack([np.nan_to_num(v) for v in values])
        flat = unmixing.colours(amounts.reshape(len(values), -1, 1))
        return flat.reshape(*values[0].shape, 3)

    made = image.like(
        lambda index, p: colours([one.frame(index).fetch(p) for one in everyone]),
        colour=True,
        unit="",
        name=f"{image.name}, in colour",
    )
    if all(one.part is not None for one in everyone):
        parts = [one.part for one in everyone]
        made.part = lambda index, box: colours([part(index, box) for part in parts if part is not None])
        made.levels = [
            level.like(
                lambda index, p, n=n: colours([one.levels[n].frame(index).fetch(p) for one in everyone]),
                colour=True,
                unit="",
            )
            for n, level in enumerate(image.levels)
        ]
    return made


def require_colour(image: Image) -> np.ndarray:
    """A sample of a picture's colours (n, 3); raises Trouble when it has none."""
    if not image.colour or image.axes or image.space.shape[2] != 1:
        raise Trouble(f"“{image.name}” is no picture in colour", "choose a bright-field section")
    sample = sampled_colours(image)
    if np.percentile(np.ptp(sample.astype(np.int16), axis=1), 99) < GREY:
        raise Trouble(f"“{image.name}” is grey, so its stains cannot be told apart", "choose a section in colour")
    return sample


def _white_point(image: Image, white, area, sample: np.ndarray) -> tuple[np.ndarray, str]:
    """Red, green and blue where there is nothing, and where they were taken from."""
    brightest = np.maximum(np.percentile(sample, 99, axis=0), 1.0)
    if white is not None:
        if (brightest > BRIGHTER * np.array(white)).any():
            raise Trouble(
                f"The white point {_numbers(white)} is darker than the picture, which has {_numbers(brightest)}",
                "give the colour of empty glass, or leave it out",
            )
        return np.array(white, float), "given"
    if area is not None:
        found = np.maximum(np.median(pixels_in(image, area), axis=0), 1.0)
        if (optical_density(found[None], brightest) > GLASS).any() or np.ptp(found) > 0.15 * found.max():
            raise Trouble(
                f"The area for the white point is no empty glass: red, green, blue are {_numbers(found)} there",
                "frame a place beside the tissue",
            )
        return found, "the area"
    bright = sample[(sample > CLEAR * brightest).all(1)]
    return np.median(bright, axis=0) if len(bright) else brightest, "the brightest pixels"


def _stain(image: Image, unmixing: Unmixing, n: int, name: str) -> Image:
    """One stain, worked out when it is looked at."""

    def of(level: Image) -> Image:
        def whole(index: tuple[int, ...], progress: Progress) -> np.ndarray:
            values = unmixing.amount(n, id(level), lambda: np.asarray(level.stored((), progress).values)[:, :, 0])
            return values[:, :, None]

        def part(index: tuple[int, ...], box: tuple[int, int, int, int]) -> np.ndarray:
            return unmixing.amount(n, (id(level), box), lambda: part_of(level, box))[:, :, None]

        made = level.like(whole, name=f"{image.name}, {name}", unit="OD", colour=False)
        made.part = part if level.part is not None else None
        return made

    made = of(image)
    made.levels = [of(level) for level in image.levels]
    return made


def _of_pair(everyone: list[Image], pair: str) -> list[tuple[float, ...] | None]:
    """The vectors of a pair for some of its stains: by the ends of their names, and in its order for the others."""
    known = dict(known_vectors(pair))
    if len(everyone) > len(known):
        raise Trouble(f"“{pair}” has {len(known)} stains, and {len(everyone)} were given", "choose fewer")
    left = list(known)
    named = []
    for one in everyone:
        named.append(next((name for name in left if one.name.lower().endswith(name.lower())), ""))
        left = [name for name in left if name != named[-1]]
    return [known[name or left.pop(0)] for name in named]


def _typed(text: str, count: int) -> list[tuple[float, ...] | None]:
    """Vectors that were typed, of length 1; raises Trouble when there are not as many, or they are no colours."""
    try:
        found = np.array([[float(v) for v in one.split()] for one in text.split(",")])
        good = found.shape == (count, 3) and bool((found >= 0).all()) and bool((found.max(1) > 0).all())
    except ValueError:
        good = False
    if not good:
        raise Trouble(f"“{text}” is not red, green and blue of {count} stains", "write them as in 0.65 0.70 0.29")
    return [tuple(row) for row in found / np.linalg.norm(found, axis=1, keepdims=True)]


def _numbers(values) -> str:
    return " ".join(f"{v:.6g}" for v in values)


def _read(image: Image, fact: str) -> tuple[float, ...] | None:
    try:
        found = tuple(float(v) for v in image.facts.get(fact, "").split())
    except ValueError:
        return None
    return found if len(found) == 3 else None


def _table(image: Image, vectors: Vectors, light: np.ndarray, taken: str) -> Table:
    columns = [Column("what"), *(Column(name, "", 4) for name in ("red", "green", "blue")), Column("taken from")]
    table = Table(f"Stains of {image.name}", columns)
    for name, vector in vectors:
        table.rows.append((name, *vector, ""))
    table.rows.append(("white point", *(float(v) for v in light), taken))
    return table
