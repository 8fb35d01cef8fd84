"""Writing OME-TIFF: tiled, packed, with a pyramid when the picture is large."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from ..core.claim import claimed
from ..core.errors import Trouble
from ..core.geometry.marks import Marks
from ..core.image import Image
from ..core.progress import Progress, silent
from ..core.safe_write import write_trouble
from ..core.values import colour_channels
from .exact_planes import exact_planes, number_type
from .ome_rois import KEY as MARKS
from .ome_rois import rois_of, with_rois
from .own_words import KEY, own_words

TILE = 512
PYRAMID_FROM = 2048
LETTERS = {"time": "t", "channel": "c"}


def ome_axes(image: Image) -> str:
    """Letters of the image's own axes, first one first; what is neither time nor channel takes a free letter of
    OME's."""
    free = iter([letter for letter in "tcahmp" if letter not in {LETTERS.get(a.name) for a in image.axes}])
    return "".join(LETTERS.get(a.name) or next(free) for a in image.axes)


def save_ome_tiff(path: Path, image: Image, progress: Progress | None = None, marks: Marks | None = None) -> int:
    """Write an image as OME-TIFF, plane by plane, values exactly as they are.

    The plane order is x, y, z, then the axes. Pixel sizes are written in µm; unit of the values, position and sides
    have no field in the format, and stand in an annotation of our own. Marks are written as regions of the standard;
    returned is how many lie in no slice and stand in our own words alone.

    Raises
    ------
    Trouble
        When the image has more than two axes beyond space, or cannot be written.
    """
    import tifffile

    if len(image.axes) > 2:
        raise Trouble(
            f"“{image.name}” has more than two axes beyond space, which OME-TIFF cannot say", "choose .nii.gz", path
        )
    progress = progress or silent()
    in_parts = image.part is not None and not image.axes and image.space.shape[2] == 1 and bool(image.levels)
    if image.colour:
        dtype = np.dtype(np.uint8)
    elif in_parts:
        dtype = read_part(image, 0, 1).dtype
    else:
        dtype = number_type(image, progress.part(0.0, 0.4))
    if dtype.itemsize == 8 and dtype.kind in "iu":
        raise Trouble(f"The numbers of “{image.name}” are too long for OME-TIFF", "choose .nii.gz", path)
    letters = ome_axes(image)
    columns, rows, depth = image.space.shape
    shape = (
        tuple(a.size for a in reversed(image.axes))
        + ((depth,) if depth > 1 else ())
        + (rows, columns)
        + ((3,) if image.colour else ())
    )
    names = letters[::-1].upper() + ("Z" if depth > 1 else "") + "YX" + ("S" if image.colour else "")
    metadata = {"axes": names, **_sizes(image), "Name": image.name}
    levels = levels_for(rows, columns)
    refs, rois, outside = "", "", 0
    if marks is not None:
        refs, rois, words, outside = rois_of(marks, image)
        metadata.setdefault("MapAnnotation", {})[MARKS] = words
    try:
        with claimed(path) as beside:
            with tifffile.TiffWriter(
                beside, bigtiff=int(np.prod(shape, dtype=object)) * dtype.itemsize > 3 << 30, ome=True
            ) as writer:
                tile = (TILE, TILE) if max(rows, columns) > TILE else None
                total = image.image_planes

                def planes():
                    if in_parts:
                        yield from _tiles_of_parts(image, coarse, dtype, path, progress)
                        return
                    for n, plane in enumerate(exact_planes(image, dtype, progress)):
                        progress.at(0.4 + 0.6 * n / total, f"Writing {path.name}")
                        yield from _tiles(plane, tile) if tile else (plane,)

                common = {
                    "tile": tile,
                    "compression": "zlib",
                    "photometric": "rgb" if image.colour else "minisblack",
                    "dtype": dtype,
                }
                half = (rows // 2, columns // 2, *((3,) if image.colour else ()))
                coarse = [np.empty(half, dtype)] if in_parts and levels else []
                writer.write(planes(), shape=shape, subifds=levels, metadata=metadata, **common)
                for n in range(levels):
                    if in_parts:
                        made = [coarse[0] if n == 0 else coarser(coarse[0], 2**n)]
                    else:
                        made = [coarser(plane, 2 ** (n + 1)) for plane in exact_planes(image, dtype, progress)]
                    size = made[0].shape[:2]
                    small = shape[: len(shape) - 2 - image.colour] + size + ((3,) if image.colour else ())
                    writer.write(
                        np.stack(made).reshape(small),
                        subfiletype=1,
                        metadata=None,
                        **(common | {"tile": (TILE, TILE)}),
                    )
            if rois:
                with tifffile.TiffFile(beside, mode="r+b") as file:
                    told = with_rois(file.ome_metadata or "", refs, rois)
                    file.pages.first.tags["ImageDescription"].overwrite(told.encode())
            beside.replace(path)
    except OSError as error:
        raise write_trouble(error, path) from error
    return outside


def levels_for(rows: int, columns: int) -> int:
    levels = 0
    while max(rows, columns) >> levels > PYRAMID_FROM:
        levels += 1
    return levels


def coarser(plane: np.ndarray, step: int) -> np.ndarray:
    """Means of blocks of step × step pixels; what is left over at the edges is dropped."""
    rows, columns = (n // step * step for n in plane.shape[:2])
    blocks = plane[:rows, :columns].reshape(rows // step, step, columns // step, step, *plane.shape[2:]).mean((1, 3))
    return np.rint(blocks).astype(plane.dtype) if plane.dtype.kind in "iu" else blocks.astype(plane.dtype)


def read_part(image: Image, top: int, bottom: int) -> np.ndarray:
    """Rows of a picture that is read in parts, [row, column] or [row, column, 3] of colours."""
    assert image.part is not None
    got = np.asarray(image.part((), (0, image.space.shape[0], top, bottom)))[:, :, 0]
    if image.colour and got.dtype != np.uint8:
        got = colour_channels(got)
    return got.swapaxes(0, 1)


def _tiles_of_parts(image: Image, coarse: list[np.ndarray], dtype: np.dtype, path: Path, progress: Progress):
    """Tiles of a picture that is read in parts, a row of tiles at a time; the first coarser level is made along the
    way."""
    columns, rows, _ = image.space.shape
    for top in range(0, rows, TILE):
        progress.at(top / rows, f"Writing {path.name}")
        bottom = min(top + TILE, rows)
        band = np.ascontiguousarray(read_part(image, top, bottom), dtype.newbyteorder("<"))
        if coarse:
            half = coarser(band, 2)
            coarse[0][top // 2 : top // 2 + half.shape[0]] = half[: coarse[0].shape[0] - top // 2]
        yield from _tiles(band, (TILE, TILE))


def _tiles(plane: np.ndarray, tile: tuple[int, int]):
    high, wide = tile
    for top in range(0, plane.shape[0], high):
        for left in range(0, plane.shape[1], wide):
            part = plane[top : top + high, left : left + wide]
            full = np.zeros((high, wide, *plane.shape[2:]), plane.dtype)
            full[: part.shape[0], : part.shape[1]] = part
            yield full


def _sizes(image: Image) -> dict:
    found: dict = {}
    if image.space.unit == "mm":
        for axis, size in zip("XYZ", image.space.spacing):
            if axis != "Z" or image.space.shape[2] > 1:
                found |= {f"PhysicalSize{axis}": size * 1000, f"PhysicalSize{axis}Unit": "µm"}
    for axis in image.axes:
        if axis.name == "time" and axis.step and axis.unit == "s":
            found |= {"TimeIncrement": axis.step, "TimeIncrementUnit": "s"}
    if names := channel_names(image):
        found["Channel"] = {"Name": names}
    if words := own_words(image):
        found["MapAnnotation"] = {KEY: words}
    return found


def channel_names(image: Image) -> list[str]:
    """Names for the places along the axis that is written as channels; "echo 1" and so on when it is another kind of
    axis."""
    at = ome_axes(image).find("c")
    if at < 0:
        return []
    axis = image.axes[at]
    return [axis.words(n) if axis.name == "channel" else f"{axis.name} {axis.words(n)}" for n in range(axis.size)]
