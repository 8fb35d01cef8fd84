"""What light each stain takes: known vectors, and vectors found in a picture.

A vector is the optical density of red, green and blue that an amount of 1 of a stain has, of length 1.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Literal, get_args

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.values import colour_channels

Stains = Literal[
    "haematoxylin and eosin",
    "haematoxylin and DAB",
    "haematoxylin, eosin and DAB",
    "haematoxylin and AEC",
    "haematoxylin and PAS",
    "alcian blue and haematoxylin",
    "Feulgen and light green",
    "Giemsa",
    "methyl green and DAB",
    "methyl blue and ponceau fuchsin",
    "aniline blue, azocarmine and orange G",
    "fast red, fast blue and DAB",
    "estimate",
    "areas",
]
KNOWN = {
    "haematoxylin and eosin": ("rgb_from_hed", ("haematoxylin", "eosin")),
    "haematoxylin and DAB": ("rgb_from_hdx", ("haematoxylin", "DAB")),
    "haematoxylin, eosin and DAB": ("rgb_from_hed", ("haematoxylin", "eosin", "DAB")),
    "haematoxylin and AEC": ("rgb_from_hax", ("haematoxylin", "AEC")),
    "haematoxylin and PAS": ("rgb_from_hpx", ("haematoxylin", "PAS")),
    "alcian blue and haematoxylin": ("rgb_from_ahx", ("alcian blue", "haematoxylin")),
    "Feulgen and light green": ("rgb_from_fgx", ("Feulgen", "light green")),
    "Giemsa": ("rgb_from_bex", ("methylene blue", "eosin")),
    "methyl green and DAB": ("rgb_from_gdx", ("methyl green", "DAB")),
    "methyl blue and ponceau fuchsin": ("rgb_from_bpx", ("methyl blue", "ponceau fuchsin")),
    "aniline blue, azocarmine and orange G": ("rgb_from_bro", ("aniline blue", "azocarmine", "orange G")),
    "fast red, fast blue and DAB": ("rgb_from_rbd", ("fast red", "fast blue", "DAB")),
}
"""Where the library has the vectors, and what the stains are called."""
assert set(KNOWN) | {"estimate", "areas"} == set(get_args(Stains))
LEAST = 0.15
"""Optical density below which a pixel tells nothing of a stain's colour."""
SHARE = 1.0
"""Percent of the pixels at each end that are passed over when the purest are sought."""
SAMPLE = 600_000
FEWEST = 500
APART = 0.10
"""Angle between two stains, in radians, below which they cannot be told apart."""
Vectors = list[tuple[str, tuple[float, float, float]]]


def known_vectors(stains: str) -> Vectors:
    """The vectors of a pair or triple by name (A. C. Ruifrok and D. A. Johnston, Anal. Quant. Cytol. Histol. 23, 2001,
    and later measurements, as scikit-image has them)."""
    from skimage.color import colorconv

    table, names = KNOWN[stains]
    return [(name, _unit(row)) for name, row in zip(names, getattr(colorconv, table))]


def estimated_vectors(densities: np.ndarray, name: str) -> Vectors:
    """The vectors of two stains from a picture's own colours (M. Macenko et al., ISBI 2009): the purest colours at both
    ends of the plane in which most of them lie. The one that takes more red comes first.

    Parameters
    ----------
    densities : array (n, 3)
        Optical densities of a sample of the pixels.

    Raises
    ------
    Trouble
        When too little is stained, or there is but one colour.
    """
    dark = densities[(densities > LEAST).any(1) & (densities.min(1) > -LEAST)]
    dark = dark[np.linalg.norm(dark, axis=1) > 1.5 * LEAST]
    if len(dark) < FEWEST:
        raise Trouble(
            f"Too little of “{name}” is stained to find the colours of its stains",
            "choose a pair by name, or frame areas",
        )
    _, ways = np.linalg.eigh(np.cov(dark.T))
    plane = ways[:, [2, 1]]
    plane *= np.where(plane.sum(0) < 0, -1, 1)
    angles = np.arctan2(*(dark @ plane).T[::-1])
    ends = np.percentile(angles, (SHARE, 100 - SHARE))
    if ends[1] - ends[0] < 2 * APART:  # noise alone has some width
        raise Trouble(f"“{name}” has one colour, so two stains cannot be told apart", "choose a pair by name")
    found = [_unit(np.clip(plane @ (math.cos(a), math.sin(a)), 0, None)) for a in ends]
    found.sort(key=lambda v: -v[0])
    return [("stain 1", found[0]), ("stain 2", found[1])]


