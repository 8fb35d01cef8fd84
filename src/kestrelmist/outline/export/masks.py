"""Masks as pictures: numbers as PNG of 8 or 16 bits, each beside the picture it is of."""

from __future__ import annotations

import shutil
from pathlib import Path

import numpy as np

from ...core.claim import claimed
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.progress import Progress
from ...core.safe_write import written_whole


def write_masks(to: Path, labels: LabelMap, numbers: np.ndarray, image: Image | None, progress: Progress) -> list[Path]:
    """Write a mask, and the image beside it, as PNG; of a volume a folder of both, slice by slice.

    Parameters
    ----------
    numbers : array [k, j, i]
        What stands in the masks.
    """
    flat = numbers.shape[0] == 1
    kind = np.uint8 if int(numbers.max(initial=0)) < 256 else np.uint16
    if flat:
        found = [to]
        _png(to, numbers[0].astype(kind))
        if image is not None:
            beside = to.with_name(f"{to.stem} image.png")
            _png(beside, _shown(image, 0, _range(image)))
            found.append(beside)
        return found
    names: list[str] = []
    with claimed(to) as side:
        side.mkdir()
        limits = None if image is None else _range(image)
        for k, plane in enumerate(progress.over(numbers, len(numbers), "Writing masks"), 1):
            name = f"{k:04d}"
            _png(side / f"{name} mask.png", plane.astype(kind))
            names.append(f"{name} mask.png")
            if image is not None and limits is not None:
                _png(side / f"{name} image.png", _shown(image, k - 1, limits))
                names.append(f"{name} image.png")
        if to.is_dir():
            shutil.rmtree(to)
        side.rename(to)
    return [to / name for name in names]


def _png(path: Path, values: np.ndarray) -> None:
    from PIL import Image as Picture

    mode = values if values.dtype != np.uint16 else values.astype(np.uint16)
    with written_whole(path) as stream:
        Picture.fromarray(mode).save(stream, "PNG")


def _range(image: Image) -> tuple[float, float]:
    known = image.grey().sample()
    known = known[np.isfinite(known)]
    if not known.size:
        return 0.0, 1.0
    low, high = (float(v) for v in np.percentile(known, (0.5, 99.5)))
    return low, high if high > low else low + 1


def _shown(image: Image, k: int, limits: tuple[float, float]) -> np.ndarray:
    """A slice as 8 bits: colours as they are, values from the 0.5th to the 99.5th percentile; numbers of 8 or 16 bits
    stay as they are."""
    if image.colour:
        return np.ascontiguousarray(image.rgb()[:, :, k].transpose(1, 0, 2))
    plane = image.kji[k]
    if plane.dtype in (np.uint8, np.uint16):
        return np.ascontiguousarray(plane)
    low, high = limits
    inside = np.clip(np.nan_to_num(plane.astype(float), nan=low), low, high)
    return np.rint((inside - low) / (high - low) * 255).astype(np.uint8)
