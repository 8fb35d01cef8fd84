"""Images: files copied in, left in place, or written by an operation."""

from __future__ import annotations

import os
import shutil
from pathlib import Path
from typing import Any

from ...core.errors import Trouble
from ...core.image import Image, Origin
from ...core.progress import Progress, silent
from ...core.safe_write import write_trouble
from ...core.space import Space
from ...core.waiting import reading
from ...core.world import World
from ...formats.layout import Layout
from ...formats.nifti_write import save_nifti
from ...formats.opening import open_image, reopened_image
from ...formats.sampling import sampled_levels
from ...formats.tiff_write import save_ome_tiff
from ...scene.thumbnail import thumbnail
from ..items import ImageRecord, Record
from ..open_study import OpenStudy
from ..store import STORES, Prepared, Store, side_folder, store_for

READING = 2
"""Raised when files are read in another way than before: an image that was taken in earlier keeps its own way."""


class ImageStore(Store):
    """Keeps images with their files."""

    kind, folder = "image", "images"

    def prepare(self, study: OpenStudy, thing: Image, progress: Progress) -> Prepared:
        image, side = thing, side_folder(study)
        try:
            if not image.origin.files:
                image = _written(image, side, progress.part(0.0, 0.5))
            if not image.levels and not image.axes:
                image.fetch(progress.part(0.5, 0.6))
            digest = image.content_hash(progress.part(0.6, 0.7))
            files, origin = self._files(image, side, progress.part(0.7, 1.0))
            body = body_of(image, files, origin)
            space = image.space if image.space.world.id else _in_a_world(image, digest)
            made = Prepared("image", image.name, image.subject, space, digest, body, thumbnail(image), side)
        except BaseException as error:
            shutil.rmtree(side, ignore_errors=True)
            if isinstance(error, OSError):
                raise write_trouble(error, study.folder) from error
            raise
        if image.labels is not None and image.labels.counts[0] < image.labels.kji.size:
            made.with_it.append(store_for("label map").prepare(study, image.labels, silent()))
        return made

    def _files(self, image: Image, side: Path, progress: Progress) -> tuple[list[str], Origin]:
        """Names of the files, relative to the side folder when they are in it, absolute when left in place."""
        origin = image.origin
        if origin.files and origin.files[0].parent == side:
            return [f.name for f in origin.files], origin
        if not origin.copy:
            return [str(f.resolve()) for f in origin.files], origin
        return _copy_all(origin, side, progress), origin

    def take(self, study: OpenStudy, prepared: Prepared, key: int) -> dict[str, Any]:
        super().take(study, prepared, key)
        files = [f if os.path.isabs(f) else f"images/{key}/{f}" for f in prepared.body["files"]]
        return {"body.files": files}

    def at_hand(self, study: OpenStudy, record: Record) -> Image:
        return study.image(record.id)

    def ready(self, thing: Image, place: tuple[int, ...], fetch: bool, progress: Progress) -> Image:
        image = picked(thing, place) if place else thing
        if fetch and not image.axes and not image.levels:
            image.fetch(progress)
        return image

    def from_file(self, path: Path, part: str | None, progress: Progress, onto: Space | None = None) -> list[Image]:
        return [open_image(path, progress, series=part)]

    def open(self, study: OpenStudy, record: Record) -> Image:
        assert isinstance(record, ImageRecord)
        stored = StoredImage(study.folder, record)
        levels = stored.opened(silent()).levels if record.body.get("reading", {}).get("levels") else ()
        image = Image(
            stored,
            record.grid,
            record.name,
            record.subject,
            record.modality,
            record.unit,
            record.facts,
            Origin(record.format, stored.files, reading=stored.reading),
            record.axes,
            record.colour,
            caveats=record.caveats,
        )
        for level in levels:
            made = level.like(level._fetch, space=level.space.relocated(stored.whole.space, record.grid))
            made.part = level.part
            image.levels.append(made)
        image.part = stored.whole.part if image.levels else None
        return image


def picked(image: Image, place: tuple[int, ...]) -> Image:
    """One volume of a series by its places along the axes, counted from 1; raises Trouble when there is none."""
    sizes = [a.size for a in image.axes]
    told = " and ".join(f"a {a.name} from 1 to {a.size}" for a in image.axes) or "none: it is a single volume"
    if len(place) != len(sizes) or any(not 1 <= n <= size for n, size in zip(place, sizes)):
        said = ",".join(map(str, place))
        raise Trouble(f"“@{said}” is no place in “{image.name}”", f"give {told}")
    return image.frame(tuple(n - 1 for n in place))


def body_of(image: Image, files: list[str], origin: Origin) -> dict[str, Any]:
    """What the row of an image says besides its name and place."""
    return {
        "modality": image.modality,
        "unit": image.unit,
        "facts": image.facts,
        "axes": [a.as_dict() for a in image.axes],
        "colour": image.colour,
        "caveats": [c.as_dict() for c in image.caveats],
        "format": origin.format or "NIfTI",
        "files": files,
        "reading": _reading(image, origin),
        "read": READING,
    }


