"""An image: voxel values that stay on disk until asked for, and the space they fill."""

from __future__ import annotations

import hashlib
import itertools
import threading
import weakref
from collections.abc import Callable, Iterator
from typing import Any

import numpy as np

from .axis import Axis, shape_of
from .budget import BUDGET, HANDLES
from .caveat import Caveat
from .labels import LabelMap
from .mapping import Mapping
from .origin import Origin
from .placement import Placement
from .progress import Progress, silent
from .space import Space
from .values import KERNEL_TYPES, Stored, brightness, colour_channels, kernel_ready, packed_colours
from .waiting import reading

__all__ = ["Image", "Origin", "KERNEL_TYPES", "Fetch"]

Fetch = Callable[[tuple[int, ...], Progress], "np.ndarray | Stored"]
"""Fetches one volume [i, j, k] of a series by its place along the axes; the place is () without axes."""
Part = Callable[[tuple[int, ...], tuple[int, int, int, int]], "np.ndarray"]
"""Reads a part of a picture by its place along the axes and its box (first i, last i + 1, first j, last j + 1)."""


class Image:
    """Voxel values in a Space, one volume or a series of them.

    Parameters
    ----------
    data : array or callable
        Values indexed [i, j, k] and then along `axes`; of a colour image also uint8 [..., 3]. Or a function
        `(index, progress) -> array [i, j, k]` (or `Stored`) that fetches one volume by its place along the axes,
        () when there are none. Arrays are kept with i running fastest in memory (Fortran order), which is how the
        kernels want it.
    space : Space
    axes : sequence of Axis
        Axes beyond space, for a series of volumes.
    colour : bool
        Values are colours, kept packed (0xFFRRGGBB).
    name, subject, modality : str
    unit : str
        Unit of the values: "HU", "" when the scale is arbitrary.
    facts : dict
        Header facts to show and search, as text.
    origin : Origin
    levels : list of Image
        The same picture at coarser resolutions, finest first, for images too large for memory.
    labels : LabelMap
        Labels that came with the image, drawn into its header or beside it.
    caveats : sequence of Caveat
        What is doubtful about it. Images made from it have the same doubts.
    """

    def __init__(
        self,
        data,
        space: Space,
        name: str = "",
        subject: str = "",
        modality: str = "",
        unit: str = "",
        facts: dict | None = None,
        origin: Origin | None = None,
        axes=(),
        colour: bool = False,
        levels=(),
        labels: LabelMap | None = None,
        caveats=(),
    ):
        self.space, self.axes, self.colour = space, tuple(axes), colour
        self._fetch: Fetch = data if callable(data) else _from_array(data, space, self.axes, colour)
        self._data = None if callable(data) or self.axes else kernel_ready(data, space.shape, colour)
        self._refetched = callable(data)
        self._frames: dict[tuple, Image] = {}
        self.part: Part | None = None
        """Of a picture that can be read piece by piece."""
        self.finer: Image | None = None
        """The picture that this one is a coarser version of, when it is shown in its place."""
        self.through: Mapping | None = None
        """From the world in which it is seen to that of its grid, where the way between them is not affine."""
        self._lock = threading.Lock()
        self._hash: str | None = None
        self._grey: Image | None = None
        self.series: weakref.ref[Image] | None = None
        """Of one volume: the series that it is of, as long as that is there."""
        self.name, self.subject, self.modality, self.unit = name, subject, modality, unit
        self.facts, self.origin, self.levels, self.labels = facts or {}, origin or Origin(), list(levels), labels
        self.caveats: list[Caveat] = list(caveats)

    def __repr__(self) -> str:
        return f"<Image {self.name!r} {'×'.join(map(str, self.shape))}{' colour' if self.colour else ''}>"

    @property
    def shape(self) -> tuple[int, ...]:
        """Voxels along i, j, k, then the sizes of the axes."""
        return (*self.space.shape, *shape_of(self.axes))

    @property
    def in_memory(self) -> bool:
        """Whether the values of a single volume have been fetched and are still held."""
        return self._data is not None

    @property
    def data(self) -> np.ndarray:
        """Values indexed [i, j, k] and along the axes; a single volume is kept in memory from the first call on."""
        if not self.axes:
            return self.fetch(silent())
        whole: Any = None
        for index in self.indices():
            part = kernel_ready(self._fetch(index, silent()), self.space.shape, self.colour)
            if whole is None:
                whole = np.empty(self.shape, part.dtype, order="F")
            elif whole.dtype != part.dtype:
                whole = whole.astype(np.float32)
            whole[(..., *index)] = part
        return whole

    def indices(self) -> Iterator[tuple[int, ...]]:
        """The place of every volume along the axes, the first axis running fastest; only () without axes."""
        for turned in itertools.product(*(range(a.size) for a in reversed(self.axes))):
            yield turned[::-1]

    @property
    def count(self) -> int:
        """Volumes in the series."""
        return int(np.prod(shape_of(self.axes), dtype=int))

    @property
    def image_planes(self) -> int:
        """Planes [i, j] in all volumes together."""
        return self.count * self.space.shape[2]

    def fetch(self, progress: Progress) -> np.ndarray:
        """Values [i, j, k], with progress while they are read; of a series, those of the first volume."""
        if self.axes:
            return self.frame((0,) * len(self.axes)).fetch(progress)
        # another thread that fetches them may wait for a drive that is gone, and this one for it
        with reading(next(iter(self.origin.files), self.name or "an image"), shared=True), self._lock:
            data = self._data
            if data is None:
                data = self._data = kernel_ready(self._fetch((), progress), self.space.shape, self.colour)
        if self._refetched and _in_memory(data):
            BUDGET.use(self, data.nbytes, Image._let_go)
        elif self._refetched:
            HANDLES.use(self, 1, Image._let_go)
        return data

    def _let_go(self) -> None:
        """Values that can be fetched again make room for others."""
        self._data = None

    def frame(self, index: tuple[int, ...] = ()) -> Image:
        """One volume of the series as an image of its own; the image itself when it has no axes."""
        if not self.axes:
            return self
        index = tuple(int(n) for n in index) + (0,) * (len(self.axes) - len(index))
        with self._lock:
            if index not in self._frames:
                place = ", ".join(f"{a.name} {a.words(n)}" for a, n in zip(self.axes, index))
                picked = self.like(
                    lambda _, progress: self._fetch(index, progress),
                    name=f"{self.name}, {place}",
                    facts=self.facts,
                    axes=(),
                    origin=Origin(self.origin.format),
                )
                picked.series = weakref.ref(self)
                picked.levels = [level.frame(index) for level in self.levels]
                if (part := self.part) is not None:
                    picked.part = lambda _, box: part(index, box)
                self._frames[index] = picked
            return self._frames[index]

    def stored(self, index: tuple[int, ...] = (), progress: Progress | None = None) -> Stored:
        """One volume exactly as its file holds it, read anew and not kept; colours as packed uint32."""
        got = self._fetch(tuple(index), progress or silent())
        if isinstance(got, Stored):
            return got
        return Stored(kernel_ready(got, self.space.shape, True) if self.colour else np.asarray(got))

    @property
    def kji(self) -> np.ndarray:
        """The same memory as `data` of a single volume, indexed [k, j, i] in C order, for kernels."""
        return self.fetch(silent()).T

    def rgb(self, index: tuple[int, ...] = ()) -> np.ndarray:
        """Colours of one volume as uint8 [i, j, k, 3]."""
        return colour_channels(self.frame(index).data)

    def content_hash(self, progress: Progress | None = None) -> str:
        """SHA-256 of values, number type and affine: two images with one hash are the same measurement."""
        if self._hash is None:
            progress = progress or silent()
            digest = hashlib.sha256()
            if self.levels:
                return self._hash_of_files(digest, progress)
            for n, index in enumerate(self.indices()):
                progress.at(n / self.count, "Looking at the values")
                volume = (
                    self.data
                    if not self.axes
                    else kernel_ready(
                        self._fetch(index, progress.part(n / self.count, (n + 1) / self.count)),
                        self.space.shape,
                        self.colour,
                    )
                )
                if n == 0:
                    digest.update(str((self.shape, volume.dtype.str)).encode())
                    digest.update(np.ascontiguousarray(self.space.affine).tobytes())
                for part in volume.T:
                    progress.at(n / self.count)
                    whole: Any = np.ascontiguousarray(part)
                    digest.update(memoryview(whole).cast("B"))
            self._hash = digest.hexdigest()
        return self._hash

    def _hash_of_files(self, digest, progress: Progress) -> str:
        """For what is too large to be unpacked just to be told apart: the bytes of its files."""
        files = [
            f
            for given in self.origin.files
            for f in (sorted(p for p in given.rglob("*") if p.is_file()) if given.is_dir() else [given])
        ]
        digest.update(str((self.shape, self.space.affine.tolist())).encode())
        for n, path in enumerate(files):
            with reading(path), open(path, "rb") as stream:
                while block := stream.read(1 << 22):
                    progress.at(n / len(files), "Looking at the values")
                    digest.update(block)
        self._hash = digest.hexdigest()
        return self._hash

    def like(self, data, **changes) -> Image:
        """A new image with other values; facts, names, axes and space as here unless given in `changes`."""
        keep: dict[str, Any] = {
            "space": self.space,
            "name": self.name,
            "subject": self.subject,
            "modality": self.modality,
            "unit": self.unit,
            "facts": dict(self.facts),
            "axes": self.axes,
            "colour": self.colour,
            "caveats": self.caveats,
        }
        return Image(data, **(keep | changes))

    def placed(self, placement: Placement) -> Image:
        """The same values at another place. Nothing is read or copied, levels move along, memory is shared."""
        space = placement.space
        kept = [c for c in self.caveats if c.code not in placement.settled]
        said = {k: v for k, v in (("facts", placement.facts), ("axes", placement.axes)) if v is not None}
        made = self.like(self._fetch, space=space, origin=self.origin, caveats=[*kept, *placement.caveats], **said)
        made._data, made._refetched, made._hash = self._data, self._refetched, self._hash
        made.part, made.through = self.part, self.through
        made.levels = [
            level.placed(Placement(level.space.relocated(self.space, space), placement.settled))
            for level in self.levels
        ]
        return made

    def grey(self) -> Image:
        """The image itself, or the brightness of a colour image: 0.299 red + 0.587 green + 0.114 blue (ITU-R
        BT.601)."""
        if not self.colour:
            return self
        if self._grey is None:
            self._grey = grey = self.each_volume(brightness, colour=False, name=f"{self.name}, brightness")
            grey.levels = [level.grey() for level in self.levels]
            if (part := self.part) is not None:
                grey.part = lambda index, box: brightness(packed_colours(np.asarray(part(index, box))))
        return self._grey

    def each_volume(self, change: Callable[[np.ndarray], np.ndarray], **changes) -> Image:
        """A new image whose volumes are this one's after `change`, worked out one at a time when asked for."""
        return self.like(lambda index, progress: change(self._volume(index, progress)), **changes)

    def _volume(self, index: tuple[int, ...], progress: Progress) -> np.ndarray:
        return self.frame(index).fetch(progress)

    def voxel_at(self, world) -> tuple[int, int, int] | None:
        """The voxel that holds a position of the world in which the image is seen, None outside."""
        place = world if self.through is None else self.through.to(np.asarray(world, float))
        return self.space.nearest_voxel(place) if np.isfinite(place).all() else None

    def value_at(self, world) -> float | None:
        """Value of the voxel that holds a world position, None outside or while not in memory."""
        voxel = self.voxel_at(world)
        return None if voxel is None or self._data is None else float(self._data[voxel])

    def sample(self, most: int = 262_144) -> np.ndarray:
        """About `most` finite values of one volume, spread evenly, (n,): enough for percentiles, quick on a memory map
        too. Empty when no value is finite."""
        values = self.kji
        sides = sum(n > 1 for n in values.shape) or 1
        step = max(1, int(np.ceil((values.size / most) ** (1 / sides))))
        found = np.asarray(values[tuple(slice(None, None, step if n > 1 else 1) for n in values.shape)]).ravel()
        return found[np.isfinite(found)] if found.dtype.kind == "f" else found

    @property
    def whole_numbers(self) -> bool:
        """Whether values are whole by their type; known once one volume is in memory."""
        shown = self.frame((0,) * len(self.axes))
        return shown._data is not None and shown._data.dtype.kind in "iu"


def _from_array(data, space: Space, axes: tuple[Axis, ...], colour: bool) -> Fetch:
    data = np.asarray(data)
    if axes and data.shape[: 3 + len(axes)] != (*space.shape, *shape_of(axes)):
        raise ValueError(
            f"values of shape {data.shape} do not fill a series of shape {(*space.shape, *shape_of(axes))}"
        )
    if not axes:
        return lambda index, progress: data
    return lambda index, progress: data[(slice(None),) * 3 + index]


def _in_memory(data: np.ndarray) -> bool:
    """Whether an array takes memory of its own, and is no window on a file."""
    base: object = data
    while isinstance(base, np.ndarray):
        if isinstance(base, np.memmap):
            return False
        base = base.base
    return True
