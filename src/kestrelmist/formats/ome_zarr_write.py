"""Writing OME-Zarr 0.5 with a pyramid."""

from __future__ import annotations

import shutil
from pathlib import Path

import numpy as np

from ..core.claim import claimed
from ..core.errors import Trouble
from ..core.image import Image
from ..core.progress import Progress, silent
from ..core.safe_write import write_trouble
from .exact_planes import exact_planes, number_type
from .own_words import KEY, own_words
from .tiff_write import channel_names, coarser, levels_for, ome_axes

CHUNK = {True: (1, 1024, 1024), False: (64, 128, 128)}
"""Chunk along z, y, x of flat pictures and of volumes."""


def save_ome_zarr(path: Path, image: Image, progress: Progress | None = None) -> None:
    """Write an image as an OME-Zarr folder, values exactly as they are, coarser levels as means of 2 × 2 blocks.

    The position matrix is kept in attributes of our own beside the format's sizes.

    Raises
    ------
    Trouble
        When the image has colours beside a channel axis or more axes than time and channel, or cannot be written.
    """
    import zarr

    letters = ome_axes(image)
    if any(letter not in "tc" for letter in letters) or (image.colour and "c" in letters):
        raise Trouble(f"“{image.name}” has axes that OME-Zarr cannot say", "choose .nii.gz", path)
    progress = progress or silent()
    dtype = np.dtype(np.uint8) if image.colour else number_type(image, progress.part(0.0, 0.4))
    columns, rows, depth = image.space.shape
    order = sorted(letters + ("c" if image.colour else ""), key="tc".index)
    sizes = {letter: a.size for letter, a in zip(letters, image.axes)} | ({"c": 3} if image.colour else {})
    try:
        with claimed(path) as beside:
            group = zarr.open_group(str(beside), mode="w", zarr_format=3)
            chunk = tuple(min(a, b) for a, b in zip(CHUNK[depth == 1], (depth, rows, columns)))
            levels = levels_for(rows, columns)
            arrays = [
                group.create_array(
                    str(n),
                    shape=(*(sizes[letter] for letter in order), depth, rows >> n, columns >> n),
                    chunks=(1,) * len(order) + chunk,
                    dtype=dtype,
                )
                for n in range(levels + 1)
            ]
            group.attrs.update(_attributes(image, order, levels))
            total = image.count
            planes = exact_planes(image, dtype, progress)
            for n, index in enumerate(image.indices()):
                place = [0] * len(order)
                for letter, at in zip(letters, index):
                    place[order.index(letter)] = at
                for k in range(0, depth, chunk[0]):
                    block = []
                    for plane in range(k, min(k + chunk[0], depth)):
                        progress.at(0.4 + 0.6 * (n + plane / depth) / total, f"Writing {path.name}")
                        block.append(next(planes))
                    for level, array in enumerate(arrays):
                        _put(
                            array,
                            order,
                            place,
                            k,
                            np.stack([b if level == 0 else coarser(b, 2**level) for b in block]),
                            image.colour,
                        )
            if path.exists():
                shutil.rmtree(path) if path.is_dir() else path.unlink()
            beside.rename(path)
    except OSError as error:
        raise write_trouble(error, path) from error


def _put(array, order, place: list[int], k: int, block: np.ndarray, colour: bool) -> None:
    rows, columns = array.shape[-2:]
    block = block[:, :rows, :columns]
    for c in range(3 if colour else 1):
        if colour:
            place[order.index("c")] = c
        array[(*place, slice(k, k + len(block)))] = block[..., c] if colour else block


def _attributes(image: Image, order, levels: int) -> dict:
    kinds = {"t": "time", "c": "channel"}
    in_mm = image.space.unit == "mm"
    axes = [{"name": letter, "type": kinds[letter]} | ({"unit": "second"} if letter == "t" else {}) for letter in order]
    axes += [{"name": letter, "type": "space"} | ({"unit": "millimeter"} if in_mm else {}) for letter in "zyx"]
    time = next((a.step for a in image.axes if a.name == "time"), None) or 1.0
    spacing = image.space.spacing[::-1]
    datasets = [
        {
            "path": str(n),
            "coordinateTransformations": [
                {
                    "type": "scale",
                    "scale": [
                        *(time if letter == "t" else 1.0 for letter in order),
                        spacing[0],
                        spacing[1] * 2**n,
                        spacing[2] * 2**n,
                    ],
                }
            ],
        }
        for n in range(levels + 1)
    ]
    ome: dict = {"version": "0.5", "multiscales": [{"name": image.name, "axes": axes, "datasets": datasets}]}
    names = channel_names(image) or (["red", "green", "blue"] if image.colour else [])
    if names:
        ome["omero"] = {"channels": [{"label": name} for name in names]}
    own: dict = {"affine": image.space.affine.tolist()} if image.space.sides_known and in_mm else {}
    if words := own_words(image, place=False):
        own["words"] = words
    return {"ome": ome} | ({KEY: own} if own else {})
