"""Scale bars: burned into a picture, or alone on a transparent one of its size."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Literal

import numpy as np

from ..core.digits import plain
from ..core.errors import Trouble
from ..core.image import Image
from ..core.left_out import Found, LeftOut
from ..core.operation import operation
from ..core.parameter import Between, NewPath, Unit
from ..core.quantity import pretty_unit, suited_unit
from ..core.safe_write import require_new, written_whole
from ..core.scale import scale_of
from ..core.table import Column, Table
from ..scene.painters.raster import overlay
from ..scene.pieces import round_length
from ..scene.primitives import PALE, Panel, Primitive, contrasting, outlined
from .grid_page import burned, shown_colours

Corner = Literal["lower right", "lower left", "upper right", "upper left"]
SHARE, USUAL = 0.22, 900.0
"""Share of the width that a bar of round length fills at most; and the shorter side for which bars and words have their
usual size."""
MOST = 400_000_000
"""Pixels of a picture that is written at most."""
LOSSLESS = (".png", ".tif", ".tiff")


def _round(given: dict) -> Found | None:
    image = given.get("image")
    if image is None or image.space.unit != "mm":
        return None
    return Found(round_length(image.space.spacing[0], image.space.shape[0] * SHARE), "a round one")


@operation(
    "report",
    "Scale bar",
    name="scale-bar",
    keywords="scalebar bar length micrograph figure calibration bar burn in transparent png",
    takes="colour",
    called={"width": "Thickness", "letters": "Type size", "to": "New file"},
    rare="width letters colour words replace",
    group="Pictures",
)
def scale_bar(
    image: Image,
    to: NewPath,
    length: Annotated[float | None, Unit("mm"), Between(1e-9, 1e9), LeftOut("a round one", find=_round)] = None,
    *,
    transparent: bool = False,
    corner: Corner = "lower right",
    colour: str = "",
    width: Annotated[float | None, Unit("px"), Between(1, 1000), LeftOut("by the picture")] = None,
    letters: Annotated[float | None, Unit("px"), Between(4, 2000), LeftOut("by the picture")] = None,
    words: bool = True,
    replace: bool = False,
) -> Table:
    """Write a picture with a scale bar burned in, pixel for pixel; or the bar alone on a transparent one of its size.

    The bar has an edge that contrasts, so that it is seen on bright and dark alike. The size of a pixel stands in the
    file as well.

    Parameters
    ----------
    to : path
        The new picture: .png or .tif.
    length : mm
        Of the bar; a unit may stand behind it.
    transparent : bool
        The bar alone.
    corner : text
        Where it stands.
    colour : text
        As #RRGGBB; pale when left out.
    width : pixels
        How thick it is.
    letters : pixels
        How high its words are set.
    words : bool
        The length in words over the bar.
    replace : bool
        Take the place of a file of that name.

    Returns
    -------
    Table
        The file, the bar's length, pixels, and where the scale is from.

    Raises
    ------
    Trouble
        When the image has no scale or is no picture, the bar is longer than it or shorter than a pixel, or the file
        cannot be written.
    """
    to = Path(to)
    if to.suffix.lower() not in LOSSLESS:
        raise Trouble("A scale bar is written as .png or .tif", "name such a file", to)
    require_new(to, replace)
    space = image.space
    if space.unit != "mm":
        raise Trouble(f"“{image.name}” has no scale, so that a bar would mean nothing", "calibrate it first")
    if space.shape[2] != 1:
        raise Trouble(f"“{image.name}” is a volume", "write a picture of one of its planes (picture)")
    columns, rows = space.shape[:2]
    if columns * rows > MOST:
        raise Trouble(f"This picture has {columns * rows // 10**6} megapixels", "crop it first, or reduce it")
    length = round_length(space.spacing[0], columns * SHARE) if length is None else length
    long = length / space.spacing[0]
    if long > columns - 4:
        raise Trouble(f"A bar of {_words(length)} is longer than the picture ({_words(columns * space.spacing[0])})",
                      "give a shorter one")  # fmt: skip
    if long < 1:
        raise Trouble(f"A bar of {_words(length)} is shorter than a pixel", "give a longer one")
    grown = max(1.0, min(columns, rows) / USUAL)
    thick, high = width or max(3.0, 5 * grown), letters or max(12.0, 20 * grown)
    said = _words(length) if words else ""
    # only the corner is drawn in: pictures may be large
    size = min(columns, int(long + 8 * thick + high * (len(said) + 2)) + 32), min(rows, int(8 * thick + 3 * high) + 32)
    drawn = overlay(bar_primitives(size, long, said, corner, colour or PALE, thick, high), size)
    down = slice(0, size[1]) if "upper" in corner else slice(rows - size[1], rows)
    across = slice(0, size[0]) if "left" in corner else slice(columns - size[0], columns)
    whole = np.zeros((rows, columns, 4), np.uint8) if transparent else shown_colours(image)
    whole[down, across] = drawn if transparent else burned(whole[down, across], drawn)
    _write(to, whole, space.spacing)
    columns_of = [Column("image"), Column("file"), Column("bar"), Column("pixels", "px", 1), Column("scale")]
    row = (image.name, str(to), _words(length), float(long), scale_of(image).words)
    return Table(f"Scale bar on {image.name}", columns_of, [row])


def _words(length: float) -> str:
    unit, factor = suited_unit(length, "mm")
    return f"{plain(float(f'{length * factor:.6g}'))} {pretty_unit(unit)}"


def bar_primitives(
    size: tuple[int, int], long: float, words: str, corner: Corner, colour: str, thick: float, high: float
) -> list[Primitive]:
    """A bar with words over it in a corner of a page of so many pixels."""
    thick = max(1, round(thick))  # on whole pixels, so that it is as long as it says
    edge = max(1, round(thick / 4))
    other = contrasting(colour)
    margin = max(8.0, 2.4 * thick)
    columns, rows = size
    wide = max(long, 0.62 * high * len(words))
    left = margin if "left" in corner else columns - margin - wide
    top = margin + (1.3 * high if words else 0) if "upper" in corner else rows - margin - thick
    x, top = round(left + (wide - long) / 2), round(top)
    found: list[Primitive] = [
        Panel((x - edge, top - edge, long + 2 * edge, thick + 2 * edge), other),
        Panel((x, top, long, thick), colour),
    ]
    if words:
        found += outlined((x + long / 2, top - edge - 0.3 * high), words, high, colour, "ms")
    return found


def _write(path: Path, pixels: np.ndarray, spacing) -> None:
    """Write pixels with their size in the file."""
    from PIL import Image as Picture
    from PIL.TiffImagePlugin import ImageFileDirectory_v2

    picture = Picture.fromarray(pixels)
    a_metre = [1000.0 / s for s in spacing[:2]]
    with written_whole(path) as stream:
        if path.suffix.lower() == ".png":
            inch = tuple(min(n, 4e9) * 0.0254 for n in a_metre)
            picture.save(stream, "PNG", dpi=inch)
        else:
            tags = ImageFileDirectory_v2()
            tags[296] = 3  # a centimetre
            resolution = tuple(n / 100 for n in a_metre)
            picture.save(stream, "TIFF", tiffinfo=tags, x_resolution=resolution[0], y_resolution=resolution[1],
                         resolution_unit="cm", compression="tiff_deflate")  # fmt: skip
