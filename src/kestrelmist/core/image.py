"""An image: voxel values that stay on disk until asked for, and the space they fill."""

from __future__ import annotations

import hashlib
import threading
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from .progress import Progress, silent
from .space import Space

KERNEL_TYPES = (np.uint8, np.int16, np.uint16, np.float32)
"""Number types the compiled kernels are built for; others are widened to float32 on reading."""


@dataclass
class Origin:
    """Where an image came from: its files, and whether a study keeps copies of them."""

    format: str = ""
    files: list[Path] = field(default_factory=list)
    copy: bool = True
    notes: list[str] = field(default_factory=list)


class Image:
    """Voxel values in a Space.

    Parameters
    ----------
    data : array or callable
        Values indexed [i, j, k], or a function `(progress) -> array` that fetches them. The array is kept
        with i running fastest in memory (Fortran order), which is how the kernels want it.
    space : Space
    name, subject, modality : str
    unit : str
        Unit of the values: "HU", "" when the scale is arbitrary.
    facts : dict
        Header facts to show and search, as text.
    origin : Origin
    """

    def __init__(self, data, space: Space, name: str = "", subject: str = "", modality: str = "",
                 unit: str = "", facts: dict | None = None, origin: Origin | None = None):
        self._fetch: Callable[[Progress], np.ndarray] | None = data if callable(data) else None
        self._data = None if callable(data) else _kernel_ready(data, space)
        self._lock = threading.Lock()
        self._hash: str | None = None
        self._display: tuple[float, float] | None = None
        self.space, self.name, self.subject, self.modality, self.unit = space, name, subject, modality, unit
        self.facts, self.origin = facts or {}, origin or Origin()

    def __repr__(self) -> str:
        return f"<Image {self.name!r} {'×'.join(map(str, self.space.shape))}>"

    @property
    def in_memory(self) -> bool:
        return self._data is not None

    @property
    def data(self) -> np.ndarray:
        """Values indexed [i, j, k]; fetched at the first call."""
        return self.fetch(silent())

    def fetch(self, progress: Progress) -> np.ndarray:
        """Values indexed [i, j, k], with progress while they are read."""
        with self._lock:
            if self._data is None:
                self._data = _kernel_ready(self._fetch(progress), self.space)
            return self._data

    @property
    def kji(self) -> np.ndarray:
        """The same memory as `data`, indexed [k, j, i] in C order, for kernels."""
        return self.data.T

    def content_hash(self) -> str:
        """SHA-256 of values, number type and affine: two images with one hash are the same measurement."""
        if self._hash is None:
            digest = hashlib.sha256()
            digest.update(str((self.space.shape, self.data.dtype.str)).encode())
            digest.update(np.ascontiguousarray(self.space.affine).tobytes())
            digest.update(memoryview(np.ascontiguousarray(self.kji)).cast("B"))
            self._hash = digest.hexdigest()
        return self._hash

    def like(self, data, **changes) -> Image:
        """A new image with other values; facts, names and space as here unless given in `changes`."""
        keep = dict(space=self.space, name=self.name, subject=self.subject, modality=self.modality,
                    unit=self.unit, facts=dict(self.facts))
        return Image(data, **(keep | changes))

    def value_at(self, world) -> float | None:
        """Value of the voxel that holds a world position, None outside or while not in memory."""
        voxel = self.space.nearest_voxel(world)
        return None if voxel is None or self._data is None else float(self._data[voxel])

    def display_range(self) -> tuple[float, float]:
        """Lower and upper value to show at first: 1st and 99.5th percentile of a sample of the voxels."""
        if self._display is None:
            self._display = self._find_display_range()
        return self._display

    def _find_display_range(self) -> tuple[float, float]:
        sample = self.kji[::4, ::4, ::4].ravel()
        sample = sample[np.isfinite(sample)]
        if sample.size == 0:
            return 0.0, 1.0
        low, high = (float(v) for v in np.percentile(sample, (1, 99.5)))
        return (low, high) if high > low else (low, low + 1.0)


def _kernel_ready(data: np.ndarray, space: Space) -> np.ndarray:
    data = np.asarray(data)
    if data.shape != space.shape:
        raise ValueError(f"values of shape {data.shape} do not fill a space of shape {space.shape}")
    if data.dtype not in KERNEL_TYPES or not data.dtype.isnative:
        fits = {"int8": np.int16, "bool": np.uint8}.get(data.dtype.name, np.float32)
        data = data.astype(fits, order="F")
    return data if data.T.flags.c_contiguous else np.asfortranarray(data)