def picked_vectors(image: Image, areas: Sequence[tuple[float, ...] | None], white: np.ndarray) -> Vectors:
    """The vectors of stains from areas that hold one of them each: the mean density there.

    Raises
    ------
    Trouble
        When fewer than two areas are given, one lies outside or holds no stain, or two have the same colour.
    """
    given = [area for area in areas if area is not None]
    if len(given) < 2:
        raise Trouble("Stains by areas need two or three areas", "frame one for each stain")
    found: Vectors = []
    for n, area in enumerate(given, 1):
        mean = optical_density(pixels_in(image, area), white).mean(0)
        if not np.linalg.norm(mean) > LEAST:
            raise Trouble(f"Area {n} holds nearly no stain", "frame a place that is stained")
        found.append((f"stain {n}", _unit(np.clip(mean, 0, None))))
    require_apart(found)
    return found


def require_apart(vectors: Vectors) -> None:
    """Raises Trouble when two stains have nearly the same colour."""
    for n, (a, first) in enumerate(vectors):
        for b, second in vectors[n + 1 :]:
            if math.acos(min(1.0, float(np.dot(first, second)))) < APART:
                raise Trouble(f"{a.capitalize()} and {b} have the same colour", "frame places of other colours")


def pixels_in(image: Image, area: Sequence[float]) -> np.ndarray:
    """Colours (n, 3) of a framed area: first column and row, columns and rows; raises Trouble when it lies outside."""
    left, top, columns, rows = (round(v) for v in area)
    wide, high, _ = image.space.shape
    right, bottom = min(left + columns, wide), min(top + rows, high)
    left, top = max(left, 0), max(top, 0)
    if right <= left or bottom <= top:
        raise Trouble(f"The area lies outside “{image.name}”", "frame one on the picture")
    return part_of(image, (left, right, top, bottom)).reshape(-1, 3)


def part_of(image: Image, box: tuple[int, int, int, int]) -> np.ndarray:
    """Colours uint8 [i, j, 3] of a part of a picture: first i, last i + 1, first j, last j + 1."""
    if image.part is None:
        return colour_channels(image.data[box[0] : box[1], box[2] : box[3], 0])
    got = np.asarray(image.part((), box))[:, :, 0]
    return got if got.dtype == np.uint8 else colour_channels(got)


def sampled_colours(image: Image) -> np.ndarray:
    """Colours (n, 3) of an even sample of a picture; of one that is larger than memory, of parts at full resolution."""
    columns, rows, _ = image.space.shape
    if image.part is not None and columns * rows > 4 * SAMPLE:
        side, count = 192, 4
        found = []
        for x in np.linspace(0.12, 0.88, count):
            for y in np.linspace(0.12, 0.88, count):
                left, top = int(x * (columns - side)), int(y * (rows - side))
                found.append(part_of(image, (left, left + side, top, top + side)).reshape(-1, 3))
        return np.concatenate(found)
    step = max(1, int(math.sqrt(columns * rows / SAMPLE)))
    packed = image.data[::step, ::step, 0]
    return colour_channels(packed).reshape(-1, 3)


def optical_density(colours: np.ndarray, white: np.ndarray) -> np.ndarray:
    """−log10 of the share of light that passes; a pixel without any light counts as half a step above black."""
    return -np.log10(np.maximum(np.asarray(colours, float), 0.5) / white)


def _unit(vector) -> tuple[float, float, float]:
    v = np.asarray(vector, float)
    v = v / np.linalg.norm(v)
    return float(v[0]), float(v[1]), float(v[2])