def _written(image: Image, side: Path, progress: Progress) -> Image:
    """A computed image, worked out once and written; what is given back reads it from there, so that it need not be
    kept in memory and, of a series, no volume is computed anew for its hash and its thumbnail."""
    if image.levels and image.part is not None and not image.axes:  # larger than memory: in tiles, as it is looked at
        path = side / "values.ome.tif"
        save_ome_tiff(path, image, progress)
        opened = reopened_image("OME-TIFF", [path], {})
        made = image.like(opened._fetch, labels=image.labels)
        made.levels, made.part, made.origin = opened.levels, opened.part, Origin("OME-TIFF", [path])
        return made
    path = side / "values.nii"
    save_nifti(path, image, progress)
    opened = reopened_image("NIfTI", [path], {})
    made = image.like(image._fetch if not image.axes else opened._fetch, labels=image.labels)
    made._data, made._refetched = image._data, False
    made.origin = Origin("NIfTI", [path], layout=opened.origin.layout)
    return made


def _copy_all(origin: Origin, place: Path, progress: Progress) -> list[str]:
    """Copy the files in their order; those that name each other keep their places to each other."""
    common = Path(os.path.commonpath([f.parent.resolve() for f in origin.files]))
    names = []
    for n, source in enumerate(progress.over(origin.files, what="Copying")):
        name = f"{n + 1:05d}.dcm" if origin.format == "DICOM" else str(source.resolve().relative_to(common))
        target = place / name
        target.parent.mkdir(parents=True, exist_ok=True)
        with reading(source):
            if source.is_dir():
                shutil.copytree(source, target)
            else:
                shutil.copyfile(source, target)
        names.append(name)
    return names


def _reading(image: Image, origin: Origin) -> dict:
    reading = dict(origin.reading)
    if image.levels:
        reading["levels"] = True
    layout = origin.layout
    if isinstance(layout, Layout):
        found = layout.as_dict(origin.files)
        if found is not None:
            reading["layout"] = found
    return reading


def _in_a_world(image: Image, digest: str):
    """The space under an identity of its own: a picture's plane is its own world, a body's is that of its subject."""
    from dataclasses import replace

    world = image.space.world
    name = f"{world.name} of {image.subject}" if world.sides_known else f"{world.name} {digest[:16]}"
    return replace(image.space, world=World(name, world.name, world.sides_known))


class StoredImage:
    """Fetches the volumes of a record; its files are opened when the first one is asked for, and once."""

    def __init__(self, folder: Path, record: ImageRecord):
        self.record = record
        self.files = [folder / f for f in record.body["files"]]  # an absolute path stays itself
        self.reading: dict = dict(record.body.get("reading", {}))
        if record.body.get("read", 1) < READING:
            self.reading["before"] = True
        self._opened: Image | None = None

    @property
    def whole(self) -> Image:
        return self.opened(silent())

    def opened(self, progress: Progress) -> Image:
        """The image as its files give it.

        Raises Trouble when files are gone or no longer what was taken in.
        """
        if self._opened is None:
            missing = [f for f in self.files if not f.exists()]
            if missing:
                raise Trouble(
                    f"{len(missing)} of the {len(self.files)} files of “{self.record.name}” are no longer there,"
                    f" {missing[0].name} first",
                    "bring them back to where they were",
                    missing[0].parent,
                )
            image = self._by_layout() or reopened_image(self.record.format, self.files, self.reading, progress)
            axes = [a.size for a in self.record.axes]
            if image.space.shape != self.record.grid.shape or [a.size for a in image.axes] != axes:
                raise Trouble(
                    f"The files of “{self.record.name}” have changed since they were taken in",
                    "gather them again",
                    self.files[0].parent,
                )
            if self.record.unit == "m" and image.unit == "nm":  # taken in when such heights were kept as they are
                of_file = image
                image = image.like(lambda index, p: of_file.stored(index, p).exact() * 1e-9, unit="m")
            self._opened = image
        return self._opened

    def _by_layout(self) -> Image | None:
        """The image by what was noted of its file, without looking at the header again; None when that does not do."""
        noted = self.reading.get("layout")
        layout = Layout.from_dict(noted, self.files) if noted else None
        if layout is None:
            return None
        from ...formats.guarded import guard

        image = Image(
            layout.fetch, self.record.grid, self.record.name, axes=self.record.axes, colour=self.record.colour
        )
        image.levels = sampled_levels(layout, image, layout.raw.dtype)
        return guard(image, layout.raw.path)

    def __call__(self, index: tuple[int, ...], progress: Progress):
        return self.opened(progress.part(0.0, 0.4))._fetch(index, progress.part(0.4, 1.0))


STORES.add("image", ImageStore())
